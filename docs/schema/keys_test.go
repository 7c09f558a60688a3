package schema_test

import (
	"encoding/json"
	"go/ast"
	"go/parser"
	"go/token"
	"maps"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pravet/docs/schema"
)

// TestTheSchemasHaveTheKeysThatAreRead: wherever the reader of the files knows some keys and no others, a
// schema has an object with just those.
func TestTheSchemasHaveTheKeysThatAreRead(t *testing.T) {
	objects := map[string]bool{}
	for _, name := range schema.Names() {
		text, err := schema.Get(name)
		require.NoError(t, err)
		var all any
		require.NoError(t, json.Unmarshal(text, &all))
		objectsIn(all, objects)
	}
	files, err := filepath.Glob("../../internal/desired/*.go")
	require.NoError(t, err)
	asked := 0
	for _, name := range files {
		f, err := parser.ParseFile(token.NewFileSet(), name, nil, 0)
		require.NoError(t, err)
		ast.Inspect(f, func(n ast.Node) bool {
			call, ok := n.(*ast.CallExpr)
			if !ok || len(call.Args) < 3 {
				return true
			}
			sel, ok := call.Fun.(*ast.SelectorExpr)
			if !ok || sel.Sel.Name != "fields" {
				return true
			}
			var keys []string
			for _, arg := range call.Args[2:] {
				lit, ok := arg.(*ast.BasicLit)
				if !ok {
					return true // worked out
				}
				key, err := strconv.Unquote(lit.Value)
				require.NoError(t, err)
				keys = append(keys, key)
			}
			asked++
			if slices.Contains(parts, together(keys)) {
				return true
			}
			assert.True(t, objects[together(keys)], "%s: no schema has an object with just %v", name, keys)
			return true
		})
	}
	require.Greater(t, asked, 25)
}

// parts are keys of which a schema says more in one: a live application's export has two of the keys of
// export, connect without by has no other, and of what brings accounts upon a path each stands alone.
var parts = []string{"path shows", "by", "account idle listed"}

// objectsIn notes the keys of each object that a schema describes.
func objectsIn(v any, out map[string]bool) {
	switch x := v.(type) {
	case map[string]any:
		if p, ok := x["properties"].(map[string]any); ok {
			out[together(slices.Collect(maps.Keys(p)))] = true
		}
		for _, y := range x {
			objectsIn(y, out)
		}
	case []any:
		for _, y := range x {
			objectsIn(y, out)
		}
	}
}

func together(keys []string) string { return strings.Join(slices.Sorted(slices.Values(keys)), " ") }
