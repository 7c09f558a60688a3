package ledger_test

import (
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"pravet/internal/ledger"
)

func clock() time.Time { return time.Date(2026, 11, 24, 9, 0, 0, 0, time.UTC) }

func open(t *testing.T, dir string) ledger.Ledger {
	l, err := ledger.Open(dir, ledger.Options{By: "Farah Linden", Now: clock})
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	return l
}

func TestEntriesComeBackAndAreChained(t *testing.T) {
	dir := t.TempDir()
	l := open(t, dir)
	require.NoError(t, l.Append(
		ledger.Record{Kind: ledger.ExportSeen, Subject: "tickets", Body: ledger.Export{App: "tickets", Accounts: 41}},
		ledger.Record{Kind: ledger.ExportSeen, Subject: "berths", Body: ledger.Export{App: "berths", Accounts: 7}}))
	require.NoError(
		t,
		l.Append(ledger.Record{
			Kind:    ledger.ExportSeen,
			Subject: "tickets",
			Body:    ledger.Export{App: "tickets", Accounts: 42},
		}),
	)
	require.NoError(t, l.Close())

	l = open(t, dir)
	var last ledger.Export
	ok, err := l.Last(ledger.ExportSeen, "tickets", &last)
	require.NoError(t, err)
	require.True(t, ok)
	require.Equal(t, 42, last.Accounts)
	ok, err = l.Last(ledger.RunStarted, "", &last)
	require.NoError(t, err)
	require.False(t, ok)
	var entries []*ledger.Entry
	require.NoError(t, l.Scan(ledger.Query{}, func(e *ledger.Entry) error { entries = append(entries, e); return nil }))
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
}

// TestSeveralProgramsAppendAtOnce: the chain stays whole.
func TestSeveralProgramsAppendAtOnce(t *testing.T) {
	dir := t.TempDir()
	open(t, dir)
	var wait sync.WaitGroup
	errs := make([]error, 4)
	for i := range errs {
		wait.Go(func() {
			l, err := ledger.Open(dir, ledger.Options{By: fmt.Sprint("user ", i), Now: clock})
			if err != nil {
				errs[i] = err
				return
			}
			defer l.Close()
			for range 20 {
				if err := l.Append(ledger.Record{Kind: ledger.RunStarted, Subject: "run", Body: ledger.Run{Run: "run"}}); err != nil {
					errs[i] = err
				}
			}
		})
	}
	wait.Wait()
	for _, err := range errs {
		require.NoError(t, err)
	}
	v, err := open(t, dir).Verify()
	require.NoError(t, err)
	require.Zero(t, v.Broken, v.Says)
	require.Equal(t, int64(80), v.Entries)
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

// BenchmarkOpen opens a ledger of a million entries, asks for one change among
// them, and closes it: nothing reads them all.
func BenchmarkOpen(b *testing.B) {
	dir := b.TempDir()
	opt := ledger.Options{By: "Farah", Now: time.Now}
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
	for b.Loop() {
		l, err := ledger.Open(dir, opt)
		require.NoError(b, err)
		found := 0
		require.NoError(
			b,
			l.Scan(ledger.Query{Kinds: []ledger.Kind{ledger.Outcome}, Change: "c0777777"}, func(*ledger.Entry) error {
				found++
				return nil
			}),
		)
		require.Equal(b, 1, found)
		require.NoError(b, l.Close())
	}
}
