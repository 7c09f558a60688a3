//go:build unix

package ledger_test

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"pravet/internal/ledger"
)

// TestNobodyWhoAddsCanChange: the database itself keeps whoever may add to a record from anything else.
func TestNobodyWhoAddsCanChange(t *testing.T) {
	opt := shared(t)
	l, err := ledger.Open(t.TempDir(), opt)
	require.NoError(t, err)
	require.NoError(t, l.Append(seen("tickets", 41)))
	require.NoError(t, l.Close())
	for _, sql := range []string{
		`UPDATE %s.entries SET by = 'x'`, `DELETE FROM %s.entries`, `TRUNCATE %s.entries`, `DROP TABLE %s.entries`,
		`UPDATE %s.kept SET base = ''`, `DELETE FROM %s.about`, `UPDATE %s.book SET version = 9`, `DELETE FROM %s.lease`,
		`ALTER TABLE %s.entries DISABLE TRIGGER ALL`,
	} {
		out := refused(t, opt, fmt.Sprintf(sql, opt.Server.Schema))
		require.Regexp(t, "permission denied|must be owner", out, sql)
	}
}

// refused runs SQL as the user of a record, which must fail.
func refused(t *testing.T, opt ledger.Options, sql string) string {
	s := database(t)
	password, err := opt.Server.Password(context.Background())
	require.NoError(t, err)
	cmd := psqlAs(opt.Server.User, password, sql, s.URL)
	out, err := cmd.CombinedOutput()
	require.Error(t, err, "%s: %s", sql, out)
	return string(out)
}

// TestARecordThatCannotBeUsedSaysWhy: each with what to do.
func TestARecordThatCannotBeUsedSaysWhy(t *testing.T) {
	for name, x := range map[string]struct {
		spoil func(t *testing.T, o *ledger.Options)
		says  []string
	}{
		"made by nobody": {
			func(_ *testing.T, o *ledger.Options) { o.Server.Schema = "nothing" }, []string{"there is no record yet", "pravet ledger grant"},
		},
		"of a newer program": {func(t *testing.T, o *ledger.Options) {
			psql(t, fmt.Sprintf(`UPDATE %s.book SET version = 2`, o.Server.Schema))
		}, []string{"of form 2", "use the newer one"}},
		"of another organization": {
			func(_ *testing.T, o *ledger.Options) { o.Server.Organization = "Skerry Freight" },
			[]string{`the record of "Marrowick Ferries"`, "another schema"},
		},
		"read and no more": {func(t *testing.T, o *ledger.Options) {
			psql(t, fmt.Sprintf(`REVOKE %s_writer FROM %s; GRANT %[1]s_reader TO %[2]s`, o.Server.Schema, o.Server.User))
		}, []string{"may read the record and not add to it", "pravet ledger grant"}},
		"closed to this user": {func(t *testing.T, o *ledger.Options) {
			psql(t, fmt.Sprintf(`REVOKE %s_writer FROM %s`, o.Server.Schema, o.Server.User))
		}, []string{"may not read the record", "pravet ledger grant"}},
		"with another password": {func(_ *testing.T, o *ledger.Options) {
			o.Server.Password = func(context.Context) (string, error) { return "another", nil }
		}, []string{"does not accept the user", "or the password"}},
		"in no database": {
			func(_ *testing.T, o *ledger.Options) {
				o.Server.URL = strings.Replace(o.Server.URL, "/postgres", "/nowhere", 1)
			},
			[]string{"there is no such database"},
		},
		"where nobody answers": {
			func(_ *testing.T, o *ledger.Options) { o.Server.URL = "postgres://127.0.0.1:1/postgres" },
			[]string{"cannot be reached", "connection refused", "Nothing is decided or carried out"},
		},
		"without an address": {
			func(_ *testing.T, o *ledger.Options) { o.Server.URL = "postgres://127.0.0.1" }, []string{"write it like postgres://"},
		},
		"beside a file with entries": {func(t *testing.T, o *ledger.Options) {}, []string{"1 entries of its own", "pravet ledger move"}},
	} {
		t.Run(name, func(t *testing.T) {
			opt, dir := shared(t), t.TempDir()
			if strings.HasPrefix(name, "beside") {
				require.NoError(t, open(t, dir).Append(seen("tickets", 1)))
			}
			x.spoil(t, &opt)
			began := time.Now()
			_, err := ledger.Open(dir, opt)
			require.Error(t, err)
			for _, says := range x.says {
				require.ErrorContains(t, err, says)
			}
			require.NotContains(t, err.Error(), "let me add")
			require.Less(t, time.Since(began), 5*time.Second)
		})
	}
	t.Run("read-only", func(t *testing.T) {
		opt := shared(t)
		psql(t, fmt.Sprintf(`ALTER ROLE %s SET default_transaction_read_only = on`, opt.Server.User))
		l, err := ledger.Open(t.TempDir(), opt)
		require.NoError(t, err)
		require.ErrorContains(t, l.Append(seen("tickets", 1)), "read-only")
		require.Empty(t, scanned(t, l, ledger.Query{}))
		require.NoError(t, l.Close())
	})
	t.Run("as its owner", func(t *testing.T) {
		opt := shared(t)
		psql(t, fmt.Sprintf(`GRANT %s_owner TO %s`, opt.Server.Schema, opt.Server.User))
		var warned string
		opt.Server.Warn = func(text string) { warned = text }
		l, err := ledger.Open(t.TempDir(), opt)
		require.NoError(t, err)
		require.NoError(t, l.Close())
		require.Contains(t, warned, "owns the tables of the record")
	})
}

