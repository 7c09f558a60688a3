package ledger_test

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"pravet/internal/ledger"
	"pravet/internal/standin"
)

func clock() time.Time { return time.Date(2026, 11, 24, 9, 0, 0, 0, time.UTC) }

func open(t *testing.T, dir string) ledger.Ledger {
	l, err := ledger.Open(dir, ledger.Options{By: "Farah Linden", Now: clock})
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	return l
}

// TestMain ends the server that tests have started.
func TestMain(m *testing.M) {
	code := m.Run()
	if running.server != nil {
		_ = running.server.Stop() // its folder goes
		_ = os.RemoveAll(running.folder)
	}
	os.Exit(code)
}

var running struct {
	once   sync.Once
	server *standin.Database
	folder string
	err    error
	schema atomic.Int64
}

// database is a server that all tests share.
func database(t testing.TB) *standin.Database {
	running.once.Do(func() {
		if running.folder, running.err = os.MkdirTemp("", "pravet-ledger-"); running.err == nil {
			running.server, running.err = standin.StartDatabase(context.Background(), running.folder)
		}
	})
	require.NoError(t, running.err)
	return running.server
}

// at says how a server keeps a record, in a schema.
func at(s *standin.Database, user, password, schema string) *ledger.Server {
	return &ledger.Server{
		URL: s.URL, User: user, Schema: schema, Organization: "Marrowick Ferries",
		Password: func(context.Context) (string, error) { return password, nil },
	}
}

// shared makes a record of its own in the database, and gives what opens it: as a user who may only add to it.
func shared(t testing.TB) ledger.Options {
	s := database(t)
	schema := fmt.Sprintf("t%d", running.schema.Add(1))
	user := "adder_" + schema
	psql(t, fmt.Sprintf(`CREATE ROLE %s LOGIN PASSWORD 'let me add'`, user))
	server := at(s, user, "let me add", schema)
	as := *server
	as.Password = func(context.Context) (string, error) { return s.Password, nil }
	require.NoError(t, ledger.RunGrant(ledger.Options{Server: &as}, s.User))
	return ledger.Options{By: "Farah Linden", Now: clock, Server: server}
}

// psql runs SQL as the server's own user.
func psql(t testing.TB, sql string) string {
	s := database(t)
	out, err := psqlAs(s.User, s.Password, sql, s.URL).CombinedOutput()
	require.NoError(t, err, "%s", out)
	return strings.TrimSpace(string(out))
}

func psqlAs(user, password, sql, address string) *exec.Cmd {
	cmd := exec.Command("psql", "-X", "-A", "-t", "-q", "-v", "ON_ERROR_STOP=1", "-c", sql, strings.Replace(address, "://", "://"+user+"@", 1))
	cmd.Env = append(os.Environ(), "PGPASSWORD="+password)
	return cmd
}

// both calls f with each way of keeping a record: open opens it once more, as somebody.
func both(t *testing.T, f func(t *testing.T, open func(by string) (ledger.Ledger, error))) {
	t.Run("file", func(t *testing.T) {
		dir := t.TempDir()
		f(t, func(by string) (ledger.Ledger, error) { return ledger.Open(dir, ledger.Options{By: by, Now: clock}) })
	})
	t.Run("database", func(t *testing.T) {
		opt, dir := shared(t), t.TempDir()
		f(t, func(by string) (ledger.Ledger, error) {
			o := opt
			o.By = by
			return ledger.Open(dir, o)
		})
	})
}

func scanned(t *testing.T, l ledger.Ledger, q ledger.Query) (entries []*ledger.Entry) {
	require.NoError(t, l.Scan(q, func(e *ledger.Entry) error { entries = append(entries, e); return nil }))
	return entries
}

func seen(app string, accounts int) ledger.Record {
	return ledger.Record{Kind: ledger.ExportSeen, Subject: app, Body: ledger.Export{App: app, Accounts: accounts}}
}

func TestEntriesComeBackAndAreChained(t *testing.T) {
	both(t, func(t *testing.T, open func(string) (ledger.Ledger, error)) {
		l, err := open("Farah Linden")
		require.NoError(t, err)
		require.NoError(t, l.Append(seen("tickets", 41), seen("berths", 7)))
		require.NoError(t, l.Append(seen("tickets", 42)))
		require.NoError(t, l.Close())

		l, err = open("Farah Linden")
		require.NoError(t, err)
		var last ledger.Export
		ok, err := l.Last(ledger.ExportSeen, "tickets", &last)
		require.NoError(t, err)
		require.True(t, ok)
		require.Equal(t, 42, last.Accounts)
		ok, err = l.Last(ledger.RunStarted, "", &last)
		require.NoError(t, err)
		require.False(t, ok)
		entries := scanned(t, l, ledger.Query{})
		require.Len(t, entries, 3)
		for i, e := range entries {
			require.Equal(t, int64(i+1), e.Seq)
			require.Equal(t, "Farah Linden", e.By)
			require.Equal(t, "2026-11-24T09:00:00Z", e.At)
			if i > 0 {
				require.Equal(t, entries[i-1].Hash, e.Prev)
			}
		}
		v, err := l.Verify()
		require.NoError(t, err)
		require.Equal(t, &ledger.Verdict{Entries: 3, Head: entries[2].Hash}, v)
		require.NoError(t, l.Close())
	})
}

