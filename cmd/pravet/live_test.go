//go:build unix

package main_test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"log"
	"net"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"pravet/internal/standin"
)

// A yardServer is a server that the built program reaches, in the state that yardRepo
// expects.
type yardServer struct {
	connect string          // of the application's file, with ADDRESS for where it is
	address string          // host and port, "" for a program
	env     []string        // what the program needs to reach it
	log     func() []string // what really happened to it, each change as one text
	stop    func()
}

// The yard has twenty people. The plan has sixty changes: eight accounts to create, with a
// group and a role each; eight to update; ten to move from one group to another, of which six
// get a role; and two to suspend.
const (
	yardPeople  = 20
	yardThere   = 12
	yardUpdates = 8
	yardChanges = 60
)

func yardName(i int) string { return fmt.Sprintf("p%02d", i) }

// yardShown is the display name that an account has before the plan.
func yardShown(i int) string {
	if i <= yardUpdates {
		return "Old name"
	}
	return fmt.Sprintf("Person %d", i)
}

// yardRepo is a repository with the yard as its only application.
func yardRepo(t *testing.T, s *yardServer) string {
	t.Helper()
	dir := t.TempDir()
	var people strings.Builder
	people.WriteString("id,userName,displayName,title,ends\n")
	for i := 1; i <= yardPeople; i++ {
		title, ends := "", ""
		if i <= 6 || i > yardThere {
			title = "Lead"
		}
		if i == 11 || i == 12 {
			ends = "2026-01-31"
		}
		fmt.Fprintf(&people, "%d,%s,Person %d,%s,%s\n", i, yardName(i), i, title, ends)
	}
	for name, text := range map[string]string{
		"pravet.yaml": "organization: Marrowick Ferries\nguards: {exportAge: P10Y, suspensions: 100%, narrowing: 100%, " +
			"exportShrink: 100%, removals: 100}\n",
		"people/all.csv": people.String(),
		"kits/all.yaml": "kits:\n  all: {everyone: true, gives: {yard: {groups: [crew]}}}\n" +
			"  leads: {for: 'title eq \"Lead\"', gives: {yard: {roles: [lead]}}}\n",
		"apps/yard.yaml": "app: yard\nconnect:\n" + s.connect + "match: userName\n" +
			"account: {userName: userName, displayName: displayName}\ngroups: {crew: {}, deck: {}}\nroles: {lead: {}}\n" +
			"protect: [keeper]\n",
	} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	return dir
}

// at names the address in the repository's file.
func at(t *testing.T, repo string, s *yardServer, address string) {
	t.Helper()
	text := strings.ReplaceAll(s.connect, "ADDRESS", address)
	file := filepath.Join(repo, "apps", "yard.yaml")
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	from, to := strings.Index(string(data), "connect:\n"), strings.Index(string(data), "match:")
	require.NoError(t, os.WriteFile(file, []byte(string(data[:from])+"connect:\n"+text+string(data[to:])), 0o644))
}

// run runs the built program in a repository.
func (s *yardServer) run(t *testing.T, repo string, env []string, args ...string) (status int, out string) {
	t.Helper()
	cmd := exec.Command(program, args...)
	cmd.Dir = repo
	cmd.Env = slices.Concat(os.Environ(), []string{"HOME=" + repo, "NO_COLOR=1"}, s.env, env)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	var b bytes.Buffer
	cmd.Stdout, cmd.Stderr, cmd.WaitDelay = &b, &b, time.Second
	err := cmd.Run()
	if cmd.ProcessState == nil {
		require.NoError(t, err)
	}
	_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) // what it has started
	return cmd.ProcessState.ExitCode(), b.String()
}

// draft fetches, drafts, and returns the plan's id and how many changes it has.
func (s *yardServer) draft(t *testing.T, repo string) (id string, changes int) {
	t.Helper()
	status, out := s.run(t, repo, nil, "draft", "--fetch")
	require.Zero(t, status, out)
	_, err := fmt.Sscanf(out[strings.Index(out, "Plan "):], "Plan %s", &id)
	require.NoError(t, err, out)
	for line := range strings.Lines(out) {
		count, _, _ := strings.Cut(strings.TrimSpace(line), ":")
		if n, ok := strings.CutSuffix(strings.TrimSuffix(count, "s"), " change"); ok {
			changes, err = strconv.Atoi(n)
			require.NoError(t, err, out)
			return id, changes
		}
	}
	t.Fatalf("no count of changes: %s", out)
	return "", 0
}

// scimYard is the yard as a stand-in plays it.
func scimYard(t *testing.T, faults standin.Faults, more string) *yardServer {
	t.Helper()
	out, s := scimYardFaults(t, more)
	s.SetFaults(faults)
	return out
}