// TestARecordThatWasCutIsNoticed: by whoever has added to it, whatever an owner of the tables does.
func TestARecordThatWasCutIsNoticed(t *testing.T) {
	opt, dir := shared(t), t.TempDir()
	opt.Heads = t.TempDir()
	l, err := ledger.Open(dir, opt)
	require.NoError(t, err)
	require.NoError(t, l.Append(seen("tickets", 1), seen("tickets", 2), seen("tickets", 3)))
	psql(t, fmt.Sprintf(`UPDATE %s.entries SET by = 'somebody else' WHERE seq = 2`, opt.Server.Schema))
	v, err := l.Verify()
	require.NoError(t, err)
	require.Equal(t, int64(2), v.Broken)
	require.ErrorContains(t, l.Scan(ledger.Query{}, func(*ledger.Entry) error { return nil }), "entry 2 of the ledger was changed")
	require.NoError(t, l.Close())
	psql(t, fmt.Sprintf(`DELETE FROM %s.entries WHERE seq > 1`, opt.Server.Schema))
	l, err = ledger.Open(dir, opt)
	require.NoError(t, err)
	require.ErrorContains(t, l.Append(seen("tickets", 4)), "entries were taken away")
	require.NoError(t, l.Close())
}

// TestARecordMoves: from the file into the database and back, entry by entry, and the one that it left goes on no more.
func TestARecordMoves(t *testing.T) {
	opt, dir := shared(t), t.TempDir()
	l := open(t, dir)
	require.NoError(t, l.Append(seen("tickets", 1), ledger.Record{Kind: ledger.Decided, Subject: "p1", Body: ledger.Decision{
		Plan: "p1", Verdict: "reject", Changes: []string{"c1"}, People: []string{"E1"}, Because: "no",
	}}))
	require.NoError(t, l.Keep(ledger.Kept{Digest: "d1", Data: []byte{0, 1, 2, 255}}))
	before := scanned(t, l, ledger.Query{})
	require.NoError(t, l.Close())

	m, err := ledger.MoveIn(dir, opt)
	require.NoError(t, err)
	require.Equal(t, int64(3), m.Head.Seq)
	require.Equal(t, 1, m.Kept)
	_, err = ledger.MoveIn(dir, opt) // once more does nothing
	require.NoError(t, err)

	old, err := ledger.Open(dir, ledger.Options{By: "Farah Linden", Now: clock})
	require.NoError(t, err)
	require.ErrorContains(t, old.Append(seen("tickets", 2)), "the record was moved to postgres://")
	require.ErrorContains(t, old.Cut(), "pravet ledger move --back")
	require.NoError(t, old.Close())

	l, err = ledger.Open(dir, opt)
	require.NoError(t, err)
	require.NoError(t, l.Append(seen("tickets", 2)))
	require.Equal(t, before, scanned(t, l, ledger.Query{})[:2])
	require.Len(t, scanned(t, l, ledger.Query{Person: "E1"}), 1)
	k, ok, err := l.Kept("d1")
	require.NoError(t, err)
	require.True(t, ok)
	require.Equal(t, []byte{0, 1, 2, 255}, k.Data)
	require.NoError(t, l.Close())

	m, err = ledger.MoveBack(dir, opt)
	require.NoError(t, err)
	require.Equal(t, int64(5), m.Head.Seq)
	_, err = ledger.Open(dir, opt)
	require.ErrorContains(t, err, "the record was moved to "+filepath.Join(dir, ledger.Folder, ledger.File))
	l = open(t, dir)
	require.NoError(t, l.Append(seen("tickets", 3)))
	v, err := l.Verify()
	require.NoError(t, err)
	require.Zero(t, v.Broken, v.Says)
	require.Equal(t, int64(6), v.Entries)
	require.Len(t, scanned(t, l, ledger.Query{Change: "c1"}), 1)
}

