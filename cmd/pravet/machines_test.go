//go:build unix

package main_test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"log"
	"maps"
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
	idle   []string       // requests that changed nothing: somebody else had done it
	broken []string
	pause  time.Duration
	slow   string // a side that takes ten times as long
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
		if side == h.slow {
			time.Sleep(9 * h.pause)
		}
		h.mu.Lock()
		defer h.mu.Unlock()
		before := h.holders(side)
		h.sides[side].ServeHTTP(w, r)
		after := h.holders(side)
		if maps.Equal(before, after) {
			h.idle = append(h.idle, side+" "+r.Method+" "+r.URL.Path)
		}
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
	from, to := seeds(t, 2)
	s := aDatabase(t)
	require.NoError(t, s.Run(context.Background(), "CREATE ROLE adder LOGIN PASSWORD 'let me add'"))
	for seed := from; seed < to; seed++ {
		t.Run(fmt.Sprint(seed), func(t *testing.T) { onMachines(t, s, seed) })
	}
}

// A fleet is three machines, with a clone and a home each, that share a record and two applications.
type fleet struct {
	*harbour
	t        *testing.T
	wire     *cable
	machines []string
	env      []string
	id       string // of the plan

	saying sync.Mutex
	said   bytes.Buffer
}

// newFleet makes one, with a plan that is drafted and accepted.
func newFleet(t *testing.T, s *standin.Database, schema string, pause time.Duration) *fleet {
	f := &fleet{t: t, env: []string{"LEDGER_PASSWORD=let me add", "OWNER=" + s.Password}}
	var addresses map[string]string
	f.harbour, addresses = newHarbour(t)
	f.pause = pause
	var address string
	f.wire, address = newCable(t, s.URL)
	origin := filepath.Join(t.TempDir(), "origin")
	files := harbourFiles(addresses)
	files["pravet.yaml"] += fmt.Sprintf("ledger: {url: %s, user: adder, password: env:LEDGER_PASSWORD, schema: %s}\n", address, schema)
	for name, text := range files {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(origin, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(origin, name), []byte(text), 0o644))
	}
	for range 3 {
		home := t.TempDir()
		out, err := exec.Command("cp", "-r", origin, filepath.Join(home, "repo")).CombinedOutput()
		require.NoError(t, err, "%s", out)
		f.machines = append(f.machines, filepath.Join(home, "repo"))
	}
	f.well(1, "ledger", "grant", "--run", "--user", s.User, "--password", "env:OWNER")
	f.well(2, "fetch", "south")
	f.well(1, "fetch", "north")
	f.well(1, "draft") // with what the other has fetched
	f.id = planOf(t, f.machines[1])
	f.well(0, "accept", f.id, "--because", "as agreed")
	return f
}

// command is a call on a machine, whose clock is an hour off from the next one's.
func (f *fleet) command(m int, args ...string) *exec.Cmd {
	cmd := exec.Command(program, append([]string{"--by", fmt.Sprint("machine ", m)}, args...)...)
	clock := time.Date(2026, 11, 24, 9, 0, 0, 0, time.UTC).Add(time.Duration(m-1) * time.Hour)
	cmd.Dir, cmd.Env = f.machines[m], append(os.Environ(), "HOME="+filepath.Dir(f.machines[m]), "NO_COLOR=1",
		"HARBOUR_TOKEN=open sesame", "TERM_OF_LEASE=1s", "CLOCK="+clock.Format(time.RFC3339))
	cmd.Env = append(cmd.Env, f.env...)
	return cmd
}

// tell keeps what a call said, for when something goes wrong.
func (f *fleet) tell(m int, args []string, status int, how, out string) {
	f.saying.Lock()
	defer f.saying.Unlock()
	fmt.Fprintf(&f.said, "machine %d: %v: %d %s\n%s\n", m, args, status, how, out)
}

