//go:build unix

package main_test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"log"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"pravet/internal/standin"
)

// cable is what connects machines with the database; it can be pulled.
type cable struct {
	mu     sync.Mutex
	conns  map[net.Conn]bool
	pulled bool
	to     string
}

func newCable(t *testing.T, to string) (c *cable, address string) {
	u, err := url.Parse(to)
	require.NoError(t, err)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	c = &cable{conns: map[net.Conn]bool{}, to: u.Host}
	t.Cleanup(func() { l.Close(); c.pull(true, func() bool { return true }) })
	go func() {
		for {
			in, err := l.Accept()
			if err != nil {
				return
			}
			go c.join(in)
		}
	}()
	u.Host = l.Addr().String()
	return c, u.String()
}

func (c *cable) join(in net.Conn) {
	defer in.Close()
	out, err := net.Dial("tcp", c.to)
	if err != nil {
		return
	}
	defer out.Close()
	c.mu.Lock()
	if c.pulled {
		c.mu.Unlock()
		return
	}
	c.conns[in] = true
	c.mu.Unlock()
	go func() {
		_, _ = io.Copy(out, in) // until either ends
		out.Close()
	}()
	_, _ = io.Copy(in, out)
	c.mu.Lock()
	delete(c.conns, in)
	c.mu.Unlock()
}

// pull cuts connections, those that which says; and all that are new as long as it is pulled.
func (c *cable) pull(pulled bool, which func() bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.pulled = pulled
	for conn := range c.conns {
		if which() {
			conn.Close()
		}
	}
}

// A harbour is two applications that are asked while somebody watches what must hold in both at every moment.
type harbour struct {
	mu     sync.Mutex
	sides  map[string]*standin.Server
	moves  map[string]int // what was given or taken, and how often
	broken []string
	pause  time.Duration
}

// holders are who is in a group of one side.
func (h *harbour) holders(side string) map[string]bool {
	users, groups := h.sides[side].State()
	names := map[string]string{}
	for _, u := range users {
		names[fmt.Sprint(u["id"])] = fmt.Sprint(u["userName"])
	}
	out := map[string]bool{}
	for _, g := range groups {
		members, _ := g["members"].([]any)
		for _, m := range members {
			out[fmt.Sprint(g["displayName"], " ", names[fmt.Sprint(m.(map[string]any)["value"])])] = true
		}
	}
	return out
}

func (h *harbour) serve(side string) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodGet {
			h.sides[side].ServeHTTP(w, r)
			return
		}
		time.Sleep(h.pause)
		h.mu.Lock()
		defer h.mu.Unlock()
		before := h.holders(side)
		h.sides[side].ServeHTTP(w, r)
		after := h.holders(side)
		for x := range after {
			if !before[x] {
				h.moves[side+" gives "+x]++
			}
		}
		for x := range before {
			if !after[x] {
				h.moves[side+" takes "+x]++
			}
		}
		till, audit := h.holders("north"), h.holders("south")
		for x := range till {
			if name, ok := strings.CutPrefix(x, "till "); ok && audit["audit "+name] {
				h.broken = append(h.broken, name+" is at a till and audits tills")
			}
		}
	})
}

const sailors = 16

func sailor(i int) string { return fmt.Sprintf("sailor%02d", i) }

// newHarbour has 5 who go from the audit to a till, 5 who go the other way, and 6 who join in both.
func newHarbour(t *testing.T) (h *harbour, addresses map[string]string) {
	h, addresses = &harbour{sides: map[string]*standin.Server{}, moves: map[string]int{}}, map[string]string{}
	for _, side := range []string{"north", "south"} {
		s, err := standin.New(standin.Options{Token: "open sesame"})
		require.NoError(t, err)
		var ids []string
		for i := range sailors {
			ids = append(ids, s.AddUser(map[string]any{"userName": sailor(i), "displayName": sailor(i), "active": true}))
		}
		s.AddGroup("crew", ids[0])
		if side == "north" {
			s.AddGroup("till", ids[5:10]...)
		} else {
			s.AddGroup("audit", ids[:5]...)
		}
		h.sides[side] = s
	}
	for side := range h.sides {
		web := httptest.NewServer(h.serve(side))
		web.Config.ErrorLog = log.New(io.Discard, "", 0) // connections that are dropped on purpose
		t.Cleanup(web.Close)
		addresses[side] = web.URL
	}
	return h, addresses
}