// TestTwoRecordsDoNotBecomeOne: what has entries of its own takes no others in.
func TestTwoRecordsDoNotBecomeOne(t *testing.T) {
	opt, dir := shared(t), t.TempDir()
	l, err := ledger.Open(t.TempDir(), opt)
	require.NoError(t, err)
	require.NoError(t, l.Append(seen("berths", 1)))
	require.NoError(t, l.Close())
	l = open(t, dir)
	require.NoError(t, l.Append(seen("tickets", 1)))
	_, err = ledger.MoveIn(dir, opt)
	require.ErrorContains(t, err, "two records cannot become one")
	require.NoError(t, l.Append(seen("tickets", 2)), "the file goes on as before")
}

// TestALeaseEndsWithWhoeverHoldsIt: nobody else has the application meanwhile; who is away for longer than it lasts finds
// that out before it goes on, and can record no step any more; and each who comes later has a greater number.
func TestALeaseEndsWithWhoeverHoldsIt(t *testing.T) {
	opt := shared(t)
	opt.Server.Term = time.Second
	cut := newCutter(t, opt.Server.URL)
	away := opt
	server := *opt.Server
	server.URL = cut.address
	away.By, away.Server = "Runa Skerry", &server
	first, err := ledger.Open(t.TempDir(), away)
	require.NoError(t, err)
	second, err := ledger.Open(t.TempDir(), opt)
	require.NoError(t, err)
	held, err := first.Lease([]string{"tickets", "rosters"}, "apply p1")
	require.NoError(t, err)
	_, err = second.Lease([]string{"berths", "tickets"}, "apply p2")
	var leased *ledger.Leased
	require.ErrorAs(t, err, &leased)
	require.Equal(t, "Runa Skerry", leased.Holder.By)
	require.Contains(t, leased.Error(), "is at work in tickets")
	require.NotNil(t, second.Holder("tickets"))
	require.Nil(t, second.Holder("berths"), "what was taken before was given back")
	time.Sleep(1500 * time.Millisecond)
	require.NoError(t, held.Holds("tickets"), "it is renewed")

	step := ledger.Record{Kind: ledger.StepTaken, Subject: "run-1", Body: ledger.Step{Run: "run-1", App: "tickets", Lease: held.Number("tickets")}}
	require.NoError(t, held.Append([]string{"tickets"}, nil, step))
	require.ErrorIs(t, held.Append([]string{"tickets"}, &ledger.Query{Kinds: []ledger.Kind{ledger.StepTaken}, Others: "run-2"}, step),
		ledger.ErrOvertaken)
	require.NoError(t, held.Append([]string{"tickets"}, &ledger.Query{Kinds: []ledger.Kind{ledger.StepTaken}, After: 1}, seen("rosters", 1)))
	// Nothing of the first reaches the server any more, until its time is over and another is at work.
	cut.after = false
	stop := make(chan bool)
	go func() {
		for {
			select {
			case <-stop:
				return
			default:
				cut.at.Store(cut.sent.Load() + 1)
				time.Sleep(time.Millisecond)
			}
		}
	}()
	var next ledger.Lease
	require.Eventually(t, func() bool {
		next, err = second.Lease([]string{"tickets"}, "apply p2")
		return err == nil
	}, 10*time.Second, 50*time.Millisecond)
	close(stop)
	cut.at.Store(0)
	require.Greater(t, next.Number("tickets"), held.Number("tickets"))
	var lost *ledger.Lost
	require.ErrorAs(t, held.Holds("tickets"), &lost)
	require.Equal(t, "Farah Linden", lost.By.By)
	require.ErrorAs(t, held.Append([]string{"tickets"}, nil, step), &lost)
	require.Len(t, scanned(t, second, ledger.Query{}), 2)
	require.NoError(t, held.Release(), "which takes nothing away from who has it now")
	require.NoError(t, next.Holds("tickets"))
	require.NoError(t, next.Release())
	require.Nil(t, first.Holder())
	require.NoError(t, first.Close())
	require.NoError(t, second.Close())
}

