package prepared

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// Sentences compares what the functions of a package that say something say of examples with
// testdata/sentences.txt, which a person can read. Every function whose name begins with say needs
// one. UPDATE=1 writes the file anew.
func Sentences(t *testing.T, said map[string][]any) {
	t.Helper()
	for _, name := range sayers(t) {
		require.NotEmpty(t, said[name], "%s has no example", name)
	}
	var b strings.Builder
	for _, name := range slices.Sorted(maps.Keys(said)) {
		fmt.Fprintln(&b, name)
		for _, x := range said[name] {
			for line := range strings.SplitSeq(fmt.Sprint(x), "\n") {
				fmt.Fprintln(&b, strings.TrimRight("  "+line, " "))
			}
		}
	}
	const file = "testdata/sentences.txt"
	if os.Getenv("UPDATE") != "" {
		require.NoError(t, os.MkdirAll("testdata", 0o755))
		require.NoError(t, os.WriteFile(file, []byte(b.String()), 0o644))
	}
	want, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Equal(t, string(want), b.String())
}

// sentence is text with three words in a row.
var sentence = regexp.MustCompile(`[a-z]+ [a-z]+ [a-z]+`)

// says are what takes a text that somebody reads.
var says = []string{
	"Errorf", "New", "Sprintf", "Sprint", "Line", "Linef", "Fprintf", "Fprintln", "Fprint", "usage", "fail", "wrong", "tell",
}

// sayers are the functions of the package in this folder that say something; no others may make
// sentences, but for those that tell the story of a demo.
func sayers(t *testing.T) (out []string) {
	files, err := filepath.Glob("*.go")
	require.NoError(t, err)
	for _, name := range files {
		if strings.HasSuffix(name, "_test.go") {
			continue
		}
		f, err := parser.ParseFile(token.NewFileSet(), name, nil, 0)
		require.NoError(t, err)
		story := slices.Contains([]string{"demo.go", "quarter.go", "livedemo.go", "teamdemo.go"}, name)
		for _, d := range f.Decls {
			fn, ok := d.(*ast.FuncDecl)
			switch {
			case ok && fn.Recv == nil && strings.HasPrefix(strings.ToLower(fn.Name.Name), "say"):
				out = append(out, fn.Name.Name)
			case ok && !story && fn.Body != nil && !strings.HasSuffix(fn.Name.Name, "Words"):
				ast.Inspect(fn.Body, func(n ast.Node) bool {
					makesNone(t, name, n)
					return true
				})
			}
		}
	}
	return out
}

// makesNone makes sure that a call makes no sentence.
func makesNone(t *testing.T, file string, n ast.Node) {
	call, ok := n.(*ast.CallExpr)
	if !ok {
		return
	}
	callee := ""
	switch f := call.Fun.(type) {
	case *ast.Ident:
		callee = f.Name
	case *ast.SelectorExpr:
		callee = f.Sel.Name
	}
	if !slices.Contains(says, callee) {
		return
	}
	for _, arg := range call.Args {
		if lit, ok := arg.(*ast.BasicLit); ok && lit.Kind == token.STRING {
			text, err := strconv.Unquote(lit.Value)
			require.NoError(t, err)
			require.NotRegexp(t, sentence, text, file)
		}
	}
}
