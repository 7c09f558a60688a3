package postgres

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// FuzzTextsStayTexts: whatever stands in a value, the constant that is made of it holds just
// that, by the rules of PostgreSQL ("String Constants", with and without C-style escapes).
func FuzzTextsStayTexts(f *testing.F) {
	for _, s := range []string{"", "Ada", "'; DROP ROLE ada; --", `\'; --`, `\\`, "o'neil", "''", "\\n\u202e"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		text := literal(s)
		escapes := strings.HasPrefix(text, " E'")
		text = strings.TrimPrefix(text, " E")
		require.True(t, len(text) >= 2 && text[0] == '\'' && text[len(text)-1] == '\'')
		var out strings.Builder
		for inner := text[1 : len(text)-1]; inner != ""; {
			switch {
			case strings.HasPrefix(inner, "''"):
				out.WriteByte('\'')
				inner = inner[2:]
			case inner[0] == '\'':
				t.Fatalf("the text ends in the middle: %s", text)
			case escapes && strings.HasPrefix(inner, `\\`):
				out.WriteByte('\\')
				inner = inner[2:]
			case inner[0] == '\\':
				t.Fatalf("a backslash that means something: %s", text)
			default:
				out.WriteByte(inner[0])
				inner = inner[1:]
			}
		}
		require.Equal(t, s, out.String())
		name := quoted(s)
		require.True(t, strings.HasPrefix(name, `"`) && strings.HasSuffix(name, `"`))
		require.NotContains(t, strings.ReplaceAll(name[1:len(name)-1], `""`, ""), `"`)
	})
}
