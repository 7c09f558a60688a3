//go:build linux

package main_test

import (
	"bufio"
	"crypto/tls"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"pravet/internal/prepared"

	ber "github.com/go-asn1-ber/asn1-ber"
	"github.com/jackc/pgx/v5/pgproto3"
	"github.com/stretchr/testify/require"
)

// quotes are the ways in which a peer gives back what it was sent.
var quotes = map[string]func(secret string) string{
	"as it is": func(s string) string { return "bad credentials: pravet " + s },
	"Base64": func(s string) string {
		return "AUTH PLAIN " + base64.StdEncoding.EncodeToString([]byte("\x00pravet\x00"+s))
	},
	"URL":        func(s string) string { return "user=pravet&password=" + url.QueryEscape(s) },
	"a part":     func(s string) string { return "it begins with " + s[:12] + "..." },
	"in 5 MB":    func(s string) string { return strings.Repeat("no. ", 5<<18) + s },
	"5 MB of it": func(s string) string { return strings.Repeat(s, 5<<20/len(s)) },
	"a terminal": func(s string) string { return "\x1b[2J\x1b]0;" + s + "\x07" },
}

const told = "Sw0rdfish & herring+cod/42"

// TestNoPeerMakesASecretShow: whatever server is spoken to, and however it quotes what it was sent, no output and no
// file has a part of a secret, and what is said and recorded is short.
func TestNoPeerMakesASecretShow(t *testing.T) {
	cert, authority, err := prepared.Certificate()
	require.NoError(t, err)
	for peer, serve := range map[string]func(t *testing.T, quote func(string) string) (connect string){
		"scim": func(t *testing.T, quote func(string) string) string {
			s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				w.Header().Set("Content-Type", "application/scim+json")
				w.WriteHeader(http.StatusForbidden)
				_ = json.NewEncoder(w).Encode(map[string]string{
					"detail": quote(strings.TrimPrefix(r.Header.Get("Authorization"), "Bearer ")), "scimType": quote(told),
				})
			}))
			t.Cleanup(s.Close)
			return "  by: scim\n  url: " + s.URL + "\n  token: env:TOLD\n"
		},
		"ldap": func(t *testing.T, quote func(string) string) string {
			at := listening(t, func(conn net.Conn) { refuseBinds(conn, cert, quote) })
			return "  by: ldap\n  url: ldap://" + at + "\n  ca: ca.pem\n  user: cn=admin\n  password: env:TOLD\n" +
				"  people: ou=people\n  groups: ou=groups\n  roles: ou=roles\n" +
				"  block: {attribute: pwdAccountLockedTime, blocked: 000001010000Z}\n"
		},
		"postgres": func(t *testing.T, quote func(string) string) string {
			at := listening(t, func(conn net.Conn) { refuseLogins(conn, quote) })
			return "  by: postgres\n  url: postgres://" + at + "/postgres\n  user: keeper\n  password: env:TOLD\n"
		},
		"program": func(t *testing.T, quote func(string) string) string {
			dir := t.TempDir()
			require.NoError(t, os.WriteFile(filepath.Join(dir, "says"), []byte(quote(told)), 0o600))
			script := "import json, os, sys\nsays = open(sys.argv[1], newline='').read()\nfor line in sys.stdin:\n" +
				"  assert os.environ['TOLD'] and 'OTHER' not in os.environ\n  sys.stderr.write(says + '\\n')\n" +
				"  print(json.dumps({'id': json.loads(line)['id'], 'end': True, 'refused': says}), flush=True)\n"
			require.NoError(t, os.WriteFile(filepath.Join(dir, "p.py"), []byte(script), 0o600))
			return fmt.Sprintf("  by: program\n  run: [python3, %s, %s]\n  variables: [TOLD]\n",
				filepath.Join(dir, "p.py"), filepath.Join(dir, "says"))
		},
	} {
		for name, quote := range quotes {
			t.Run(peer+" quotes "+name, func(t *testing.T) {
				t.Parallel()
				connect := serve(t, quote)
				s := &yardServer{
					connect: connect + "  tries: 1\n", env: []string{"TOLD=" + told, "OTHER=of somebody else"},
				}
				repo := yardRepo(t, s)
				require.NoError(t, os.WriteFile(filepath.Join(repo, "ca.pem"), authority, 0o600))
				var said strings.Builder
				for _, args := range [][]string{{"fetch"}, {"fetch", "--check"}, {"draft", "--fetch"}} {
					status, out := s.run(t, repo, nil, args...)
					require.Equal(t, 1, status, "%v: %.500s", args, out)
					said.WriteString(out)
				}
				require.Contains(t, said.String(), "yard: ")
				noTrace(t, repo, said.String())
			})
		}
	}
	for name, quote := range quotes {
		t.Run("mail quotes "+name, func(t *testing.T) {
			t.Parallel()
			at := listening(t, func(conn net.Conn) { refuseMail(conn, quote) })
			hook := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				c, _, err := w.(http.Hijacker).Hijack()
				if err == nil {
					says := strings.NewReplacer("\n", " ", "\r", " ").Replace(
						quote(strings.TrimPrefix(r.Header.Get("Authorization"), "Bearer ")),
					)
					fmt.Fprintf(c, "HTTP/1.1 403 %s\r\nContent-Length: 0\r\n\r\n", says)
					c.Close()
				}
			}))
			defer hook.Close()
			s := &yardServer{connect: "  by: files\n", env: []string{"TOLD=" + told, "USER_OF=pravet"}}
			repo := yardRepo(t, s)
			for name, text := range map[string]string{
				"pravet.yaml": "organization: Marrowick Ferries\nguards: {exportAge: P10Y, suspensions: 100%, narrowing: 100%}\n" +
					"letters: {from: a@ferries.example, readers: [{who: administrators, to: [ops@ferries.example]}], by: [{smtp: \"" + at +
					"\", tls: none, user: \"env:USER_OF\", password: \"env:TOLD\"}, {webhook: \"" + hook.URL +
					"\", secret: \"env:TOLD\", token: \"env:TOLD\"}]}\n",
				"apps/yard.yaml": "app: yard\nconnect: {by: files}\nexport: {format: csv, path: exports/yard.csv, columns: {userName: Login, " +
					"active: State, groups: Groups, roles: Roles}}\nmatch: userName\ngroups: {crew: {}, deck: {}}\nroles: {lead: {}}\n",
				"exports/yard.csv": "Login,State,Groups,Roles\np01,true,deck,\n",
			} {
				require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(repo, name)), 0o755))
				require.NoError(t, os.WriteFile(filepath.Join(repo, name), []byte(text), 0o644))
			}
			status, out := s.run(t, repo, nil, "draft", "--out", "plan.json")
			require.Zero(t, status, out)
			status, out = s.run(t, repo, nil, "apply", "plan.json", "--yes")
			require.Zero(t, status, out)
			status, more := s.run(t, repo, nil, "letters", "--send")
			require.Equal(t, 1, status, more)
			require.Contains(t, more, "was not sent, and goes with the next: smtp "+at)
			require.Contains(t, more, "was not sent, and goes with the next: webhook ")
			_, record := s.run(t, repo, nil, "log", "--format", "json")
			noTrace(t, repo, out+more+record)
		})
	}
}