func (f *fleet) run(m int, args ...string) (status int, out string) {
	cmd := f.command(m, args...)
	data, _ := cmd.CombinedOutput() // the status tells
	status = cmd.ProcessState.ExitCode()
	f.tell(m, args, status, "", string(data))
	return status, string(data)
}

func (f *fleet) well(m int, args ...string) string {
	f.t.Helper()
	status, out := f.run(m, args...)
	require.Zero(f.t, status, "%v: %s", args, out)
	return out
}

// ends makes sure that all is done, each thing once, and that nothing was ever broken.
func (f *fleet) ends() {
	f.t.Helper()
	f.saying.Lock()
	defer f.saying.Unlock()
	f.mu.Lock()
	defer f.mu.Unlock()
	require.Empty(f.t, f.broken, "%s", f.said.String())
	for what, n := range f.moves {
		require.Equal(f.t, 1, n, "%s\n%s", what, f.said.String())
	}
	// A machine that is stopped between its last look at its lease and the request does what nobody wants any more, once.
	require.LessOrEqual(f.t, len(f.idle), 1, "%v\n%s", f.idle, f.said.String())
	require.Len(f.t, f.moves, 4*5+2*(sailors-1), "%s", f.said.String())
	out, err := f.command(2, "log", "verify").CombinedOutput()
	require.NoError(f.t, err, "%s", out)
}

// TestTwoMachinesWaitForEachOther: each carries out one application, at the same time, and what needs something in the other
// waits until that is settled: after both, everything is done.
func TestTwoMachinesWaitForEachOther(t *testing.T) {
	s := aDatabase(t)
	require.NoError(t, s.Run(context.Background(), "CREATE ROLE adder LOGIN PASSWORD 'let me add'"))
	f := newFleet(t, s, "pair", 20*time.Millisecond)
	f.slow = "south"
	var wait sync.WaitGroup
	for m, app := range []string{"north", "south"} {
		wait.Go(func() {
			status, out := f.run(m, "apply", f.id, "--app", app)
			if status != 0 || !strings.Contains(out, "25 changes settled, 0 not settled") {
				t.Errorf("%s ended with %d: %s", app, status, out)
			}
		})
	}
	wait.Wait()
	f.ends()
	require.Contains(t, f.said.String(), "waiting for what is needed there")
	require.Contains(t, f.well(2, "draft", "--fetch"), "0 changes")
}

func onMachines(t *testing.T, s *standin.Database, seed int) {
	rng := rand.New(rand.NewPCG(uint64(seed), 2323))
	f := newFleet(t, s, fmt.Sprintf("m%d", seed), time.Duration(rng.IntN(60))*time.Millisecond)

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
				cmd := f.command(m, append([]string{"apply", f.id, "--yes"}, args...)...)
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
				f.tell(m, args, cmd.ProcessState.ExitCode(), []string{"stopped", "killed", ""}[what], out.String())
			}
		})
	}
	for began := time.Now(); time.Since(began) < 5*time.Second; {
		time.Sleep(time.Duration(rng.IntN(700)) * time.Millisecond)
		switch rng.IntN(3) {
		case 0:
			f.wire.pull(false, func() bool { return rng.IntN(2) == 0 })
		case 1:
			f.wire.pull(true, func() bool { return true })
			time.Sleep(time.Duration(rng.IntN(1200)) * time.Millisecond)
			f.wire.pull(false, func() bool { return false })
		}
	}
	close(ended)
	wait.Wait()
	id, done := f.id, false
	for n := 0; n < 8 && !done; n++ {
		time.Sleep(1100 * time.Millisecond)
		status, _ := f.run(2, "apply", id, "--yes")
		if status == 0 || n > 3 {
			if status, out := f.run(2, "draft", "--fetch"); status == 0 {
				done = strings.Contains(out, "0 changes")
			}
			id = newestPlan(t, f.machines[2])
		}
	}
	require.True(t, done, "%s", f.said.String())
	f.ends()
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
