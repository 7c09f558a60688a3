//go:build unix

package main_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestARecordThatWasPutBackIsNoticedByEveryClone: what Git has noted must be in the record, and no command makes it good.
func TestARecordThatWasPutBackIsNoticedByEveryClone(t *testing.T) {
	o := newOffice(t, "decisions: {notes: true}\n")
	o.well("", "draft")
	plan := planOf(t, o.dir)
	before := filepath.Join(t.TempDir(), "before")
	out, err := exec.Command("cp", "-a", filepath.Join(o.dir, ".pravet"), before).CombinedOutput()
	require.NoError(t, err, "%s", out)
	o.well("", "reject", plan, "--only", `app eq "tickets"`, "--because", "not this week")
	text, err := exec.Command("git", "-C", o.dir, "notes", "--ref=pravet", "show", "HEAD").CombinedOutput()
	require.NoError(t, err, "%s", text)
	require.Contains(t, string(text), `"seq":5`)
	o.well("", "draft")
	o.well("", "log", "verify")

	// Somebody puts the record back from a backup, and takes away what this machine remembers of it.
	require.NoError(t, os.RemoveAll(filepath.Join(o.dir, ".pravet")))
	require.NoError(t, os.Rename(before, filepath.Join(o.dir, ".pravet")))
	require.NoError(t, os.RemoveAll(filepath.Join(filepath.Dir(o.dir), ".local")))
	for _, args := range [][]string{{"draft"}, {"apply", plan, "--yes"}, {"accept", plan, "--because", "x"}, {"log", "verify"}} {
		status, said := o.by("", args...)
		require.Equal(t, 1, status, "%v: %s", args, said)
		require.Contains(t, said, "entry 5 of the record was noted in Git", "%v", args)
	}
	_, said := o.by("", "log", "trust", "--because", "I know")
	require.NotContains(t, said, "taken for whole")
	status, said := o.by("", "draft")
	require.Equal(t, 1, status, said)

	// A clone that has fetched the notes notices as well.
	clone := filepath.Join(t.TempDir(), "clone")
	for _, args := range [][]string{
		{"clone", "--quiet", o.dir, clone}, {"-C", clone, "fetch", "--quiet", "origin", "refs/notes/pravet:refs/notes/origin/pravet"},
	} {
		out, err := exec.Command("git", args...).CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	out, err = exec.Command("cp", "-a", filepath.Join(o.dir, "exports"), clone).CombinedOutput()
	require.NoError(t, err, "%s", out)
	c := &office{t, clone}
	status, said = c.by("", "draft")
	require.Equal(t, 1, status, said)
	require.Contains(t, said, "entry 5 of the record was noted in Git")
}
