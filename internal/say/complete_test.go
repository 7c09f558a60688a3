package say_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// parsed are the files of a folder, without tests.
func parsed(t *testing.T, folder string) map[string]*ast.File {
	names, err := filepath.Glob(folder + "/*.go")
	require.NoError(t, err)
	out := map[string]*ast.File{}
	for _, name := range names {
		if !strings.HasSuffix(name, "_test.go") {
			out[name], err = parser.ParseFile(token.NewFileSet(), name, nil, 0)
			require.NoError(t, err)
		}
	}
	require.NotEmpty(t, out)
	return out
}

func TestEverySentenceHasALineHere(t *testing.T) {
	known := said()
	for name, f := range parsed(t, ".") {
		for _, d := range f.Decls {
			if fn, ok := d.(*ast.FuncDecl); ok && fn.Name.IsExported() {
				assert.Contains(t, known, fn.Name.Name, name)
			}
		}
	}
}

// sentence is text with three words in a row.
var sentence = regexp.MustCompile(`[a-z]+ [a-z]+ [a-z]+`)

// Commands make no sentences themselves; those of the demo are its story.
func TestCommandsSayOnlyWhatIsHere(t *testing.T) {
	sayers := map[string]bool{
		"Errorf": true, "New": true, "Sprintf": true, "Sprint": true, "Line": true, "Linef": true, "Fprintf": true,
		"Fprintln": true, "Fprint": true, "usage": true, "fail": true,
	}
	for name, f := range parsed(t, "../cli") {
		if strings.HasSuffix(name, "demo.go") || strings.HasSuffix(name, "quarter.go") {
			continue
		}
		ast.Inspect(f, func(n ast.Node) bool {
			call, ok := n.(*ast.CallExpr)
			if !ok {
				return true
			}
			callee := ""
			switch fun := call.Fun.(type) {
			case *ast.Ident:
				callee = fun.Name
			case *ast.SelectorExpr:
				callee = fun.Sel.Name
			}
			if !sayers[callee] {
				return true
			}
			for _, arg := range call.Args {
				if lit, ok := arg.(*ast.BasicLit); ok && lit.Kind == token.STRING {
					text, err := strconv.Unquote(lit.Value)
					require.NoError(t, err)
					assert.NotRegexp(t, sentence, text, name)
				}
			}
			return true
		})
	}
}