// TestNoPeerIsListenedToWithoutEnd: whatever a server goes on saying, it is refused before it fills the memory, and
// soon.
func TestNoPeerIsListenedToWithoutEnd(t *testing.T) {
	cert, authority, err := prepared.Certificate()
	require.NoError(t, err)
	endless := func(w io.Writer, text string) {
		for chunk := []byte(strings.Repeat(text, 1<<16/len(text))); ; {
			if _, err := w.Write(chunk); err != nil {
				return
			}
		}
	}
	secure := func(serve func(net.Conn)) string { // after StartTLS
		return listening(t, func(conn net.Conn) {
			p, err := ber.ReadPacket(conn)
			if err != nil || len(p.Children) < 2 {
				return
			}
			_, _ = conn.Write([]byte{
				0x30, 0x0c, 0x02, 0x01, byte(p.Children[0].Value.(int64)), 0x78, 0x07, 0x0a, 0x01, 0x00, 0x04, 0x00, 0x04, 0x00,
			})
			serve(tls.Server(conn, &tls.Config{Certificates: []tls.Certificate{cert}}))
		})
	}
	web := func(serve http.HandlerFunc) string {
		s := httptest.NewServer(serve)
		t.Cleanup(s.Close)
		return "  by: scim\n  url: " + s.URL + "\n  token: env:TOLD\n"
	}
	directory := func(at string) string {
		return "  by: ldap\n  url: ldap://" + at + "\n  ca: ca.pem\n  user: cn=admin\n  password: env:TOLD\n  people: ou=people\n" +
			"  groups: ou=groups\n  roles: ou=roles\n  block: {attribute: pwdAccountLockedTime, blocked: 000001010000Z}\n"
	}
	database := func(at string) string {
		return "  by: postgres\n  url: postgres://" + at + "/postgres\n  user: keeper\n  password: env:TOLD\n"
	}
	for name, connect := range map[string]string{
		"an endless body": web(func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "application/scim+json")
			endless(w, "[")
		}),
		"endless headers": web(func(w http.ResponseWriter, _ *http.Request) {
			c, _, err := w.(http.Hijacker).Hijack()
			if err == nil {
				defer c.Close()
				_, _ = io.WriteString(c, "HTTP/1.1 200 OK\r\n")
				endless(c, "X-More: x\r\n")
			}
		}),
		"a directory's packet of 2 GiB": directory(secure(func(conn net.Conn) {
			_, _ = conn.Write([]byte{0x30, 0x84, 0x7f, 0xff, 0xff, 0xff})
			endless(conn, "x")
		})),
		"a directory that babbles": directory(secure(func(conn net.Conn) { endless(conn, "0") })),
		"a directory without TLS": directory(
			listening(t, func(conn net.Conn) { endless(conn, "\x30\x84\x7f\xff\xff\xff") }),
		),
		"a database's message of 2 GiB": database(listening(t, func(conn net.Conn) {
			_, _ = conn.Write([]byte{'E', 0x7f, 0xff, 0xff, 0xff})
			endless(conn, "x")
		})),
		"a database that babbles":  database(listening(t, func(conn net.Conn) { endless(conn, "hello\n") })),
		"a program's endless line": "  by: program\n  run: [python3, -c, \"import sys\\nwhile True: sys.stdout.write('x'*65536)\"]\n",
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := &yardServer{connect: connect + "  tries: 1\n  timeout: 10s\n", env: []string{"TOLD=" + told}}
			repo := yardRepo(t, s)
			require.NoError(t, os.WriteFile(filepath.Join(repo, "ca.pem"), authority, 0o600))
			cmd := exec.Command(program, "fetch")
			cmd.Dir, cmd.Env = repo, append(append(os.Environ(), "HOME="+repo), s.env...)
			began := time.Now()
			out, err := cmd.CombinedOutput()
			require.Error(t, err)
			require.Equal(t, 1, cmd.ProcessState.ExitCode(), "%.1000s", out)
			require.Contains(t, string(out), "Not fetched: yard: ")
			require.Less(t, len(out), 2000)
			require.Less(t, time.Since(began), time.Minute)
			require.Less(t, cmd.ProcessState.SysUsage().(*syscall.Rusage).Maxrss, int64(700_000), "KiB")
		})
	}
}

