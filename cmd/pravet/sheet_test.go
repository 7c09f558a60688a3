//go:build unix

package main_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"pravet/examples/marrowick"

	"github.com/gofrs/flock"
	"github.com/stretchr/testify/require"
)

// copied is a copy of an office on another machine, with a ledger of its own.
func (o *office) copied() *office {
	o.t.Helper()
	c := &office{o.t, filepath.Join(o.t.TempDir(), "repo")}
	out, err := exec.Command("cp", "-a", o.dir, c.dir).CombinedOutput()
	require.NoError(o.t, err, "%s", out)
	require.NoError(o.t, os.RemoveAll(filepath.Join(c.dir, ".pravet")))
	require.NoError(o.t, os.RemoveAll(filepath.Join(c.dir, "plans")))
	keys, err := filepath.Glob(o.key("*"))
	require.NoError(o.t, err)
	for _, key := range keys {
		require.NoError(o.t, os.Link(key, filepath.Join(filepath.Dir(c.dir), filepath.Base(key))))
	}
	return c
}

// TestADecisionTravels: two people with Git alone. The plan goes to the one who decides as a file, and the decision comes back
// as one; it is proved, and recorded once; and nothing else than what was signed is taken.
func TestADecisionTravels(t *testing.T) {
	o := newOffice(t, signedOnly, "E0061", "E0062")
	there := o.copied()
	o.well("", "draft")
	plan := planOf(t, o.dir)
	file := filepath.Join(o.dir, "plans", plan+".json")
	out := there.well("E0061", "accept", file, "--because", "as agreed", "--out", "yes.txt")
	require.Contains(t, out, "not recorded here")
	require.Zero(t, there.count(file, `decision eq "accepted"`))
	sheet, err := os.ReadFile(filepath.Join(there.dir, "yes.txt"))
	require.NoError(t, err)
	require.True(t, strings.HasPrefix(string(sheet), "Pravet decision, form 1\n{\n"), "%s", sheet)
	write := func(name, text string) string {
		at := filepath.Join(filepath.Dir(o.dir), name)
		require.NoError(t, os.WriteFile(at, []byte(text), 0o644))
		return at
	}
	for name, x := range map[string]struct{ text, says string }{
		"empty":     {"", "this is no file of decisions"},
		"other":     {"yes, do it\n", "this is no file of decisions"},
		"altered":   {strings.Replace(string(sheet), "as agreed", "as I like", 1), "its signature does not count"},
		"cut":       {string(sheet[:len(sheet)-40]), "cut off"},
		"unsigned":  {string(sheet[:strings.Index(string(sheet), "-----BEGIN")]), "it is not signed"},
		"elsewhere": {strings.Replace(string(sheet), `"Marrowick Ferries"`, `"Skerry Freight"`, 1), "its signature does not count"},
		"unknown":   {strings.ReplaceAll(string(sheet), plan, "zzzzzzzz"), "plan zzzzzzzz is not on record here"},
	} {
		status, out := o.by("", "decisions", "take", write(name, x.text))
		require.Equal(t, 1, status, "%s: %s", name, out)
		require.Contains(t, strings.Join(strings.Fields(out), " "), x.says, name)
	}
	require.Zero(t, o.count(plan, `decision eq "accepted"`))
	mailed := write("mailed", strings.ReplaceAll(string(sheet), "\n", "\r\n"))
	require.Contains(t, o.well("", "decisions", "take", mailed), "Recorded: E0061 accepts the whole plan")
	require.Contains(t, o.well("", "decisions", "take", mailed), "On record already")
	require.Positive(t, o.count(plan, `decision eq "accepted"`))
	require.Contains(t, o.well("", "log"), "signed")

	status, out := there.by("E0062", "accept", file, "--because", "x", "--out", "yes.txt")
	require.Equal(t, 2, status, out)
	require.Contains(t, out, "is there already")
	there = o.copied()
	require.NoError(t, os.Chtimes(filepath.Join(there.dir, "exports", "rosters.csv"), time.Unix(0, 0), time.Unix(0, 0)))
	status, out = there.by("E0062", "accept", file, "--because", "x", "--out", "old.txt")
	require.Equal(t, 1, status, out)
	require.Contains(t, strings.Join(strings.Fields(out), " "), "what holds a change is not the same, there suspensions, here export-age, suspensions: rosters:")
	there = o.copied()
	there.add("people/ashore.csv", "X9,x.nine,X Nine,x.nine@marrowick.example,Clerk,Ticketing,Head office,Employee,2026-01-01,,\n")
	status, out = there.by("E0062", "accept", file, "--because", "x", "--out", "again.txt")
	require.Equal(t, 1, status, out)
	require.Contains(t, out, "people/ashore.csv")
}

