package scim

import (
	"encoding/json"
	"testing"
	"unicode/utf8"

	"github.com/scim2/filter-parser/v2"
	"github.com/stretchr/testify/require"
)

// FuzzNamesStayNamesInFilters: whatever an account is called, a filter for it is one comparison
// with just that name.
func FuzzNamesStayNamesInFilters(f *testing.F) {
	for _, s := range []string{"ada", `"`, `\`, `" or userName pr or userName eq "`, `\" or title pr`, "<&>", "\n", "\u202e"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		if !utf8.ValidString(s) {
			t.Skip()
		}
		text := quote(s)
		var back string
		require.NoError(t, json.Unmarshal([]byte(text), &back))
		require.Equal(t, s, back)
		e, err := filter.ParseFilter([]byte("userName eq " + text))
		if err != nil {
			return // the parser takes fewer texts than JSON has; none becomes another filter
		}
		_, one := e.(*filter.AttributeExpression)
		require.True(t, one, text)
	})
}