// harbourFiles are the files of the harbour.
func harbourFiles(addresses map[string]string) map[string]string {
	var people strings.Builder
	people.WriteString("id,userName,displayName,title\n")
	for i := range sailors {
		title := "Deck"
		if i < 5 {
			title = "Till"
		} else if i < 10 {
			title = "Audit"
		}
		fmt.Fprintf(&people, "S%02d,%s,%[2]s,%s\n", i, sailor(i), title)
	}
	files := map[string]string{
		"pravet.yaml": "organization: Marrowick Ferries\nguards: {exportAge: P10Y, suspensions: 100%, narrowing: 100%, widening: 100%, " +
			"exportShrink: 100%, removals: 100, firstHolder: 100}\nseparation: [{name: tills are audited by others, " +
			"apart: [north/group/till, south/group/audit]}]\n",
		"people/all.csv": people.String(),
		"kits/all.yaml": "kits:\n  all: {everyone: true, gives: {north: {groups: [crew]}, south: {groups: [crew]}}}\n" +
			"  tills: {for: 'title eq \"Till\"', gives: {north: {groups: [till]}}}\n" +
			"  audits: {for: 'title eq \"Audit\"', gives: {south: {groups: [audit]}}}\n",
	}
	for side, own := range map[string]string{"north": "till", "south": "audit"} {
		files["apps/"+side+".yaml"] = "app: " + side + "\nconnect: {by: scim, url: " + addresses[side] +
			", token: env:HARBOUR_TOKEN, batch: 3, parallel: 2, settle: 300ms}\nmatch: userName\n" +
			"account: {userName: userName, displayName: displayName}\ngroups: {crew: {}, " + own + ": {}}\n"
	}
	return files
}

// TestMachinesCarryOutOnePlan: three machines carry out one plan against two applications, one each and one both, while they
// are stopped for longer than their leases last, killed, and cut off from the record, with clocks that are apart. Whatever
// happens, nothing is carried out twice, nobody holds at any moment what must be kept apart, and in the end all is as the
// files say. PEERS="0 200" tries more of it.
func TestMachinesCarryOutOnePlan(t *testing.T) {
	from, to := seeds(t, 3)
	s := aDatabase(t)
	require.NoError(t, s.Run(context.Background(), "CREATE ROLE adder LOGIN PASSWORD 'let me add'"))
	for seed := from; seed < to; seed++ {
		t.Run(fmt.Sprint(seed), func(t *testing.T) { onMachines(t, s, seed) })
	}
}

