//go:build unix

package main_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"pravet/internal/standin"
)

// TestWhatSomebodyChangedMeanwhileIsAConflict: it is called that, with status 5, and nothing of theirs is overwritten; what
// somebody has done already is left alone.
func TestWhatSomebodyChangedMeanwhileIsAConflict(t *testing.T) {
	s, play := scimYardFaults(t, "")
	play.SetFaults(standin.Faults{NoBulk: true})
	t.Cleanup(s.stop)
	repo := yardRepo(t, s)
	at(t, repo, s, s.address)
	id, changes := s.draft(t, repo)
	play.Change("p01", func(r map[string]any) { r["displayName"] = "By hand" })
	play.Change("p02", func(r map[string]any) { r["displayName"] = "Person 2" }) // as the plan has it
	play.Remove("p11")                                                           // whom the plan suspends
	status, out := s.run(t, repo, nil, "apply", id, "--yes")
	require.Equal(t, 5, status, out)
	require.Contains(t, out, `somebody has changed displayName to "By hand" meanwhile, where the plan has "Old name"`)
	require.Contains(t, out, "the account p11 is not there any more")
	require.Contains(t, out, "57 changes settled, 2 not settled")
	require.Equal(t, 60, changes)
	u, _ := play.User("p01")
	require.Equal(t, "By hand", u["displayName"])
	_, log := s.run(t, repo, nil, "log", "run-1", "--format", "json")
	require.Contains(t, log, `"result": "conflict"`)
}
