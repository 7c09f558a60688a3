//go:build linux

package main_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"pravet/examples/marrowick"
	"pravet/internal/core/plan"
	"pravet/internal/prepared"
)

// TestTwelveAtOnce: twelve calls of all kinds at a time in one repository, while somebody checks out two branches to
// and fro. Some are stopped for a while, some are killed, and their clocks differ. No run is disturbed by that, no
// decision is lost, no plan is of a mixture of two revisions, and the ledger is whole at every moment. MINUTES says
// for how long; a few seconds otherwise.
func TestTwelveAtOnce(t *testing.T) {
	long := 12 * time.Second
	if text := os.Getenv("MINUTES"); text != "" {
		minutes, err := strconv.Atoi(text)
		require.NoError(t, err)
		long = time.Duration(minutes) * time.Minute
	}
	repo := filepath.Join(t.TempDir(), "repo")
	require.NoError(t, prepared.Marrowick.Copy(repo))
	git := func(args ...string) (string, error) {
		out, err := exec.Command("git", append([]string{"-C", repo}, args...)...).Output()
		return strings.TrimSpace(string(out)), err
	}
	for _, args := range [][]string{
		{"config", "user.name", "Farah Linden"}, {"config", "user.email", "farah.linden@marrowick.example"},
		{"branch", "other", "HEAD~1"},
	} {
		_, err := git(args...)
		require.NoError(t, err)
	}
	home, err := git("rev-parse", "--abbrev-ref", "HEAD")
	require.NoError(t, err)
	w := &twelve{t: t, repo: repo, drafted: map[string]string{}, decided: map[string]bool{}, counts: map[string]int{}}
	until := time.Now().Add(long)
	var wait sync.WaitGroup
	for i := range 12 {
		wait.Go(func() {
			rng := rand.New(rand.NewPCG(uint64(i), 21))
			for n := 0; time.Now().Before(until) && !t.Failed(); n++ {
				if i == 0 {
					time.Sleep(time.Duration(200+rng.IntN(1200)) * time.Millisecond)
					if rng.IntN(3) == 0 { // what a call that was killed has written and not committed
						_, _ = git("checkout", "--quiet", "--", ".")
					}
					_, _ = git("checkout", "--quiet", []string{home, "other"}[n%2]) // somebody may have changed a file
					continue
				}
				w.call(rng, fmt.Sprintf("%d-%d", i, n))
			}
		})
	}
	wait.Wait()
	_, err = git("checkout", "--quiet", "--force", home)
	require.NoError(t, err)

	run := func(args ...string) string {
		t.Helper()
		status, out := in(t, repo, args...)
		require.Zero(t, status, "%v: %s", args, out)
		return out
	}
	run("draft")
	run("log", "verify")
	run("check")
	require.NoFileExists(t, filepath.Join(repo, ".pravet", "rewrite.json"))
	var entries []struct{ Body struct{ Because string } }
	log := exec.Command(program, "log", "--kind", "decision", "--format", "json")
	log.Dir = repo
	decisions, err := log.Output() // and not what is said beside it: the clocks of the calls were apart
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(decisions, &entries), "%.300s", decisions)
	on := map[string]bool{}
	for _, e := range entries {
		on[e.Body.Because] = true
	}
	for because := range w.decided {
		require.True(t, on[because], "the decision %q was taken, and is not on record", because)
	}
	w.ofOneRevision()
	t.Logf("%v; %d decisions, %d plans of revisions, %d killed, %d stopped", w.counts, len(w.decided), len(w.drafted), w.killed.Load(), w.stopped.Load())
	require.Positive(t, w.counts["draft 0"])
	require.NotEmpty(t, w.decided)
}

type twelve struct {
	t               *testing.T
	repo            string
	killed, stopped atomic.Int32

	mu      sync.Mutex
	drafted map[string]string // digest of files → the revision that a plan says they are of
	decided map[string]bool   // reasons of decisions that were taken
	counts  map[string]int
}

// disturbed matches what no command may say because others are at work.
var disturbed = regexp.MustCompile(`goroutine \d|panic|taken away|whole ledger|exports/\S+ was changed by someone|ended before its time|` +
	`no such file or directory|cannot be replaced|database is locked`)

