//go:build unix

package main_test

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"pravet/internal/standin"
)

// TestWhatOthersChangeMeanwhileIsNamed and not touched: one account that the plan is not about
// otherwise, and one that it would have changed.
func TestWhatOthersChangeMeanwhileIsNamed(t *testing.T) {
	s, play := scimYardFaults(t, "")
	defer s.stop()
	repo := yardRepo(t, s)
	at(t, repo, s, s.address)
	id, _ := s.draft(t, repo)
	play.Change("p11", func(r map[string]any) { r["displayName"] = "Renamed at the console" })
	play.Change("p01", func(r map[string]any) { r["displayName"] = "Renamed too" })
	status, out := s.run(t, repo, nil, "apply", id, "--yes")
	require.Equal(t, 5, status, out)
	require.Contains(t, out, "59 changes settled, 1 not settled")
	require.Contains(t, out, `somebody has changed displayName to "Renamed too" meanwhile, where the plan has "Old name"`)
	require.Contains(t, out, `yard: p11 has displayName "Renamed at the console" and had "Person 11"`)
	for name, want := range map[string]string{"p11": "Renamed at the console", "p01": "Renamed too"} {
		r, _ := play.User(name)
		require.Equal(t, want, r["displayName"])
	}
	_, left := s.draft(t, repo)
	require.Equal(t, 1, left, "the next draft shows the one that the files have otherwise")
}

// TestAShrunkenFetchHolds: an application that shows half of its accounts takes nobody's access.
func TestAShrunkenFetchHolds(t *testing.T) {
	s, play := scimYardFaults(t, "")
	defer s.stop()
	repo := yardRepo(t, s)
	at(t, repo, s, s.address)
	root := filepath.Join(repo, "pravet.yaml")
	text, err := os.ReadFile(root)
	require.NoError(t, err)
	require.NoError(
		t,
		os.WriteFile(root, bytes.Replace(text, []byte("exportShrink: 100%"), []byte("exportShrink: 20%"), 1), 0o644),
	)
	s.draft(t, repo)
	for _, name := range []string{"p07", "p08", "p09", "p10"} {
		play.Remove(name)
	}
	status, out := s.run(t, repo, nil, "draft", "--fetch")
	require.Zero(t, status, out)
	require.Regexp(t, `(\d+) changes: .*; \d+ are held`, out)
	// And it is no measure for the next time.
	status, out = s.run(t, repo, nil, "draft", "--fetch")
	require.Zero(t, status, out)
	require.Contains(t, out, "are held")
}

// TestInterruptedARunEndsAndGoesOn: Ctrl-C lets what is in flight finish, records it, and says
// how to go on.
func TestInterruptedARunEndsAndGoesOn(t *testing.T) {
	s, play := scimYardFaults(t, "  parallel: 1\n")
	defer s.stop()
	repo := yardRepo(t, s)
	at(t, repo, s, s.address)
	id, _ := s.draft(t, repo)
	play.SetFaults(standin.Faults{NoBulk: true, Delay: 40 * time.Millisecond})
	before := len(play.Log())
	cmd := exec.Command(program, "apply", id, "--yes")
	cmd.Dir, cmd.Env = repo, slices.Concat(os.Environ(), []string{"HOME=" + repo, "NO_COLOR=1"}, s.env)
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	require.NoError(t, cmd.Start())
	require.Eventually(t, func() bool { return len(play.Log()) > before+18 }, 20*time.Second, time.Millisecond)
	require.NoError(t, cmd.Process.Signal(os.Interrupt))
	_ = cmd.Wait()
	require.Equal(t, 5, cmd.ProcessState.ExitCode(), out.String())
	require.Regexp(t, `run-1 stopped: it was interrupted; to go on: pravet apply `+id, out.String())
	require.Contains(t, out.String(), "not begun")
	play.SetFaults(standin.Faults{})
	status, again := s.run(t, repo, nil, "apply", id, "--yes")
	require.Zero(t, status, again)
	_, left := s.draft(t, repo)
	require.Zero(t, left)
	seen := map[string]bool{}
	for _, line := range play.Log() {
		require.False(t, seen[line], "%s happened twice", line)
		seen[line] = true
	}
}

// TestTwoRunsOnOneApplicationExcludeEachOther, also from two repositories.
func TestTwoRunsOnOneApplicationExcludeEachOther(t *testing.T) {
	s, play := scimYardFaults(t, "  parallel: 1\n")
	defer s.stop()
	home := t.TempDir()
	var repos, plans []string
	for _, host := range []string{"127.0.0.1", "localhost"} { // by whichever name it is reached
		repo := yardRepo(t, s)
		at(t, repo, s, strings.Replace(s.address, "127.0.0.1", host, 1))
		id, _ := s.draft(t, repo)
		repos, plans = append(repos, repo), append(plans, id)
	}
	play.SetFaults(standin.Faults{NoBulk: true, Delay: 30 * time.Millisecond})
	first := exec.Command(program, "apply", plans[0], "--yes")
	first.Dir, first.Env = repos[0], slices.Concat(os.Environ(), s.env, []string{"HOME=" + home})
	require.NoError(t, first.Start())
	require.Eventually(t, func() bool { return len(play.Log()) > 0 }, 20*time.Second, time.Millisecond)
	status, out := s.run(t, repos[1], []string{"HOME=" + home}, "apply", plans[1], "--yes")
	require.Equal(t, 1, status, out)
	require.Contains(t, out, "another run, from another repository, changes yard just now; wait until it is done")
	require.NoError(t, first.Wait())
	status, out = s.run(t, repos[1], []string{"HOME=" + home}, "draft", "--fetch")
	require.Zero(t, status, out)
	require.Contains(t, out, "\n0 changes:")
}
