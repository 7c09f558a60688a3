//go:build unix

package main_test

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"pravet/internal/standin"
)

// A gate stands before a server and lets nothing through while it is shut.
type gate struct {
	server http.Handler
	mu     sync.Mutex
	asked  map[string]int
	shut   func(r *http.Request, n int) (status int, after string) // 0 to let it through; n counts requests of the method
}

func (g *gate) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	g.mu.Lock()
	g.asked[r.Method]++
	status, after := g.shut(r, g.asked[r.Method])
	g.mu.Unlock()
	if status == 0 {
		g.server.ServeHTTP(w, r)
		return
	}
	if after != "" {
		w.Header().Set("Retry-After", after)
	}
	w.WriteHeader(status)
}

// gated is the world's server behind a gate.
func gated(t *testing.T, seed uint64, more string, shut func(*http.Request, int) (int, string)) (*world, *peer, *standin.Server) {
	t.Helper()
	w := drawWorld(seed)
	p := scimPeer(t, w, standin.Faults{NoBulk: true})
	g := &gate{server: p.play, asked: map[string]int{}, shut: shut}
	web := httptest.NewServer(g)
	t.Cleanup(web.Close)
	p.server.address = web.Listener.Addr().String()
	p.server.connect += more
	return w, p, p.play
}

// TestAnOutageIsWaitedOut: an application that is out of order for some seconds, whether it says so, asks for a pause,
// or has had too many requests, ends no run; whoever waits is told.
func TestAnOutageIsWaitedOut(t *testing.T) {
	for name, status := range map[string]int{"503": http.StatusServiceUnavailable, "429": http.StatusTooManyRequests} {
		for _, method := range []string{http.MethodGet, http.MethodPatch} {
			t.Run(name+" of "+method, func(t *testing.T) {
				t.Parallel()
				var until time.Time
				w, p, _ := gated(t, 3, "", func(r *http.Request, n int) (int, string) {
					if r.Method == method && n == 4 && until.IsZero() {
						until = time.Now().Add(5 * time.Second)
					}
					if time.Now().Before(until) {
						return status, "1"
					}
					return 0, ""
				})
				p.plain = true
				right, wrong, said := lived(t, w, p)
				require.Empty(t, wrong, said)
				require.True(t, right, said)
				require.Contains(t, said, "waiting for up to", said)
				require.Equal(t, 1, strings.Count(said, "$ pravet apply"), said)
			})
		}
	}
}

// TestATooLongPauseIsNotTaken: an application that asks us to come back in thirty years ends the command at once, and
// it says so.
func TestATooLongPauseIsNotTaken(t *testing.T) {
	for _, after := range []string{"999999999", time.Now().AddDate(9, 0, 0).UTC().Format(http.TimeFormat), "1e300"} {
		w, p, _ := gated(t, 3, "", func(*http.Request, int) (int, string) { return http.StatusServiceUnavailable, after })
		repo := w.repo(t, strings.ReplaceAll(p.server.connect, "ADDRESS", p.server.address), ", email: email")
		began := time.Now()
		status, out := p.server.run(t, repo, nil, "fetch")
		require.Equal(t, 1, status, out)
		require.Contains(t, out, "and asks us to come back in", out)
		require.Less(t, time.Since(began), 5*time.Second)
	}
}

// TestManyChangesOfOneRequestAreSentAgain: one refusal to hear a request now is no failure of the sixty changes in it.
func TestManyChangesOfOneRequestAreSentAgain(t *testing.T) {
	s, play := scimYardFaults(t, "  outage: 0s\n  tries: 3\n")
	play.SetFaults(standin.Faults{NoBulk: true})
	t.Cleanup(s.stop)
	busy := 0
	web := httptest.NewServer(&gate{server: play, asked: map[string]int{}, shut: func(r *http.Request, _ int) (int, string) {
		if r.Method == http.MethodPatch && strings.Contains(r.URL.Path, "Groups") && busy < 2 {
			busy++
			return http.StatusTooManyRequests, "0"
		}
		return 0, ""
	}})
	t.Cleanup(web.Close)
	repo := yardRepo(t, s)
	at(t, repo, s, web.Listener.Addr().String())
	id, changes := s.draft(t, repo)
	status, out := s.run(t, repo, nil, "apply", id, "--yes")
	require.Zero(t, status, out)
	require.Contains(t, out, fmt.Sprintf("%d changes settled, 0 not settled", changes))
	require.Equal(t, 2, busy)
}