func (w *twelve) call(rng *rand.Rand, name string) {
	id := ""
	if plans, _ := filepath.Glob(filepath.Join(w.repo, "plans", "*.json")); len(plans) > 0 {
		id = strings.TrimSuffix(filepath.Base(plans[rng.IntN(len(plans))]), ".json")
	}
	because := "the reason " + name
	out := filepath.Join(w.t.TempDir(), "plan.json")
	calls := [][]string{
		{"draft"}, {"draft", "--out", out}, {"draft", "--out", out}, {"check"}, {"why", "E0042"}, {"list", "accounts"}, {
			"log",
		},
		{"log", "verify"}, {"log", "verify"}, {"ahead"}, {"letters"}, {"report", "idle"}, {"seats"},
		{"amend", "set", "title=" + name, "--for", "E0045", "--commit", "--because", because},
		{"amend", "set", "title=" + name, "--for", "E0045,C0301", "--commit", "--because", because},
	}
	if id != "" {
		calls = append(calls, []string{"show", id}, []string{"apply", id, "--yes"}, []string{"apply", id, "--yes"}, []string{"rehearse", id},
			[]string{"reject", id, "--only", `person eq "E0042"`, "--because", because},
			[]string{"accept", id, "--because", because}, []string{"accept", id, "--because", because})
	}
	args := calls[rng.IntN(len(calls))]
	cmd := exec.Command(program, append([]string{"--by", "Farah Linden"}, args...)...)
	clock := marrowick.Today.Add(time.Duration(rng.IntN(7200)-3600) * time.Second).UTC().Format(time.RFC3339)
	cmd.Dir, cmd.Env = w.repo, append(os.Environ(), "HOME="+w.repo, "NO_COLOR=1", "CLOCK="+clock)
	var said bytes.Buffer
	cmd.Stdout, cmd.Stderr = &said, &said
	if err := cmd.Start(); err != nil {
		w.t.Error(err)
		return
	}
	ended := make(chan bool)
	killed := false
	var meddled sync.WaitGroup
	meddled.Go(func() {
		after := time.Duration(rng.IntN(150)) * time.Millisecond
		switch rng.IntN(12) {
		case 0:
			select {
			case <-ended:
			case <-time.After(after):
				killed = true
				_ = cmd.Process.Kill() // it may have ended
				w.killed.Add(1)
			}
		case 1:
			select {
			case <-ended:
			case <-time.After(after):
				_ = cmd.Process.Signal(syscall.SIGSTOP)
				time.Sleep(3 * after)
				_ = cmd.Process.Signal(syscall.SIGCONT)
				w.stopped.Add(1)
			}
		}
	})
	_ = cmd.Wait() // the status tells
	close(ended)
	meddled.Wait()
	status := cmd.ProcessState.ExitCode()
	if bad := disturbed.FindString(said.String()); bad != "" && !killed {
		w.t.Errorf("%v: %q: %s", args, bad, said.String())
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	w.counts[fmt.Sprint(args[0], " ", status)]++
	if status != 0 || killed {
		return
	}
	switch args[0] {
	case "accept", "reject":
		w.decided[because] = true
	case "draft":
		var p struct{ Desired plan.Desired }
		if data, err := os.ReadFile(out); err == nil && json.Unmarshal(data, &p) == nil && p.Desired.Clean {
			w.drafted[p.Desired.Digest] = p.Desired.Revision
		}
	}
}

// ofOneRevision makes sure that the files of plans are those of the revisions that they say.
func (w *twelve) ofOneRevision() {
	some := 0
	for digest, revision := range w.drafted {
		if some++; some > 25 {
			return
		}
		clone := filepath.Join(w.t.TempDir(), "clone")
		for _, args := range [][]string{{"clone", "--quiet", w.repo, clone}, {"-C", clone, "checkout", "--quiet", revision}} {
			out, err := exec.Command("git", args...).CombinedOutput()
			require.NoError(w.t, err, "%s", out)
		}
		require.NoError(w.t, os.CopyFS(filepath.Join(clone, "exports"), os.DirFS(filepath.Join(w.repo, "exports"))))
		status, out := in(w.t, clone, "draft", "--out", "plan.json")
		require.Zero(w.t, status, out)
		data, err := os.ReadFile(filepath.Join(clone, "plan.json"))
		require.NoError(w.t, err)
		var p struct{ Desired plan.Desired }
		require.NoError(w.t, json.Unmarshal(data, &p))
		require.Equal(w.t, p.Desired.Digest, digest, "a plan that says it is of %s", revision)
	}
}
