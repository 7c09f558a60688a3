//go:build unix

package main_test

import (
	"cmp"
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"pravet/internal/standin"
)

// TestAServerThatRestartsIsWaitedFor: a directory or a database that is restarted in the middle of a run, in half a
// second or in three, leaves no change undone and does none twice.
func TestAServerThatRestartsIsWaitedFor(t *testing.T) {
	for _, kind := range []string{"ldap", "postgres"} {
		for n, pause := range []time.Duration{0, 500 * time.Millisecond, 3 * time.Second} {
			if kind == "postgres" && n == 0 {
				continue
			}
			t.Run(fmt.Sprintf("%s after %s", kind, pause), func(t *testing.T) {
				t.Parallel()
				w := drawWorld(uint64(40 + n))
				var p *peer
				var restart func(context.Context, time.Duration) error
				if kind == "ldap" {
					var stop func()
					var s *standin.Directory
					p, s, stop = ldapPeerOf(t, w, directory{})
					t.Cleanup(stop)
					restart = s.Restart
				} else {
					for i := range w.people {
						w.people[i].is.Email, w.people[i].due.Email = "", ""
					}
					s := startDatabase(t, n == 1)
					p = databasePeer(t, w, database{Newest: n == 1, Rule: "named"}, s)
					restart = s.Restart
				}
				p.server.connect += "  batch: 4\n  parallel: 1\n  rate: 25\n"
				repo := w.repo(t, p.server.connect, cmp.Or(p.attrs, ", email: email"))
				authority(t, p, repo)
				id, changes := p.server.draft(t, repo)
				ended := make(chan string, 1)
				go func() {
					status, out := p.server.run(t, repo, nil, "apply", id, "--yes")
					ended <- fmt.Sprintf("status %d\n%s", status, out)
				}()
				time.Sleep(time.Duration(60+40*n) * time.Millisecond)
				require.NoError(t, restart(context.Background(), pause))
				out := <-ended
				require.Contains(t, out, "status 0", out)
				require.Contains(t, out, fmt.Sprintf("%d changes settled, 0 not settled", changes), out)
				if pause > time.Second {
					require.Contains(t, out, "; waiting for up to ")
				}
				after, _ := p.read()
				for _, m := range w.people {
					if m.due.There {
						require.Equal(t, m.due, after[m.name], out)
					}
				}
				require.Equal(t, 1, strings.Count(out, "On record"))
			})
		}
	}
}
