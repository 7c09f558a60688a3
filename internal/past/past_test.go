package past_test

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"pravet/internal/core/day"
	"pravet/internal/core/model"
	"pravet/internal/core/table"
	"pravet/internal/ledger"
	"pravet/internal/past"
)

func app() *model.App {
	a := &model.App{ID: "till", Match: "userName", Attrs: []model.Attr{{Name: "userName"}}}
	for i := range 6 {
		a.Things = append(a.Things, model.Thing{Kind: model.Role, Name: fmt.Sprint("role", i)})
	}
	a.Things[5].Implies = []int32{0}
	a.Index()
	return a
}

// accounts are those of names with a set of roles each.
func accounts(held map[string]uint8) *model.Accounts {
	out := &model.Accounts{Sets: model.NewSets(), Key: &table.Column{}, Attrs: make([]*table.Column, 1)}
	out.Attrs[0] = out.Key
	for name, roles := range held {
		var things []int32
		for t := range int32(6) {
			if roles&(1<<t) != 0 {
				things = append(things, t)
			}
		}
		out.Key.Append(name)
		out.States = append(out.States, model.Open)
		out.Held = append(out.Held, out.Sets.Of(things))
	}
	return out
}

func told(x *model.Accounts) (out []string) {
	for i := range x.Len() {
		roles := 0
		for _, t := range x.Sets.Members(x.Held[i]) {
			roles |= 1 << t
		}
		out = append(out, fmt.Sprint(x.Key.At(i), " ", roles))
	}
	slices.Sort(out)
	return out
}

// TestAPastDayIsAsItWasReplayed: 100 histories of exports that change a little from
// day to day, some of them seen late or twice, and of each ten days, against a plain
// list of all states.
func TestAPastDayIsAsItWasReplayed(t *testing.T) {
	type state struct {
		taken time.Time
		held  []string
	}
	for seed := range 100 {
		r := rand.New(rand.NewPCG(uint64(seed), 1))
		now := time.Date(2026, 1, 1, 8, 0, 0, 0, time.UTC)
		l, err := ledger.Open(t.TempDir(), ledger.Options{By: "Farah", Now: func() time.Time { return now }})
		require.NoError(t, err)
		a := app()
		held := map[string]uint8{}
		for i := range 20 {
			held[fmt.Sprint("user", i)] = uint8(r.IntN(64))
		}
		var all []state
		for range 1 + r.IntN(45) {
			now = now.Add(time.Duration(1+r.IntN(60)) * time.Hour)
			for range r.IntN(3) {
				held[fmt.Sprint("user", r.IntN(25))] = uint8(r.IntN(64))
			}
			if r.IntN(4) == 0 {
				delete(held, fmt.Sprint("user", r.IntN(25)))
			}
			x := accounts(held)
			digest, err := past.Keep(l, a, x)
			require.NoError(t, err)
			seen := ledger.Export{App: "till", TakenAt: now.Format(time.RFC3339), Held: digest, Digest: digest}
			taken := now
			switch r.IntN(3) {
			case 0: // read back after a run: whatever the export says, it is of now
				seen.TakenAt, seen.After = now.Add(-50*24*time.Hour).Format(time.RFC3339), "run-1"
			case 1: // an export that was taken some days ago
				taken = now.Add(-time.Duration(r.IntN(72)) * time.Hour)
				seen.TakenAt = taken.Format(time.RFC3339)
			}
			require.NoError(t, l.Append(ledger.Record{Kind: ledger.ExportSeen, Subject: "till", Body: seen}))
			all = append(all, state{taken, told(x)})
		}
		for n := range 10 {
			on := day.Of(time.Date(2025, 12, 25, 0, 0, 0, 0, time.UTC).Add(time.Duration(r.IntN(120*24)) * time.Hour))
			var want []string
			var at time.Time
			for _, s := range all { // the last of those that were taken last by then
				if day.Of(s.taken) <= on && (want == nil || !s.taken.Before(at)) {
					want, at = s.held, s.taken
				}
			}
			got, err := past.At(l, a, on)
			require.NoError(t, err)
			if want == nil {
				require.Nil(t, got)
				continue
			}
			require.Equal(t, want, told(got.Accounts), "seed %d, %s", seed, on)
			require.True(t, at.Equal(got.TakenAt))

			if n > 2 {
				continue
			}
			// Role 0 also comes with role 5.
			var sorted []state
			for _, s := range all {
				if day.Of(s.taken) <= on {
					sorted = append(sorted, s)
				}
			}
			slices.SortStableFunc(sorted, func(x, y state) int { return x.taken.Compare(y.taken) })
			has := func(s state, account string) bool {
				return slices.ContainsFunc(s.held, func(row string) bool {
					var name string
					var roles int
					_, err := fmt.Sscan(row, &name, &roles)
					require.NoError(t, err)
					return name == account && roles&(1|1<<5) != 0
				})
			}
			came := map[string]past.Came{}
			for i := range 25 {
				account := fmt.Sprint("user", i)
				if n := len(sorted) - 1; has(sorted[n], account) {
					for n > 0 && has(sorted[n-1], account) {
						n--
					}
					c := past.Came{Without: day.None, With: day.Of(sorted[n].taken)}
					if n > 0 {
						c.Without = day.Of(sorted[n-1].taken)
					}
					came[account] = c
				}
			}
			since, err := past.Since(l, a, 0, on, slices.Collect(maps.Keys(came)))
			require.NoError(t, err)
			require.Equal(t, came, since, "seed %d, %s", seed, on)
		}
		require.NoError(t, l.Close())
	}
}

// BenchmarkADay keeps what 100,000 accounts hold on a day on which one in a hundred
// has changed, and reports the bytes that this takes in the ledger.
func BenchmarkADay(b *testing.B) {
	l, err := ledger.Open(b.TempDir(), ledger.Options{By: "Farah", Now: time.Now})
	require.NoError(b, err)
	defer l.Close()
	a, r := app(), rand.New(rand.NewPCG(1, 2))
	names := make([]string, 100_000)
	roles := make([]uint8, len(names))
	for i := range names {
		names[i], roles[i] = fmt.Sprintf("user.%07d", i), uint8(r.IntN(64))
	}
	day := func() string {
		x := &model.Accounts{Sets: model.NewSets(), Key: &table.Column{}, Attrs: make([]*table.Column, 1)}
		x.Attrs[0] = x.Key
		for i, name := range names {
			if r.IntN(100) == 0 {
				roles[i] = uint8(r.IntN(64))
			}
			var things []int32
			for t := range int32(6) {
				if roles[i]&(1<<t) != 0 {
					things = append(things, t)
				}
			}
			x.Key.Append(name)
			x.States, x.Held = append(x.States, model.Open), append(x.Held, x.Sets.Of(things))
		}
		digest, err := past.Keep(l, a, x)
		require.NoError(b, err)
		require.NoError(
			b,
			l.Append(ledger.Record{Kind: ledger.ExportSeen, Subject: "till", Body: ledger.Export{Held: digest}}),
		)
		return digest
	}
	first, _, err := l.Kept(day())
	require.NoError(b, err)
	size := 0
	for b.Loop() {
		k, _, err := l.Kept(day())
		require.NoError(b, err)
		size += len(k.Data)
	}
	b.ReportMetric(float64(size)/float64(b.N), "bytes/day")
	b.ReportMetric(float64(len(first.Data)), "bytes/whole")
}