// noTrace makes sure that no part of what is told to peers was said, or stands in a file, and that neither is long.
func noTrace(t *testing.T, repo, said string) {
	t.Helper()
	require.Less(t, len(said), 100_000)
	require.NotContains(t, said, "\x1b")
	var bad []string
	for _, form := range append(forms(told), base64.StdEncoding.EncodeToString([]byte("\x00pravet\x00" + told))[12:]) {
		for i := 0; i+10 <= len(form); i++ {
			bad = append(bad, form[i:i+10])
		}
	}
	for _, part := range bad {
		require.False(t, strings.Contains(said, part), "%q was said: %.3000s", part, said)
	}
	require.NoError(t, filepath.WalkDir(repo, func(path string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return err
		}
		data, err := os.ReadFile(path)
		require.Less(t, len(data), 1<<20, path)
		for _, part := range bad {
			require.False(t, strings.Contains(string(data), part), "%q is in %s", part, path)
		}
		return err
	}))
}

// listening serves connections until the test ends.
func listening(t *testing.T, serve func(net.Conn)) (at string) {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { listener.Close() })
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				_ = conn.SetDeadline(time.Now().Add(30 * time.Second))
				serve(conn)
			}()
		}
	}()
	return listener.Addr().String()
}

// refuseBinds is a directory that starts TLS, and refuses whoever signs in with what they have said.
func refuseBinds(conn net.Conn, cert tls.Certificate, quote func(string) string) {
	for {
		p, err := ber.ReadPacket(conn)
		if err != nil || len(p.Children) < 2 {
			return
		}
		id, op := p.Children[0].Value.(int64), p.Children[1]
		result := func(tag ber.Tag, code int64, says string) {
			out := ber.NewSequence("")
			out.AppendChild(ber.NewInteger(ber.ClassUniversal, ber.TypePrimitive, ber.TagInteger, id, ""))
			r := ber.Encode(ber.ClassApplication, ber.TypeConstructed, tag, nil, "")
			r.AppendChild(ber.NewInteger(ber.ClassUniversal, ber.TypePrimitive, ber.TagEnumerated, code, ""))
			r.AppendChild(ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, "", ""))
			r.AppendChild(ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, says, ""))
			out.AppendChild(r)
			_, _ = conn.Write(out.Bytes())
		}
		switch op.Tag {
		case 23: // extended request: StartTLS
			result(24, 0, "")
			conn = tls.Server(conn, &tls.Config{Certificates: []tls.Certificate{cert}})
		case 0: // bind
			result(1, 53, quote(op.Children[2].Data.String()))
		default:
			return
		}
	}
}

