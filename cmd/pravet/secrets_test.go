//go:build linux

package main_test

import (
	"bytes"
	"encoding/base64"
	"io/fs"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"pravet/internal/standin"
)

// TestSecretsLeaveNoTrace: wherever a secret comes from, and however it goes, it is in no
// output, no error, no file of the repository (plans, exports, ledger, log), and in no process's
// arguments.
func TestSecretsLeaveNoTrace(t *testing.T) {
	found := watchArguments(t, "told-to-all")
	require.NoError(t, exec.Command("sh", "-c", "sleep 0.2", "told-to-all").Run())
	require.NotEmpty(t, found(), "arguments are looked at")
	database := aDatabase(t)
	for name, open := range map[string]func(*testing.T) *yardServer{
		"scim":     func(t *testing.T) *yardServer { return scimYard(t, standin.Faults{}, "") },
		"ldap":     ldapYard,
		"postgres": func(t *testing.T) *yardServer { return postgresYard(t, database) },
	} {
		for _, way := range []string{"env", "file", "command"} {
			if name == "ldap" && way != "env" {
				continue // they come in one way for all connectors
			}
			t.Run(name+" by "+way, func(t *testing.T) {
				if name != "postgres" { // whose server is shared
					t.Parallel()
				}
				kept := filepath.Join(t.TempDir(), "secret")
				var variable, secret string
				k := &killing{open: func(t *testing.T) *yardServer {
					s := open(t)
					variable, secret, _ = strings.Cut(s.env[0], "=")
					require.NoError(t, os.WriteFile(kept, []byte(secret+"\n"), 0o600))
					if way != "env" {
						from := map[string]string{"file": "file:" + kept, "command": "command:cat " + kept}[way]
						s.connect = strings.ReplaceAll(s.connect, "env:"+variable, from)
						s.env = s.env[1:]
					}
					return s
				}}
				s, p, repo, id := k.begin(t)
				defer s.stop()
				const wrong = "wrong-and-told-to-nobody"
				found := watchArguments(t, secret, wrong)
				var said strings.Builder
				run := func(want int, args ...string) {
					status, out := s.run(t, repo, nil, args...)
					require.Equal(t, want, status, "%v: %s", args, out)
					said.WriteString(out)
				}
				run(0, "fetch", "--check")
				run(0, "fetch", "--format", "json")
				run(0, "show", id, "--full")
				run(0, "apply", id, "--yes")
				run(0, "log", "--format", "json")
				require.NoError(t, os.WriteFile(kept, []byte(wrong), 0o600))
				if way == "env" {
					s.env[0] = variable + "=" + wrong
				}
				run(1, "fetch")
				run(1, "fetch", "--check")
				run(1, "draft", "--fetch")
				require.NoError(t, p.listener.Close())
				run(1, "fetch")
				require.NoError(t, os.Chmod(kept, 0o644)) // others may read it
				if way == "file" {
					run(1, "fetch")
					require.True(t, strings.Contains(said.String(), "others may read this file"))
				}

				require.Empty(t, found(), "processes that have the secret as an argument")
				for _, bad := range forms(secret, wrong) {
					require.False(t, strings.Contains(said.String(), bad), "it was said")
					require.NoError(t, filepath.WalkDir(repo, func(path string, d fs.DirEntry, err error) error {
						if err != nil || !d.Type().IsRegular() {
							return err
						}
						data, err := os.ReadFile(path)
						require.False(t, bytes.Contains(data, []byte(bad)), path)
						return err
					}))
				}
			})
		}
	}
}

// forms are secrets in the forms in which they might be written somewhere.
func forms(secrets ...string) (out []string) {
	for _, s := range secrets {
		out = append(out, s, url.QueryEscape(s), url.PathEscape(s), base64.StdEncoding.EncodeToString([]byte(s)))
	}
	return out
}

// watchArguments looks at the arguments of all processes until it is asked which had a secret.
func watchArguments(t *testing.T, secrets ...string) (found func() []string) {
	t.Helper()
	end, ended := make(chan struct{}), make(chan []string, 1)
	go func() {
		var out []string
		for looks := 0; ; looks++ {
			select {
			case <-end:
				if looks == 0 {
					out = append(out, "nothing was looked at")
				}
				ended <- out
				return
			case <-time.After(3 * time.Millisecond):
			}
			files, _ := filepath.Glob("/proc/[0-9]*/cmdline")
			for _, file := range files {
				data, err := os.ReadFile(file)
				for _, s := range secrets {
					if err == nil && bytes.Contains(data, []byte(s)) {
						out = append(out, strings.ReplaceAll(string(data), "\x00", " "))
					}
				}
			}
		}
	}()
	return func() []string {
		close(end)
		return <-ended
	}
}
