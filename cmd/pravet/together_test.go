//go:build linux

package main_test

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"pravet/internal/prepared"
)

// in runs a command of the built program in a repository, and returns its status and all that it says.
func in(t *testing.T, repo string, args ...string) (status int, out string) {
	t.Helper()
	cmd := exec.Command(program, append([]string{"--by", "Farah Linden"}, args...)...)
	cmd.Dir, cmd.Env = repo, append(os.Environ(), "HOME="+repo, "NO_COLOR=1")
	var b bytes.Buffer
	cmd.Stdout, cmd.Stderr = &b, &b
	err := cmd.Run()
	if cmd.ProcessState == nil {
		require.NoError(t, err)
	}
	return cmd.ProcessState.ExitCode(), b.String()
}

// TestWritersWaitForEachOther: eight calls that change rows of one file at once all do, one after the other, and each
// is a commit.
func TestWritersWaitForEachOther(t *testing.T) {
	repo := filepath.Join(t.TempDir(), "repo")
	require.NoError(t, prepared.Marrowick.Copy(repo))
	git := func(args ...string) string {
		out, err := exec.Command("git", append([]string{"-C", repo}, args...)...).CombinedOutput()
		require.NoError(t, err, "%s", out)
		return string(out)
	}
	git("config", "user.name", "Farah Linden")
	git("config", "user.email", "farah@marrowick.example")
	before := strings.Count(git("log", "--format=%h"), "\n")
	data, err := os.ReadFile(filepath.Join(repo, "people", "ashore.csv"))
	require.NoError(t, err)
	var ids []string
	for _, line := range strings.Split(string(data), "\n")[1:] {
		if id, _, ok := strings.Cut(line, ","); ok && len(ids) < 8 {
			ids = append(ids, id)
		}
	}
	require.Len(t, ids, 8)
	var wait sync.WaitGroup
	for i, id := range ids {
		wait.Go(func() {
			status, out := in(
				t, repo, "amend", "set", fmt.Sprintf("title=Number %d", i), "--for", id, "--commit", "--because", "a test",
			)
			if status != 0 {
				t.Errorf("%s: %s", id, out)
			}
		})
	}
	wait.Wait()
	data, err = os.ReadFile(filepath.Join(repo, "people", "ashore.csv"))
	require.NoError(t, err)
	for i := range ids {
		require.Contains(t, string(data), fmt.Sprintf(",Number %d,", i))
	}
	require.Equal(t, before+8, strings.Count(git("log", "--format=%h"), "\n"))
	require.Empty(t, git("status", "--porcelain"))
}

