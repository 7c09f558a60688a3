//go:build unix

package main_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"pravet/internal/standin"
)

// someKills is at how many instants of each kind a run is killed in every test run; with
// KILLS=all it is killed at every one.
const someKills = 3

// instants chooses some of many instants, evenly.
func instants(n int) (out []int) {
	some := someKills
	if os.Getenv("KILLS") == "all" {
		some = n
	}
	for i := range min(some, n) {
		out = append(out, 1+i*n/min(some, n))
	}
	return out
}

// TestKilledAnywhereARunGoesOn: a run of sixty changes is killed at a write to the ledger, at
// a message before the application sees it, or after it has answered; run again, it reaches
// the planned state, and the application's own log shows each change once.
func TestKilledAnywhereARunGoesOn(t *testing.T) {
	database := aDatabase(t)
	for name, open := range map[string]func(*testing.T) *yardServer{
		"scim":           func(t *testing.T) *yardServer { return scimYard(t, standin.Faults{NoBulk: true}, "") },
		"scim with bulk": func(t *testing.T) *yardServer { return scimYard(t, standin.Faults{}, "") },
		"ldap":           ldapYard,
		"postgres":       func(t *testing.T) *yardServer { return postgresYard(t, database) },
		"program":        programYard,
	} {
		t.Run(name, func(t *testing.T) {
			if name != "postgres" { // whose server is shared
				t.Parallel()
			}
			k := &killing{open: open}
			writes, messages := k.whole(t)
			points := 0
			for _, n := range instants(writes) {
				if k.killed(t, fmt.Sprintf("at write %d of %d", n, writes), n, 0, false) {
					points++
				}
			}
			for _, after := range []bool{false, true} {
				for _, n := range instants(messages) {
					if k.killed(
						t,
						fmt.Sprintf("at message %d of %d, after the answer: %t", n, messages, after),
						0,
						n,
						after,
					) {
						points++
					}
				}
			}
			require.GreaterOrEqual(t, points, len(instants(writes))+len(instants(messages)))
			t.Logf("killed at %d of %d instants, all runs went on", points, writes+2*messages)
		})
	}
}

// killing is a run that is killed again and again, each time from the start.
type killing struct {
	open func(*testing.T) *yardServer
}

// begin is a repository with a plan, and the server behind a proxy.
func (k *killing) begin(t *testing.T) (s *yardServer, p *proxy, repo, id string) {
	t.Helper()
	s = k.open(t)
	repo = yardRepo(t, s)
	for _, e := range s.env {
		if ca, ok := strings.CutPrefix(e, "CA="); ok {
			data, err := os.ReadFile(ca)
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(filepath.Join(repo, "ca.pem"), data, 0o644))
		}
	}
	if s.address != "" {
		p = newProxy(t, s.address)
		at(t, repo, s, p.listener.Addr().String())
	}
	id, n := s.draft(t, repo)
	require.Equal(t, yardChanges, n)
	if p != nil {
		p.pieces = 0
	}
	return s, p, repo, id
}

// whole runs the plan without killing, and counts writes to the ledger and messages.
func (k *killing) whole(t *testing.T) (writes, messages int) {
	t.Helper()
	s, p, repo, id := k.begin(t)
	defer s.stop()
	asked, lines := filepath.Join(t.TempDir(), "asked"), filepath.Join(t.TempDir(), "lines")
	status, out := s.run(t, repo, []string{"ASKED=" + asked, "ASKED_LINES=" + lines}, "apply", id, "--yes")
	require.Zero(t, status, out)
	require.Contains(t, out, "60 changes settled, 0 not settled")
	number := func(file string) int {
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		n, err := strconv.Atoi(string(data))
		require.NoError(t, err)
		return n
	}
	k.once(t, s, "without killing")
	if p == nil {
		return number(asked), number(lines)
	}
	return number(asked), p.pieces
}

// once makes sure that the application has seen each change once.
func (k *killing) once(t *testing.T, s *yardServer, when string) {
	t.Helper()
	seen := map[string]bool{}
	for _, text := range s.log() {
		require.False(t, seen[text], "%s: %q happened twice", when, text)
		require.NotContains(t, text, "again ", when)
		seen[text] = true
	}
	require.GreaterOrEqual(t, len(seen), yardChanges, "%s: %v", when, s.log())
}

// killed kills the run once, runs it again, and looks at what came of it. It reports whether
// the run was killed: bytes come in more pieces or in fewer, and the last may not come.
func (k *killing) killed(t *testing.T, when string, write, message int, after bool) bool {
	t.Helper()
	s, p, repo, id := k.begin(t)
	defer s.stop()
	env := []string{fmt.Sprintf("KILL_AT=%d", write)}
	if p == nil {
		env = append(env, fmt.Sprintf("KILL_ASK=%d", message))
		if after {
			env = append(env, "KILL_AFTER=1")
		}
	} else {
		p.killAt, p.after = message, after
		p.kill = func() { killChildren(repo) }
	}
	status, out := s.run(t, repo, env, "apply", id, "--yes")
	killed := status == -1
	require.True(t, killed || status == 0 && message > 0, "%s: the run was not killed: %s", when, out)
	if p != nil {
		p.mu.Lock()
		p.killAt = 0
		p.mu.Unlock()
	}
	status, out = s.run(t, repo, nil, "apply", id, "--yes")
	require.Zero(t, status, "%s: %s", when, out)
	k.once(t, s, when)
	_, n := s.draft(t, repo)
	require.Zero(t, n, "%s: changes are left", when)
	return killed
}

// killChildren kills the program that runs in a folder.
func killChildren(dir string) {
	procs, err := filepath.Glob("/proc/[0-9]*/cwd")
	if err != nil {
		return
	}
	for _, link := range procs {
		if cwd, err := os.Readlink(link); err == nil && cwd == dir {
			if pid, err := strconv.Atoi(filepath.Base(filepath.Dir(link))); err == nil && pid != os.Getpid() {
				_ = syscall.Kill(pid, syscall.SIGKILL)
			}
		}
	}
}
