//go:build unix

package main_test

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"pravet/internal/prepared"
)

// draftIDs drafts and returns the ids of the plan's changes, and those that are
// held, sorted.
func draftIDs(t *testing.T, dir string) (ids, held []string, file string) {
	file = filepath.Join(t.TempDir(), "plan.json")
	out, err := command(dir, "draft", "--on", "2026-11-24", "--out", file).CombinedOutput()
	require.NoError(t, err, "%s", out)
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	var p struct {
		Changes []struct {
			ID    string
			Holds []any
		}
	}
	require.NoError(t, json.Unmarshal(data, &p))
	for _, c := range p.Changes {
		ids = append(ids, c.ID)
		if len(c.Holds) > 0 {
			held = append(held, c.ID)
		}
	}
	slices.Sort(ids)
	slices.Sort(held)
	return ids, held, file
}

// TestAnyAcceptedPartLeavesTheRestOnRealFiles: for parts of many shapes, of the
// example (CSV and SCIM) and of a larger world, what is drafted after applying
// is exactly what was not accepted.
func TestAnyAcceptedPartLeavesTheRestOnRealFiles(t *testing.T) {
	large := filepath.Join(t.TempDir(), "large")
	require.NoError(t, exec.Command("go", "run", "pravet/tools/world", "-people", "1500", large).Run())
	ferries := filepath.Join(t.TempDir(), "ferries")
	require.NoError(t, prepared.Bare.Copy(ferries))
	for _, c := range []struct{ from, only string }{
		{ferries, `effect eq "narrows"`},
		{ferries, `effect eq "widens"`},
		{ferries, `app eq "berths"`},
		{ferries, `kind eq "role" or kind eq "license"`},
		{ferries, `person sw "E00"`},
		{ferries, `verb eq "create"`},
		{ferries, `not (verb eq "create")`},
		{ferries, `id gt "m"`},
		{large, `effect eq "keeps"`}, {large, `app eq "bravo" and effect ne "keeps"`}, {large, `id lt "g"`},
	} {
		dir := copyRepo(t, c.from)
		before, held, file := draftIDs(t, dir)
		accepted, err := command(dir, "accept", file, "--only", c.only, "--because", "test").Output()
		require.NoError(t, err, c.only)
		require.Contains(t, string(accepted), "Accepted ")
		out, _ := command(dir, "apply", file).CombinedOutput() // the status tells of held changes
		require.Contains(t, string(out), " settled, 0 not settled", c.only)
		log, err := command(dir, "log", "--kind", "outcome", "--format", "json").Output()
		require.NoError(t, err)
		var entries []struct {
			Body struct {
				Change  string
				Settled bool
			}
		}
		require.NoError(t, json.Unmarshal(log, &entries))
		var done []string
		for _, e := range entries {
			require.True(t, e.Body.Settled)
			done = append(done, e.Body.Change)
		}
		require.NotEmpty(t, done, c.only)
		for _, id := range held {
			require.NotContains(t, done, id, "a held change is not carried out")
		}
		rest, _, _ := draftIDs(t, dir)
		require.Equal(
			t,
			slices.DeleteFunc(slices.Clone(before), func(id string) bool { return slices.Contains(done, id) }),
			rest,
			c.only,
		)
		verified, err := command(dir, "log", "verify").Output()
		require.NoError(t, err)
		require.True(t, strings.HasPrefix(string(verified), "The ledger is whole"))
	}
}

// TestShuffledRowsGiveTheSameChanges: apart from digests and line numbers, the
// order of rows in any file changes nothing.
func TestShuffledRowsGiveTheSameChanges(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "ferries")
	require.NoError(t, prepared.Bare.Copy(dir))
	before, held, _ := draftIDs(t, dir)
	for _, name := range []string{
		"people/ashore.csv", "people/afloat.csv", "people/season-2026.csv", "exports/tickets.csv",
		"exports/rosters.csv",
	} {
		file := filepath.Join(dir, name)
		info, err := os.Stat(file)
		require.NoError(t, err)
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		rows := strings.SplitAfter(string(data), "\n")
		slices.Reverse(rows[1 : len(rows)-1])
		require.NoError(t, os.WriteFile(file, []byte(strings.Join(rows, "")), 0o644))
		require.NoError(t, os.Chtimes(file, info.ModTime(), info.ModTime()))
	}
	after, heldAfter, _ := draftIDs(t, dir)
	require.Equal(t, before, after)
	require.Equal(t, held, heldAfter)
}