// TestAQueryFindsTheSameInBoth: entries at random are asked for in every way, of both at once.
func TestAQueryFindsTheSameInBoth(t *testing.T) {
	rng := rand.New(rand.NewPCG(23, 1))
	one := func(from ...string) string { return from[rng.IntN(len(from))] }
	opt := shared(t)
	inFile := open(t, t.TempDir())
	inBase, err := ledger.Open(t.TempDir(), opt)
	require.NoError(t, err)
	for range 60 {
		var records []ledger.Record
		for range 1 + rng.IntN(30) {
			switch rng.IntN(3) {
			case 0:
				records = append(records, seen(one("tickets", "berths", "it's"), rng.IntN(50)))
			case 1:
				id := one("p1", "p2", "p%")
				records = append(records, ledger.Record{Kind: ledger.Decided, Subject: id, Body: ledger.Decision{
					Plan: id, Verdict: "reject", Changes: []string{one("c1", "c2"), one("c3", "c4")}, People: []string{one("E1", "E2", "Zoë")},
					Because: one("it is \"right\"", "Ærø\n\\ \u2028", "null \x00 byte"),
				}})
			default:
				records = append(records, ledger.Record{Kind: ledger.Outcome, Subject: one("run-1", "run-2"), Body: ledger.ChangeOutcome{
					Plan: one("p1", "p2"), Change: one("c1", "c2", "c3"), Person: one("", "E1", "E2"), Settled: rng.IntN(2) == 0,
				}})
			}
		}
		require.NoError(t, inFile.Append(records...))
		require.NoError(t, inBase.Append(records...))
	}
	for range 300 {
		q := ledger.Query{Newest: rng.IntN(2) == 0}
		if rng.IntN(2) == 0 {
			q.Kinds = []ledger.Kind{ledger.Kind(one("export", "decision", "outcome")), ledger.Kind(one("export", "run"))}
		}
		if rng.IntN(3) == 0 {
			q.Subject = one("tickets", "it's", "run-1", "p1", "p%", "nobody")
		}
		if rng.IntN(3) == 0 {
			q.Plan = one("p1", "p%", "p9")
		}
		if rng.IntN(3) == 0 {
			q.Person = one("E1", "Zoë", "E9")
		}
		if rng.IntN(3) == 0 {
			q.Change = one("c1", "c4", "c9")
		}
		if rng.IntN(3) == 0 {
			q.After, q.Others = int64(rng.IntN(900)), one("", "tickets", "run-1")
		}
		require.Equal(t, scanned(t, inFile, q), scanned(t, inBase, q), "%+v", q)
	}
	ours, err := inFile.Verify()
	require.NoError(t, err)
	theirs, err := inBase.Verify()
	require.NoError(t, err)
	require.Equal(t, ours, theirs)
	require.NoError(t, inBase.Close())
}

// TestSeveralProgramsAppendAtOnce: the chain stays whole, whoever adds to it, and every run has a name of its own.
func TestSeveralProgramsAppendAtOnce(t *testing.T) {
	both(t, func(t *testing.T, open func(string) (ledger.Ledger, error)) {
		var wait sync.WaitGroup
		errs := make([]error, 20)
		var names sync.Map
		for i := range errs {
			wait.Go(func() {
				l, err := open(fmt.Sprint("user ", i))
				if err != nil {
					errs[i] = err
					return
				}
				for n := range 25 {
					if n%5 == 0 {
						name, err := l.Begin(ledger.Run{Plan: "p1"})
						if _, twice := names.LoadOrStore(name, i); twice {
							err = fmt.Errorf("%s was given twice", name)
						}
						errs[i] = errors.Join(errs[i], err)
						continue
					}
					var some []ledger.Record
					for range 25 {
						some = append(some, seen("tickets", n))
					}
					errs[i] = errors.Join(errs[i], l.Append(some...))
				}
				errs[i] = errors.Join(errs[i], l.Close())
			})
		}
		wait.Wait()
		require.NoError(t, errors.Join(errs...))
		l, err := open("Farah Linden")
		require.NoError(t, err)
		v, err := l.Verify()
		require.NoError(t, err)
		require.Zero(t, v.Broken, v.Says)
		require.Equal(t, int64(20*(5+20*25)), v.Entries)
		require.NoError(t, l.Close())
	})
}

func TestADamagedLedgerIsNeverWrittenOver(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, ledger.Folder, ledger.File)
	require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
	require.NoError(t, os.WriteFile(file, []byte("this is no database, and long enough to be one"), 0o644))
	_, err := ledger.Open(dir, ledger.Options{By: "x", Now: clock})
	require.ErrorContains(t, err, "the ledger cannot be used")
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Equal(t, "this is no database, and long enough to be one", string(data))
}

// BenchmarkOpen opens a ledger of a million entries, in a file and in a database, asks for one change among
// them, and closes it: nothing reads them all.
func BenchmarkOpen(b *testing.B) {
	for name, opt := range map[string]ledger.Options{"file": {By: "Farah", Now: time.Now}, "database": shared(b)} {
		dir := b.TempDir()
		l, err := ledger.Open(dir, opt)
		require.NoError(b, err)
		records := make([]ledger.Record, 50_000)
		for part := range 20 {
			for i := range records {
				id := fmt.Sprintf("c%07d", part*len(records)+i)
				records[i] = ledger.Record{
					Kind:    ledger.Outcome,
					Subject: "run-1",
					Body:    ledger.ChangeOutcome{Run: "run-1", Plan: "p", Change: id, Settled: true},
				}
			}
			require.NoError(b, l.Append(records...))
		}
		require.NoError(b, l.Close())
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				l, err := ledger.Open(dir, opt)
				require.NoError(b, err)
				found := 0
				require.NoError(b, l.Scan(
					ledger.Query{Kinds: []ledger.Kind{ledger.Outcome}, Change: "c0777777"}, func(*ledger.Entry) error {
						found++
						return nil
					}))
				require.Equal(b, 1, found)
				require.NoError(b, l.Close())
			}
		})
	}
}
