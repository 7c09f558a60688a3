package pravet_test

import (
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// arrows says which packages of Pravet each may import, by the beginning of
// their path; ARCHITECTURE.md draws it. A package may always import those
// below it with the same beginning.
var arrows = map[string][]string{
	"internal/core":    {"internal/core"},
	"internal/source":  {"internal/core"},
	"internal/sheet":   {"internal/core", "internal/source"},
	"internal/form":    {},
	"internal/export":  {"internal/core", "internal/source", "internal/form"},
	"internal/edit":    {"internal/core", "internal/source"},
	"internal/secret":  {},
	"internal/gitrepo": {"internal/core"},
	"internal/ledger":  {"internal/core", "internal/source"},
	"internal/connect": {
		"internal/core", "internal/form", "internal/source", "internal/export", "internal/secret", "internal/connect",
	},
	"internal/desired": {
		"internal/core", "internal/form", "internal/source", "internal/export", "internal/edit", "internal/secret",
		"internal/signing", "internal/connect",
	},
	"internal/signing": {},
	"internal/decisions": {
		"internal/core", "internal/source", "internal/gitrepo", "internal/ledger", "internal/signing", "internal/desired",
	},
	"internal/past":     {"internal/core", "internal/ledger"},
	"internal/evidence": {"internal/core", "internal/ledger", "internal/desired", "internal/decisions", "internal/past"},
	"internal/prepare": {
		"internal/core", "internal/source", "internal/export", "internal/secret", "internal/gitrepo", "internal/ledger",
		"internal/connect", "internal/desired", "internal/decisions", "internal/past",
	},
	"internal/carry": {
		"internal/core", "internal/gitrepo", "internal/ledger", "internal/connect", "internal/desired", "internal/decisions",
		"internal/past", "internal/prepare",
	},
	"internal/amend":   {"internal/core", "internal/source", "internal/edit", "internal/desired"},
	"internal/intake":  {"internal/core", "internal/source", "internal/sheet", "internal/desired", "internal/export"},
	"internal/propose": {"internal/core", "internal/desired", "internal/edit", "internal/amend"},
	"internal/adopt": {
		"internal/core", "internal/source", "internal/sheet", "internal/edit", "internal/ledger", "internal/desired",
		"internal/amend", "internal/prepare",
	},
	"internal/delivery": {"internal/core", "internal/desired", "internal/ledger"},
	"internal/standin":  {"internal/core"},
	"internal/desk": {
		"internal/core", "internal/source", "internal/sheet", "internal/edit", "internal/secret", "internal/gitrepo",
		"internal/ledger", "internal/connect", "internal/desired", "internal/decisions", "internal/past",
		"internal/prepare", "internal/carry", "internal/amend", "internal/intake", "internal/adopt", "internal/delivery",
		"internal/evidence", "internal/signing",
	},
	"internal/show": {
		"internal/core", "internal/source", "internal/sheet", "internal/edit", "internal/desired", "internal/intake",
		"internal/adopt", "internal/propose",
	},
	"internal/review":    {"internal/core", "internal/desk", "internal/show"},
	"internal/cli":       {"internal", "docs", "docs/schema", "examples"},
	"internal/prepared":  {"examples/marrowick"},
	"cmd/pravet":         {"internal/cli"},
	"docs/schema":        {},
	"docs":               {},
	"examples/marrowick": {},
	"examples/start":     {},
	"examples/quarter":   {},
	"examples/live":      {},
	"tools/man":          {"internal/cli"},
	"tools/world":        {},
}

// world is what the core may not reach: it knows neither files nor network,
// neither terminal nor clock.
var world = []string{
	"os", "os/exec", "net", "net/http", "log", "syscall", "io/fs", "database/sql", "github.com/spf13/cobra",
	"charm.land/lipgloss/v2",
}

func TestArrowsPointDown(t *testing.T) {
	seen := 0
	err := filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		seen++
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
		require.NoError(t, err)
		folder := filepath.ToSlash(filepath.Dir(path))
		from := ""
		for house := range arrows {
			if folder == house || strings.HasPrefix(folder, house+"/") {
				from = house
			}
		}
		require.NotEmpty(t, from, "%s is in no part of the house; add it to arrows and to ARCHITECTURE.md", path)
		for _, spec := range file.Imports {
			to, err := strconv.Unquote(spec.Path.Value)
			require.NoError(t, err)
			if from == "internal/core" {
				require.NotContains(t, world, to, "%s: the core reaches outside", path)
			}
			to, ours := strings.CutPrefix(to, "pravet/")
			if !ours {
				continue
			}
			ok := false
			for _, allowed := range arrows[from] {
				ok = ok || to == allowed || strings.HasPrefix(to, allowed+"/")
			}
			require.True(t, ok, "%s imports %s: that arrow points up", path, to)
		}
		return nil
	})
	require.NoError(t, err)
	require.Greater(t, seen, 50)
}

// TestTheCoreReadsNoClock: time comes in as a day.
func TestTheCoreReadsNoClock(t *testing.T) {
	err := filepath.WalkDir("internal/core", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || strings.HasSuffix(path, "_test.go") {
			return err
		}
		data, err := os.ReadFile(path)
		require.NoError(t, err)
		for _, word := range []string{"time.Now", "rand.", "os.Getenv"} {
			require.NotContains(t, string(data), word, path)
		}
		return nil
	})
	require.NoError(t, err)
}