// scimYardFaults is the same, with the stand-in to be given faults later.
func scimYardFaults(t *testing.T, more string) (*yardServer, *standin.Server) {
	t.Helper()
	s, err := standin.New(standin.Options{Token: "open sesame"})
	require.NoError(t, err)
	var crew, deck []string
	for i := 1; i <= yardThere; i++ {
		id := s.AddUser(map[string]any{"userName": yardName(i), "displayName": yardShown(i), "active": true})
		if i <= 10 {
			deck = append(deck, id)
		} else {
			crew = append(crew, id)
		}
	}
	s.AddGroup("crew", crew...)
	s.AddGroup("deck", deck...)
	web := httptest.NewServer(s)
	web.Config.ErrorLog = log.New(io.Discard, "", 0) // connections that are dropped on purpose
	return &yardServer{
		connect: "  by: scim\n  url: http://ADDRESS\n  token: env:YARD_TOKEN\n  batch: 30\n  settle: 300ms\n" + more,
		address: web.Listener.Addr().String(), env: []string{"YARD_TOKEN=open sesame"},
		log: s.Log, stop: web.Close,
	}, s
}

// ldapYard is the yard in a real directory.
func ldapYard(t *testing.T) *yardServer {
	t.Helper()
	var b strings.Builder
	b.WriteString(
		"dn: dc=marrowick,dc=example\nobjectClass: organization\nobjectClass: dcObject\no: Marrowick Ferries\n" +
			"dc: marrowick\n",
	)
	for _, branch := range []string{"people", "groups", "roles"} {
		fmt.Fprintf(
			&b,
			"\ndn: ou=%s,dc=marrowick,dc=example\nobjectClass: organizationalUnit\nou: %s\n",
			branch,
			branch,
		)
	}
	members := map[string]string{}
	for i := 1; i <= yardThere; i++ {
		dn := "uid=" + yardName(i) + ",ou=people,dc=marrowick,dc=example"
		fmt.Fprintf(
			&b,
			"\ndn: %s\nobjectClass: inetOrgPerson\nuid: %s\ncn: x\nsn: x\ndisplayName: %s\n",
			dn,
			yardName(i),
			yardShown(i),
		)
		list := "crew"
		if i <= 10 {
			list = "deck"
		}
		members[list] += "member: " + dn + "\n"
	}
	for _, list := range []string{"cn=crew,ou=groups", "cn=deck,ou=groups", "cn=lead,ou=roles"} {
		name := list[3:7]
		fmt.Fprintf(
			&b,
			"\ndn: %s,dc=marrowick,dc=example\nobjectClass: groupOfNames\ncn: %s\nmember: cn=admin,dc=marrowick,dc=example\n%s",
			list,
			name,
			members[name],
		)
	}
	folder := t.TempDir()
	s, err := standin.StartDirectory(context.Background(), folder, "dc=marrowick,dc=example", b.String())
	require.NoError(t, err)
	_, port, err := net.SplitHostPort(strings.TrimPrefix(s.URL, "ldap://"))
	require.NoError(t, err)
	return &yardServer{
		connect: "  by: ldap\n  url: ldap://ADDRESS\n  user: cn=admin,dc=marrowick,dc=example\n" +
			"  password: env:YARD_PASSWORD\n" +
			"  ca: ca.pem\n  people: ou=people,dc=marrowick,dc=example\n  groups: ou=groups,dc=marrowick,dc=example\n" +
			"  roles: ou=roles,dc=marrowick,dc=example\n  block: {attribute: pwdAccountLockedTime, blocked: 000001010000Z}\n" +
			"  batch: 30\n  settle: 300ms\n",
		address: "127.0.0.1:" + port, env: []string{"YARD_PASSWORD=" + s.Password, "CA=" + s.CA},
		log:  func() []string { return ldifChanges(t, s.Log) },
		stop: func() { require.NoError(t, s.Stop()) },
	}
}

// ldifChanges are the changes that a directory has noted (RFC 2849), each value as one.
func ldifChanges(t *testing.T, file string) (out []string) {
	t.Helper()
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	dn, kind, op := "", "", ""
	for line := range strings.Lines(strings.ReplaceAll(string(data), "\n ", "")) {
		key, value, _ := strings.Cut(strings.TrimSpace(line), ": ")
		switch key {
		case "dn":
			dn, op = value, ""
		case "changetype":
			if kind = value; kind != "modify" {
				out = append(out, kind+" "+dn)
			}
		case "add", "delete", "replace":
			op = key
		case "member", "displayName", "pwdAccountLockedTime":
			if kind == "modify" {
				out = append(out, op+" "+dn+" "+value)
			}
		}
	}
	return out
}

// aDatabase is a PostgreSQL server until a test or a benchmark ends.
func aDatabase(t testing.TB) *standin.Database {
	t.Helper()
	folder, err := os.MkdirTemp("", "pravet-pg-") // whose folders other users may enter
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, os.RemoveAll(folder)) })
	s, err := standin.StartDatabase(context.Background(), folder)
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, s.Stop()) })
	return s
}

