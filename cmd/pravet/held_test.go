//go:build unix

package main_test

import (
	"io"
	"log"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"pravet/internal/standin"
)

// TestAnApplicationThatIsDownHoldsUpNoOther: a run is killed in an application, which cannot be reached after that. The
// other application is drafted, fetched and carried out; the one waits, and its books are closed once it is back.
func TestAnApplicationThatIsDownHoldsUpNoOther(t *testing.T) {
	const passes, hangs, down = 0, 1, 2
	var mode atomic.Int32
	s := scimYard(t, standin.Faults{NoBulk: true}, "  tries: 1\n  timeout: 20s\n")
	defer s.stop()
	proxy := httputil.NewSingleHostReverseProxy(&url.URL{Scheme: "http", Host: s.address})
	begun := make(chan bool, 100)
	released := make(chan bool)
	front := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case mode.Load() == down:
			panic(http.ErrAbortHandler)
		case mode.Load() == hangs && r.Method != http.MethodGet:
			begun <- true
			<-released
			panic(http.ErrAbortHandler)
		}
		proxy.ServeHTTP(w, r)
	}))
	front.Config.ErrorLog = log.New(io.Discard, "", 0)
	defer front.Close()
	defer close(released)
	repo := yardRepo(t, s)
	at(t, repo, s, front.Listener.Addr().String())
	write := func(name, text string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(repo, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(repo, name), []byte(text), 0o644))
	}
	write("apps/shop.yaml", "app: shop\nconnect: {by: files}\nexport: {format: csv, path: exports/shop.csv, columns: {userName: Login, "+
		"active: State, roles: Roles}}\nmatch: userName\nroles: {seller: {}}\n")
	write("exports/shop.csv", "Login,State,Roles\np01,true,\n")
	write("kits/shop.yaml", "kits:\n  shop: {for: 'userName eq \"p01\"', gives: {shop: {roles: [seller]}}}\n")
	run := func(want int, args ...string) string {
		t.Helper()
		status, out := s.run(t, repo, nil, args...)
		require.Equal(t, want, status, "%v: %s", args, out)
		return out
	}
	run(0, "draft", "--fetch", "--out", "first.json", "--app", "yard")

	mode.Store(hangs)
	cmd := exec.Command(program, "apply", "first.json", "--yes")
	cmd.Dir, cmd.Env = repo, slices.Concat(os.Environ(), []string{"HOME=" + repo}, s.env)
	require.NoError(t, cmd.Start())
	<-begun
	require.NoError(t, cmd.Process.Kill())
	_ = cmd.Wait() // it was killed

	mode.Store(down)
	began := time.Now()
	out := run(0, "draft", "--out", "shop.json")
	require.Contains(t, out, "run-1 was cut off, and what it left in yard cannot be told: yard: ")
	require.Contains(t, out, "Until it can, yard waits, and nothing else.")
	require.Regexp(t, `shop +1 change`, out)
	require.NotRegexp(t, `yard +\d+ change`, out)
	require.Contains(t, run(1, "draft", "--app", "yard"), "yard waits, and nothing else: run-1 was cut off there")
	require.Contains(t, run(1, "fetch"), "yard waits")
	require.Contains(t, run(0, "apply", "shop.json", "--yes"), "1 change settled, 0 not settled")
	require.Contains(t, run(1, "apply", "first.json", "--yes"), "and what it left in yard cannot be told")
	require.Less(t, time.Since(began), time.Minute)

	mode.Store(passes)
	out = run(0, "draft", "--fetch", "--out", "rest.json")
	require.Contains(t, out, "run-1 of plan ")
	require.Contains(t, out, " was cut off; of what it had begun, 0 settled, ")
	require.Regexp(t, `yard +\d+ changes`, out)
	run(0, "apply", "rest.json", "--yes")
	require.NotContains(t, run(0, "draft"), "cut off")
	run(0, "log", "verify")
	require.Equal(t, 1, strings.Count(run(0, "log", "--format", "csv", "run-1"), "run-end"))
}
