package words_test

import (
	"encoding/json"
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pravet/internal/core/fact"
	"pravet/internal/core/words"
)

const facts = "testdata/facts.txt"

// The file has facts, each with a line below of how it reads and, of a warning, what
// to do. UPDATE=1 writes it anew, for a person to read.
func TestEveryFactReadsAsItShould(t *testing.T) {
	data, err := os.ReadFile(facts)
	require.NoError(t, err)
	seen := map[fact.Kind]bool{}
	var out strings.Builder
	for _, line := range strings.Split(string(data), "\n") {
		if !strings.HasPrefix(line, "{") {
			continue
		}
		var f fact.Fact
		require.NoError(t, json.Unmarshal([]byte(line), &f), line)
		seen[f.Kind] = true
		says := words.Of(&f)
		assert.NotEqual(t, string(f.Kind), says, "no words for %s", f.Kind)
		if remedy := words.Remedy(&f); remedy != "" {
			says += " → " + remedy
		}
		out.WriteString(line + "\n  " + says + "\n")
	}
	if os.Getenv("UPDATE") != "" {
		require.NoError(t, os.WriteFile(facts, []byte(out.String()), 0o644))
	} else {
		assert.Equal(t, string(data), out.String())
	}
	for _, kind := range kinds(t) {
		assert.True(t, seen[kind], "%s has no line in %s", kind, facts)
	}
}

// kinds are all kinds of facts, as package fact declares them.
func kinds(t *testing.T) (out []fact.Kind) {
	file, err := parser.ParseFile(token.NewFileSet(), "../fact/fact.go", nil, 0)
	require.NoError(t, err)
	ast.Inspect(file, func(n ast.Node) bool {
		if v, ok := n.(*ast.ValueSpec); ok && len(v.Values) == 1 {
			if lit, ok := v.Values[0].(*ast.BasicLit); ok && lit.Kind == token.STRING {
				text, err := strconv.Unquote(lit.Value)
				require.NoError(t, err)
				out = append(out, fact.Kind(text))
			}
		}
		return true
	})
	require.Greater(t, len(out), 50)
	return out
}