// TestNothingIsLeftOnAConnection: a pooler in transaction mode gives each transaction another one.
func TestNothingIsLeftOnAConnection(t *testing.T) {
	opt := shared(t)
	l, err := ledger.Open(t.TempDir(), opt)
	require.NoError(t, err)
	lease, err := l.Lease([]string{"tickets"}, "apply p1")
	require.NoError(t, err)
	for n := range 5 {
		require.NoError(t, l.Append(seen("tickets", n)))
		psql(t, fmt.Sprintf(`SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE usename = '%s'`, opt.Server.User))
		require.NoError(t, lease.Holds("tickets"))
		require.Len(t, scanned(t, l, ledger.Query{}), n+1)
	}
	require.Empty(t, psql(t, `SELECT objid FROM pg_locks WHERE locktype = 'advisory'`), "no lock outlives its transaction")
	require.NoError(t, lease.Release())
	require.NoError(t, l.Close())
}

// BenchmarkFiveThousandOutcomes records what became of 5,000 changes, as a run of small steps does, in a file and in a
// database on this machine.
func BenchmarkFiveThousandOutcomes(b *testing.B) {
	file, err := ledger.Open(b.TempDir(), ledger.Options{By: "Farah", Now: time.Now})
	require.NoError(b, err)
	base, err := ledger.Open(b.TempDir(), shared(b))
	require.NoError(b, err)
	for name, l := range map[string]ledger.Ledger{"file": file, "database": base} {
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				for part := range 50 {
					var records []ledger.Record
					for i := range 100 {
						id := fmt.Sprintf("c%07d", part*100+i)
						records = append(records, ledger.Record{Kind: ledger.Outcome, Subject: "run-1", Body: ledger.ChangeOutcome{
							Run: "run-1", Plan: "p", Change: id, Person: fmt.Sprintf("E%05d", i), What: "Give E0001 the group crew", Settled: true,
						}})
					}
					require.NoError(b, l.Append(records...))
				}
			}
		})
		require.NoError(b, l.Close())
	}
}