// TestReadingEnds: what never ends, or keeps whoever opens it waiting, is refused by name wherever a file is read.
func TestReadingEnds(t *testing.T) {
	for name, c := range map[string]struct {
		make func(repo string) error
		args []string
		says string
	}{
		"a plan is a device": {
			func(repo string) error { return os.Symlink("/dev/zero", filepath.Join(repo, "plan.json")) },
			[]string{"show", "plan.json"}, "plan.json: this is a pipe or a device, and a regular file is expected",
		},
		"a plan is a pipe": {
			func(repo string) error { return syscall.Mkfifo(filepath.Join(repo, "plan.json"), 0o600) },
			[]string{"apply", "plan.json", "--yes"}, "plan.json: this is a pipe or a device",
		},
		"people come from a device": {
			func(repo string) error { return os.Symlink("/dev/zero", filepath.Join(repo, "new.csv")) },
			[]string{"intake", "new.csv"}, "new.csv: this is a pipe or a device",
		},
		"people come from a pipe": {
			func(repo string) error { return syscall.Mkfifo(filepath.Join(repo, "new.csv"), 0o600) },
			[]string{"intake", "new.csv"}, "new.csv: this is a pipe or a device",
		},
		"an export is a pipe": {
			func(repo string) error { return pipeInstead(filepath.Join(repo, "exports", "tickets.csv")) },
			[]string{"draft"}, "exports/tickets.csv: this is a pipe or a device",
		},
		"a kit is a pipe": {
			func(repo string) error { return syscall.Mkfifo(filepath.Join(repo, "kits", "x.yaml"), 0o600) },
			[]string{"check"}, "kits/x.yaml",
		},
		"the ledger is a pipe": {
			func(repo string) error {
				return pipeAt(filepath.Join(repo, ".pravet", "ledger.db"))
			},
			[]string{"draft"}, "ledger.db: the ledger cannot be used: this is a link, a pipe or a device",
		},
		"the ledger is a pipe, to be read": {
			func(repo string) error {
				return pipeAt(filepath.Join(repo, ".pravet", "ledger.db"))
			},
			[]string{"log"}, "ledger.db: the ledger cannot be used: this is a link, a pipe or a device",
		},
		"the folder of the ledger is a link": {
			func(repo string) error { return os.Symlink(os.TempDir(), filepath.Join(repo, ".pravet")) },
			[]string{"draft"}, ".pravet: the ledger cannot be used: this is a link, and the folder itself is expected",
		},
		"the folder of plans is a link": {
			func(repo string) error { return os.Symlink(os.TempDir(), filepath.Join(repo, "plans")) },
			[]string{"draft"}, "plans: this is a link, and the folder itself is expected",
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			repo := filepath.Join(t.TempDir(), "repo")
			require.NoError(t, prepared.Bare.Copy(repo))
			require.NoError(t, c.make(repo))
			began := time.Now()
			cmd := exec.Command(
				"sh", append([]string{"-c", `ulimit -v 8000000; exec timeout -s KILL 20 "$@"`, "sh", program}, c.args...)...,
			)
			cmd.Dir, cmd.Env = repo, append(os.Environ(), "HOME="+repo)
			out, err := cmd.CombinedOutput()
			require.Error(t, err)
			require.Contains(t, string(out), c.says)
			require.Less(t, time.Since(began), 15*time.Second)
			require.NotContains(t, string(out), "goroutine")
		})
	}
}

func pipeAt(path string) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	return syscall.Mkfifo(path, 0o600)
}

func pipeInstead(path string) error {
	if err := os.Remove(path); err != nil {
		return err
	}
	return syscall.Mkfifo(path, 0o600)
}

// TestEveryCommandEndsSoon: whatever it is doing, a command that is told to end does within a second, and what it was
// about to change is as it was.
func TestEveryCommandEndsSoon(t *testing.T) {
	repo := filepath.Join(t.TempDir(), "repo")
	require.NoError(t, prepared.Bare.Copy(repo))
	var kits strings.Builder
	kits.WriteString("kits:\n")
	const chain = 30_000
	for i := range chain {
		fmt.Fprintf(&kits, "  c%d: {for: userName sw \"a\", gives: {tickets: {roles: [seller]}}", i)
		if i < chain-1 {
			fmt.Fprintf(&kits, ", with: [c%d]", i+1)
		}
		kits.WriteString("}\n")
	}
	require.NoError(t, os.WriteFile(filepath.Join(repo, "kits", "chain.yaml"), []byte(kits.String()), 0o644))

	// Kits that come with each other in a chain are walked once.
	began := time.Now()
	status, out := in(t, repo, "check")
	require.Zero(t, status, "%.2000s", out)
	require.Less(t, time.Since(began), 2*time.Minute)

	for _, args := range [][]string{{"check"}, {"draft"}, {"amend", "set", "title=X", "--for", "E0042", "--write"}} {
		for _, signal := range []os.Signal{syscall.SIGTERM, os.Interrupt} {
			cmd := exec.Command(program, args...)
			cmd.Dir, cmd.Env = repo, append(os.Environ(), "HOME="+repo)
			require.NoError(t, cmd.Start())
			time.Sleep(700 * time.Millisecond)
			require.NoError(t, cmd.Process.Signal(signal))
			began := time.Now()
			require.Error(t, cmd.Wait(), "%v", args)
			require.Less(t, time.Since(began), 2*time.Second, "%v", args) // a second, and what a busy machine adds
		}
	}
	data, err := os.ReadFile(filepath.Join(repo, "people", "ashore.csv"))
	require.NoError(t, err)
	require.NotContains(t, string(data), ",X,")
}