func onMachines(t *testing.T, s *standin.Database, seed int) {
	rng := rand.New(rand.NewPCG(uint64(seed), 2323))
	h, addresses := newHarbour(t)
	h.pause = time.Duration(rng.IntN(60)) * time.Millisecond
	wire, address := newCable(t, s.URL)
	origin := filepath.Join(t.TempDir(), "origin")
	files := harbourFiles(addresses)
	files["pravet.yaml"] += fmt.Sprintf("ledger: {url: %s, user: adder, password: env:LEDGER_PASSWORD, schema: m%d}\n", address, seed)
	for name, text := range files {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(origin, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(origin, name), []byte(text), 0o644))
	}
	var machines []string
	for range 3 {
		home := t.TempDir()
		out, err := exec.Command("cp", "-r", origin, filepath.Join(home, "repo")).CombinedOutput()
		require.NoError(t, err, "%s", out)
		machines = append(machines, filepath.Join(home, "repo"))
	}
	var said bytes.Buffer
	var saying sync.Mutex
	command := func(m int, args ...string) *exec.Cmd {
		cmd := exec.Command(program, append([]string{"--by", fmt.Sprint("machine ", m)}, args...)...)
		clock := time.Date(2026, 11, 24, 9, 0, 0, 0, time.UTC).Add(time.Duration(m-1) * time.Hour)
		cmd.Dir, cmd.Env = machines[m], append(os.Environ(), "HOME="+filepath.Dir(machines[m]), "NO_COLOR=1", "LEDGER_PASSWORD=let me add",
			"OWNER="+s.Password, "HARBOUR_TOKEN=open sesame", "TERM_OF_LEASE=1s", "CLOCK="+clock.Format(time.RFC3339))
		return cmd
	}
	run := func(m int, args ...string) (status int, out string) {
		cmd := command(m, args...)
		data, _ := cmd.CombinedOutput() // the status tells
		status = cmd.ProcessState.ExitCode()
		saying.Lock()
		defer saying.Unlock()
		fmt.Fprintf(&said, "machine %d: %v: %d\n%s\n", m, args, status, data)
		return status, string(data)
	}
	well := func(m int, args ...string) string {
		t.Helper()
		status, out := run(m, args...)
		require.Zero(t, status, "%v: %s", args, out)
		return out
	}
	well(1, "ledger", "grant", "--run", "--user", s.User, "--password", "env:OWNER")
	well(2, "fetch", "south")
	well(1, "fetch", "north")
	well(1, "draft") // with what the other has fetched
	id := planOf(t, machines[1])
	well(0, "accept", id, "--because", "as agreed")

	ended := make(chan bool)
	var wait sync.WaitGroup
	for m, args := range [][]string{{"--app", "north"}, {"--app", "south"}, nil} {
		chance := rand.New(rand.NewPCG(uint64(seed), uint64(m)))
		wait.Go(func() {
			for {
				select {
				case <-ended:
					return
				case <-time.After(time.Duration(chance.IntN(400)) * time.Millisecond):
				}
				cmd := command(m, append([]string{"apply", id, "--yes"}, args...)...)
				var out bytes.Buffer
				cmd.Stdout, cmd.Stderr = &out, &out
				if err := cmd.Start(); err != nil {
					t.Error(err)
					return
				}
				over := make(chan error, 1)
				go func() { over <- cmd.Wait() }()
				what := chance.IntN(3)
				select {
				case <-over:
					what = 2
				case <-time.After(time.Duration(100+chance.IntN(900)) * time.Millisecond):
				}
				switch what {
				case 0:
					_ = cmd.Process.Signal(syscall.SIGSTOP)
					time.Sleep(time.Duration(500+chance.IntN(2500)) * time.Millisecond)
					_ = cmd.Process.Signal(syscall.SIGCONT)
					<-over
				case 1:
					_ = cmd.Process.Kill()
					<-over
				default:
					if cmd.ProcessState == nil {
						<-over
					}
				}
				saying.Lock()
				fmt.Fprintf(&said, "machine %d: apply %v: %d, %s\n%s\n", m, args, cmd.ProcessState.ExitCode(), []string{"stopped", "killed", ""}[what], out.String())
				saying.Unlock()
			}
		})
	}
	for began := time.Now(); time.Since(began) < 5*time.Second; {
		time.Sleep(time.Duration(rng.IntN(700)) * time.Millisecond)
		switch rng.IntN(3) {
		case 0:
			wire.pull(false, func() bool { return rng.IntN(2) == 0 })
		case 1:
			wire.pull(true, func() bool { return true })
			time.Sleep(time.Duration(rng.IntN(1200)) * time.Millisecond)
			wire.pull(false, func() bool { return false })
		}
	}
	close(ended)
	wait.Wait()
	done := false
	for n := 0; n < 8 && !done; n++ {
		time.Sleep(1100 * time.Millisecond)
		status, _ := run(2, "apply", id, "--yes")
		if status == 0 || n > 3 {
			if status, out := run(2, "draft", "--fetch"); status == 0 {
				done = strings.Contains(out, "0 changes")
			}
			id = newestPlan(t, machines[2])
		}
	}
	saying.Lock()
	defer saying.Unlock()
	h.mu.Lock()
	defer h.mu.Unlock()
	require.Empty(t, h.broken, "%s", said.String())
	require.True(t, done, "%s", said.String())
	for what, n := range h.moves {
		require.Equal(t, 1, n, "%s\n%s", what, said.String())
	}
	require.Len(t, h.moves, 4*5+2*(sailors-1), "%s", said.String())
	out, err := command(2, "log", "verify").CombinedOutput()
	require.NoError(t, err, "%s", out)
}

// newestPlan is the id of the plan that was written last.
func newestPlan(t *testing.T, dir string) (id string) {
	files, err := filepath.Glob(filepath.Join(dir, "plans", "*.json"))
	require.NoError(t, err)
	var newest time.Time
	for _, f := range files {
		info, err := os.Stat(f)
		require.NoError(t, err)
		if info.ModTime().After(newest) {
			newest, id = info.ModTime(), strings.TrimSuffix(filepath.Base(f), ".json")
		}
	}
	return id
}