// refuseLogins is a PostgreSQL server that asks for a password, and quotes it.
func refuseLogins(conn net.Conn, quote func(string) string) {
	b := pgproto3.NewBackend(conn, conn)
	if _, err := b.ReceiveStartupMessage(); err != nil {
		return
	}
	b.Send(&pgproto3.AuthenticationCleartextPassword{})
	if b.Flush() != nil || b.SetAuthType(pgproto3.AuthTypeCleartextPassword) != nil {
		return
	}
	m, err := b.Receive()
	if p, ok := m.(*pgproto3.PasswordMessage); ok && err == nil {
		b.Send(&pgproto3.ErrorResponse{
			Severity: "FATAL", Code: "XX000", Message: quote(p.Password), Detail: quote(p.Password), Hint: quote(p.Password),
		})
		_ = b.Flush()
	}
}

// refuseMail is a mail server that refuses whoever signs in with what they have said.
func refuseMail(conn net.Conn, quote func(string) string) {
	say := func(text string) { _, _ = io.WriteString(conn, text+"\r\n") }
	say("220 mail")
	for in := bufio.NewScanner(conn); in.Scan(); {
		switch word, rest, _ := strings.Cut(in.Text(), " "); strings.ToUpper(word) {
		case "EHLO":
			say("250-mail\r\n250 AUTH PLAIN")
		case "AUTH":
			_, given, _ := strings.Cut(rest, " ")
			plain, _ := base64.StdEncoding.DecodeString(given)
			parts := strings.Split(string(plain), "\x00")
			say("535 " + strings.NewReplacer("\n", " ", "\r", " ").Replace(quote(parts[len(parts)-1])))
		case "QUIT":
			say("221 bye")
			return
		default:
			say("250 fine")
		}
	}
}