// TestADecisionTravelsByName: where decisions need not be signed, by the name of whoever made it.
func TestADecisionTravelsByName(t *testing.T) {
	o := newOffice(t, "deciders: [{changes: app eq \"rosters\", people: {owner: true}}]\n")
	o.well("", "draft")
	plan := planOf(t, o.dir)
	all := o.count(plan, `app eq "rosters" and decision eq "undecided"`)
	require.Positive(t, all)
	o.well("", "--by", "E0047", "accept", plan, "--app", "rosters", "--because", "mine", "--out", "yes.txt")
	require.Zero(t, o.count(plan, `decision eq "accepted"`))
	require.Contains(t, o.well("", "--by", "Farah Linden", "decisions", "take", "yes.txt"), "E0047 accepts")
	require.Equal(t, all, o.count(plan, `app eq "rosters" and decision eq "accepted"`))
	require.Contains(t, o.well("", "log"), "as E0047 wrote")
}

// TestAFileThatSeveralClonesShare: while one clone changes it, whoever runs that, no other does; and what one has left beside
// it, another leaves alone.
func TestAFileThatSeveralClonesShare(t *testing.T) {
	o := newOffice(t, "")
	shared := t.TempDir()
	file := filepath.Join(shared, "rosters.csv")
	data, err := os.ReadFile(filepath.Join(o.dir, "exports", "rosters.csv"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, data, 0o644))
	require.NoError(t, os.Chtimes(file, marrowick.Exported, marrowick.Exported))
	yaml, err := os.ReadFile(filepath.Join(o.dir, "apps", "rosters.yaml"))
	require.NoError(t, err)
	require.Contains(t, string(yaml), "exports/rosters.csv")
	require.NoError(t, os.WriteFile(filepath.Join(o.dir, "apps", "rosters.yaml"),
		[]byte(strings.ReplaceAll(string(yaml), "exports/rosters.csv", file)), 0o644))
	o.commit("Rosters are on a folder that others share")
	t.Setenv("PRAVET_OUTSIDE", shared)
	there := o.copied()
	o.well("", "draft")
	there.well("", "draft")
	left := filepath.Join(shared, ".rosters.csv.QQQQQABCDE.new")
	require.NoError(t, os.WriteFile(left, []byte("of another clone"), 0o644))
	lock := flock.New(filepath.Join(shared, ".rosters.csv.lock"))
	locked, err := lock.TryLock()
	require.NoError(t, err)
	require.True(t, locked)
	status, out := o.by("", "apply", planOf(t, o.dir), "--yes")
	require.Equal(t, 1, status, out)
	require.Contains(t, out, "changes rosters just now")
	require.NoError(t, lock.Unlock())
	status, out = o.by("", "apply", planOf(t, o.dir), "--yes")
	require.Equal(t, 4, status, out)
	require.FileExists(t, left)
	status, out = there.by("", "apply", planOf(t, there.dir), "--yes")
	require.Equal(t, 1, status, out)
	require.Contains(t, out, "the exported state of rosters has changed")
}
