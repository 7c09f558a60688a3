//go:build unix

package ledger_test

import (
	"fmt"
	"math/rand/v2"
	"net"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"pravet/internal/ledger"
)

// A cutter stands between a program and a server. The nth time that the program sends something it cuts them off from each
// other: before the server has it, or after, so that no answer comes back.
type cutter struct {
	address string
	at      atomic.Int64 // 0 for never
	after   bool
	sent    atomic.Int64
}

func newCutter(t *testing.T, to string) *cutter {
	u, err := url.Parse(to)
	require.NoError(t, err)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { listener.Close() })
	host := u.Host
	u.Host = listener.Addr().String()
	c := &cutter{address: u.String()}
	go func() {
		for {
			in, err := listener.Accept()
			if err != nil {
				return
			}
			out, err := net.Dial("tcp", host)
			if err != nil {
				in.Close()
				continue
			}
			var dumb atomic.Bool
			go func() {
				defer in.Close()
				defer out.Close()
				buf := make([]byte, 64<<10)
				for {
					n, err := in.Read(buf)
					if err != nil {
						return
					}
					hit := c.sent.Add(1) == c.at.Load()
					if hit && !c.after {
						return
					}
					dumb.Store(hit)
					if _, err := out.Write(buf[:n]); err != nil {
						return
					}
					if hit {
						time.Sleep(100 * time.Millisecond) // the server does what it was told, and nobody hears
						return
					}
				}
			}()
			go func() {
				defer in.Close()
				buf := make([]byte, 64<<10)
				for {
					n, err := out.Read(buf)
					if err != nil {
						return
					}
					if dumb.Load() {
						continue
					}
					if _, err := in.Write(buf[:n]); err != nil {
						return
					}
				}
			}()
		}
	}()
	return c
}

// TestAnEntryIsThereOnce: cut off at every message to the server, before it or after it, whatever is recorded is recorded
// once, in one chain.
func TestAnEntryIsThereOnce(t *testing.T) {
	for _, after := range []bool{false, true} {
		t.Run(map[bool]string{false: "before", true: "after"}[after], func(t *testing.T) {
			opt := shared(t)
			straight, err := ledger.Open(t.TempDir(), opt)
			require.NoError(t, err)
			cut := newCutter(t, opt.Server.URL)
			cut.after, opt.Server.URL = after, cut.address
			want := 0
			for at := int64(1); ; at++ {
				cut.sent.Store(0)
				cut.at.Store(at)
				l, err := ledger.Open(t.TempDir(), opt)
				require.NoError(t, err)
				lease, err := l.Lease([]string{"tickets"}, "apply p1")
				require.NoError(t, err, "cut at %d", at)
				run, err := l.Begin(ledger.Run{Plan: "p1"})
				require.NoError(t, err, "cut at %d", at)
				require.Equal(t, fmt.Sprintf("run-%d", at), run)
				require.NoError(t, lease.Append([]string{"tickets"}, nil, seen("tickets", int(at)), seen("berths", int(at))), "cut at %d", at)
				require.NoError(t, lease.Release())
				require.NoError(t, l.Keep(ledger.Kept{Digest: fmt.Sprint(at), Data: []byte("x")}))
				all := scanned(t, l, ledger.Query{})
				want += 3
				require.Len(t, all, want, "cut at %d", at)
				require.NoError(t, l.Close())
				if cut.sent.Load() < at {
					require.Greater(t, at, int64(12), "too little was sent for this to be a test")
					break
				}
			}
			v, err := straight.Verify()
			require.NoError(t, err)
			require.Zero(t, v.Broken, v.Says)
			require.Equal(t, int64(want), v.Entries)
			require.NoError(t, straight.Close())
		})
	}
}

// TestAServerThatIsKilledLosesNothing: a process of the server is killed by SIGKILL again and again while four add entries;
// it starts anew from its log. Each entry that was taken is there once.
func TestAServerThatIsKilledLosesNothing(t *testing.T) {
	opt := shared(t)
	ended := make(chan bool)
	var wait sync.WaitGroup
	var taken [4]int
	for i := range taken {
		wait.Go(func() {
			o := opt
			o.By = fmt.Sprint("user ", i)
			l, err := ledger.Open(t.TempDir(), o)
			if err != nil {
				t.Error(err)
				return
			}
			defer l.Close()
			for {
				select {
				case <-ended:
					return
				default:
				}
				if err := l.Append(seen(fmt.Sprintf("%d-%d", i, taken[i]), taken[i])); err != nil {
					t.Error(err)
					return
				}
				taken[i]++
			}
		})
	}
	rng := rand.New(rand.NewPCG(23, 2))
	killed := 0
	for range 6 {
		time.Sleep(time.Duration(100+rng.IntN(400)) * time.Millisecond)
		pids := strings.Fields(psql(t, fmt.Sprintf(`SELECT pid FROM pg_stat_activity WHERE usename = '%s'`, opt.Server.User)))
		if len(pids) == 0 {
			continue
		}
		pid, err := strconv.Atoi(pids[rng.IntN(len(pids))])
		require.NoError(t, err)
		if syscall.Kill(pid, syscall.SIGKILL) == nil {
			killed++
		}
		require.Eventually(t, func() bool {
			out, err := psqlAs(database(t).User, database(t).Password, "SELECT 1", database(t).URL).Output()
			return err == nil && strings.TrimSpace(string(out)) == "1"
		}, 20*time.Second, 100*time.Millisecond)
	}
	close(ended)
	wait.Wait()
	require.Greater(t, killed, 2)
	l, err := ledger.Open(t.TempDir(), opt)
	require.NoError(t, err)
	v, err := l.Verify()
	require.NoError(t, err)
	require.Zero(t, v.Broken, v.Says)
	times := map[string]int{}
	for _, e := range scanned(t, l, ledger.Query{}) {
		times[e.Subject]++
	}
	for i, n := range taken {
		require.Positive(t, n)
		for k := range n {
			require.Equal(t, 1, times[fmt.Sprintf("%d-%d", i, k)], "entry %d of user %d", k, i)
		}
	}
	require.NoError(t, l.Close())
}

// TestAMoveThatWasCutOffGoesOn: at whichever message; moved again, by whatever address, the record is there as a whole.
func TestAMoveThatWasCutOffGoesOn(t *testing.T) {
	failed := 0
	for at := int64(1); ; at++ {
		opt, dir := shared(t), t.TempDir()
		l := open(t, dir)
		for i := range 5 {
			require.NoError(t, l.Append(seen("tickets", i), seen("berths", i)))
		}
		require.NoError(t, l.Keep(ledger.Kept{Digest: "d", Data: []byte("x")}))
		require.NoError(t, l.Close())
		straight := *opt.Server
		cut := newCutter(t, opt.Server.URL)
		cut.after = at%2 == 0
		cut.at.Store(at)
		opt.Server.URL = cut.address
		_, err := ledger.MoveIn(dir, opt)
		if err != nil {
			failed++
		}
		sent := cut.sent.Load()
		opt.Server = &straight
		_, err = ledger.MoveIn(dir, opt)
		require.NoError(t, err, "at %d", at)
		l, err = ledger.Open(dir, opt)
		require.NoError(t, err)
		require.Len(t, scanned(t, l, ledger.Query{}), 11, "at %d", at)
		v, err := l.Verify()
		require.NoError(t, err)
		require.Zero(t, v.Broken)
		_, ok, err := l.Kept("d")
		require.NoError(t, err)
		require.True(t, ok)
		require.NoError(t, l.Close())
		if sent < at {
			break
		}
	}
	require.Positive(t, failed)
}
