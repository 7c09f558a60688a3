package prepare_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"pravet/internal/ledger"
	"pravet/internal/prepare"
)

// TestASuspiciousExportIsNoMeasure: neither it nor a roster that shrank becomes
// what the next one is compared with, until a run went by it.
func TestASuspiciousExportIsNoMeasure(t *testing.T) {
	l, err := ledger.Open(t.TempDir(), ledger.Options{By: "Farah", Now: time.Now})
	require.NoError(t, err)
	defer l.Close()
	seen := func(n int, suspect bool) ledger.Record {
		return ledger.Record{
			Kind:    ledger.ExportSeen,
			Subject: "tickets",
			Body:    ledger.Export{App: "tickets", Accounts: n, Suspect: suspect},
		}
	}
	drafted := func(n int, suspect bool) ledger.Record {
		return ledger.Record{
			Kind:    ledger.PlanDrafted,
			Subject: "p",
			Body:    ledger.Plan{Plan: "p", People: n, Suspect: suspect},
		}
	}
	for _, c := range []struct {
		record           ledger.Record
		accounts, people int
	}{
		{seen(40, false), 40, -1},
		{drafted(60, false), 40, 60},
		{seen(3, true), 40, 60},
		{drafted(5, true), 40, 60},
		{seen(41, false), 41, 60},
		{
			ledger.Record{
				Kind: ledger.RunStarted, Subject: "run-1", Body: ledger.Run{Run: "run-1", Plan: "p", People: 5},
			},
			41, 5,
		},
		{drafted(6, false), 41, 6},
	} {
		require.NoError(t, l.Append(c.record))
		accounts, people, err := prepare.Measures(l, "tickets")
		require.NoError(t, err)
		require.Equal(t, c.accounts, accounts)
		require.Equal(t, c.people, people)
	}
}