// postgresYard is the yard as roles of a real server, which several tests may share.
func postgresYard(t *testing.T, s *standin.Database) *yardServer {
	t.Helper()
	var sql strings.Builder
	for i := 1; i <= yardPeople; i++ {
		fmt.Fprintf(&sql, "DROP ROLE IF EXISTS %s;", yardName(i))
	}
	sql.WriteString("DROP ROLE IF EXISTS crew, deck, lead; CREATE ROLE crew; CREATE ROLE deck; CREATE ROLE lead;")
	for i := 1; i <= yardThere; i++ {
		list := "crew"
		if i <= 10 {
			list = "deck"
		}
		fmt.Fprintf(&sql, "CREATE ROLE %s LOGIN; COMMENT ON ROLE %s IS '%s'; GRANT %s TO %s;",
			yardName(i), yardName(i), yardShown(i), list, yardName(i))
	}
	require.NoError(t, s.Run(context.Background(), sql.String()))
	before := len(s.Statements())
	return &yardServer{
		connect: "  by: postgres\n  url: postgres://ADDRESS/postgres\n  user: keeper\n" +
			"  password: env:YARD_PASSWORD\n  batch: 30\n  settle: 300ms\n",
		address: strings.TrimSuffix(strings.TrimPrefix(s.URL, "postgres://"), "/postgres"),
		env:     []string{"YARD_PASSWORD=" + s.Password},
		log: func() (out []string) {
			for _, text := range s.Statements()[before:] {
				verb, names, ok := strings.Cut(text, " TO ")
				if !ok {
					verb, names, ok = strings.Cut(text, " FROM ")
				}
				if ok && !strings.Contains(text, "COMMENT") && !strings.Contains(text, "; ") {
					for _, name := range strings.Split(names, ", ") {
						out = append(out, verb+" "+name)
					}
				} else {
					out = append(out, strings.Split(text, "; ")...)
				}
			}
			return out
		},
		stop: func() {},
	}
}

// programYard is the yard behind the example program, and a program between that counts.
func programYard(t *testing.T) *yardServer {
	t.Helper()
	dir := t.TempDir()
	var b strings.Builder
	for i := 1; i <= yardThere; i++ {
		list := "crew"
		if i <= 10 {
			list = "deck"
		}
		fmt.Fprintf(&b, `,"%s":{"attributes":{"displayName":"%s"},"group":["%s"]}`, yardName(i), yardShown(i), list)
	}
	state, log := filepath.Join(dir, "yard.json"), filepath.Join(dir, "log")
	require.NoError(t, os.WriteFile(state, []byte("{"+b.String()[1:]+"}"), 0o600))
	between, err := filepath.Abs("testdata/between.py")
	require.NoError(t, err)
	example, err := filepath.Abs("../../examples/program/accounts.py")
	require.NoError(t, err)
	return &yardServer{
		connect: fmt.Sprintf(
			"  by: program\n  run: [python3, %s, %s, python3, %s, %s]\n  variables: [KILL_ASK, KILL_AFTER, ASKED_LINES]\n  batch: 30\n  settle: 300ms\n",
			between,
			log,
			example,
			state,
		),
		log: func() []string {
			data, err := os.ReadFile(log)
			if err != nil {
				return nil
			}
			return strings.Split(strings.TrimSpace(string(data)), "\n")
		},
		stop: func() {},
	}
}

// A proxy passes bytes on to a server, counts the pieces that come from the client, and
// kills the client at one of them: before the server sees it, or after the server has
// answered and before the client sees that.
type proxy struct {
	listener net.Listener
	to       string

	mu     sync.Mutex
	pieces int
	killAt int
	after  bool
	kill   func()
}

func newProxy(t *testing.T, to string) *proxy {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	p := &proxy{listener: l, to: to}
	go func() {
		for {
			client, err := l.Accept()
			if err != nil {
				return
			}
			go p.pass(client)
		}
	}()
	t.Cleanup(func() { l.Close() })
	return p
}

func (p *proxy) pass(client net.Conn) {
	defer client.Close()
	server, err := net.Dial("tcp", p.to)
	if err != nil {
		return
	}
	defer server.Close()
	var dead bool
	answered := make(chan struct{}, 1)
	go func() {
		buf := make([]byte, 64<<10)
		for {
			n, err := server.Read(buf)
			if err != nil {
				client.Close()
				return
			}
			p.mu.Lock()
			mute := dead
			p.mu.Unlock()
			if mute {
				select {
				case answered <- struct{}{}:
				default:
				}
				continue
			}
			if _, err := client.Write(buf[:n]); err != nil {
				return
			}
		}
	}()
	buf := make([]byte, 64<<10)
	for {
		n, err := client.Read(buf)
		if err != nil {
			return
		}
		p.mu.Lock()
		p.pieces++
		now := p.pieces == p.killAt
		dead = dead || now
		after := p.after
		p.mu.Unlock()
		if now && !after {
			p.kill()
			return
		}
		if _, err := server.Write(buf[:n]); err != nil {
			return
		}
		if now {
			select {
			case <-answered:
			case <-time.After(300 * time.Millisecond):
			}
			p.kill()
			return
		}
	}
}
