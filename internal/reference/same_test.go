package reference

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"pravet/internal/carry"
	"pravet/internal/core/access"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/core/report"
	"pravet/internal/ledger"
)

// TestTheSameQuestionHasTheSameAnswer asks each command's question of small worlds: holders, seats, lists and
// reports count what the rows hold, and why says of each person what the plan is about to do.
func TestTheSameQuestionHasTheSameAnswer(t *testing.T) {
	each(t, 150, asked)
}

// asked returns where two answers about one world differ.
func asked(t *testing.T, seed uint64) string {
	b := open(t, seed, func(w *world) {
		if seed%2 == 0 {
			w.guarded(rand.New(rand.NewPCG(seed, 14)))
		}
	})
	defer b.close()
	v := b.state(t).View(b.day)
	p := b.draft(t)
	said := ""
	for n := range b.apps {
		said += b.counted(t, v, &b.apps[n])
	}
	return said + b.explained(v, p)
}

// counted compares what is said of an application's accounts with its rows.
func (b *bench) counted(t *testing.T, v *access.View, a *app) (said string) {
	at := slices.IndexFunc(v.Apps, func(x *model.App) bool { return x.ID == a.id })
	require.GreaterOrEqual(t, at, 0)
	used := map[int32]int{}
	for _, s := range v.Seats() {
		if s.App == at {
			used[s.Thing] = s.Used
		}
	}
	for n := range v.Apps[at].Things {
		thing := &v.Apps[at].Things[n]
		key := thing.Kind.String() + "/" + thing.Name
		var want []string
		for _, r := range a.rows {
			if slices.Contains(a.along(r.held), key) {
				want = append(want, b.called(a, r))
			}
		}
		var is []string
		for _, h := range v.Holders(model.AppThing{App: at, Thing: int32(n)}, true) {
			is = append(is, h.Account)
		}
		slices.Sort(want)
		slices.Sort(is)
		if d := differ(want, is); d != "" {
			said += fmt.Sprintf("holders of %s/%s:\n%s", a.id, key, d)
		}
		if thing.Kind == model.License && used[int32(n)] != len(want) {
			said += fmt.Sprintf("seats of %s/%s: %d, and %d rows have it\n", a.id, key, used[int32(n)], len(want))
		}
	}
	listed := 0
	rows := v.Rows("accounts")
	for i := range rows.Len {
		if slices.Equal(rows.Values(i, "app"), []string{a.id}) {
			listed++
		}
	}
	if listed != len(a.rows) {
		said += fmt.Sprintf("list accounts of %s: %d, and there are %d rows\n", a.id, listed, len(a.rows))
	}
	return said
}

// called is what an account is called in answers: accounts that have no value to be matched by go by their
// own name.
func (b *bench) called(a *app, r row) string {
	if r.lost {
		return r.user
	}
	return a.account(r)
}

// explained compares what why says of each person with the plan's changes: whatever a change gives is to come,
// and what it takes is to go.
func (b *bench) explained(v *access.View, p *plan.Plan) (said string) {
	for n := range v.People.Len() {
		id := v.People.Get(n, "id")
		states := map[string]string{}
		var take func(items []access.Item)
		take = func(items []access.Item) {
			for _, x := range items {
				if states[x.Thing] == "" || x.State != access.NotDue {
					states[x.Thing] = x.State
				}
				take(x.Brings)
			}
		}
		answer := v.Why(n, nil)
		for _, k := range answer.Kits {
			take(k.Gives)
		}
		take(answer.Others)
		take(answer.Defaults)
		for i := range p.Changes {
			c := &p.Changes[i]
			if c.Person != id || c.Thing == nil || c.Second || c.Stays {
				continue
			}
			want := access.ToGo
			if c.Verb.Deed().Gains {
				want = access.ToCome
			}
			if is := states[c.Address().String()]; is != want {
				said += fmt.Sprintf("why %s: %s %s is %q, and the plan is to %s it\n", id, c.App, c.Address(), is, c.Verb)
			}
		}
	}
	return said
}

// The reports' own counts are of the same rows.
func TestReportsCountTheRowsThatThereAre(t *testing.T) {
	each(t, 100, func(t *testing.T, seed uint64) string {
		b := open(t, seed, func(*world) {})
		defer b.close()
		v := b.state(t).View(b.day)
		want := 0
		for i := range b.apps {
			a := &b.apps[i]
			for _, r := range a.rows {
				if !slices.ContainsFunc(b.people, func(p person) bool {
					return !r.lost && strings.EqualFold(a.accountOf(&p), a.account(r))
				}) {
					want++
				}
			}
		}
		got := 0
		for range report.Named("strays").Of(&report.Input{View: v}).Rows {
			got++
		}
		if got != want {
			return fmt.Sprintf("report strays: %d, and %d rows are nobody's\n", got, want)
		}
		return ""
	})
}

// TestARehearsalSettlesWhatApplySettles carries each plan out on copies and then in the files.
func TestARehearsalSettlesWhatApplySettles(t *testing.T) {
	each(t, 100, func(t *testing.T, seed uint64) string {
		ctx := context.Background()
		b := open(t, seed, func(*world) {})
		defer b.close()
		p := b.draft(t)
		_, err := p.Seal()
		require.NoError(t, err)
		b.record(t, p)
		folder := t.TempDir()
		require.NoError(t, ledger.Copy(b.ledger, folder))
		copied, err := ledger.Open(folder, ledger.Options{By: "rehearsal", Now: func() time.Time { return b.day.Time() }})
		require.NoError(t, err)
		defer copied.Close()
		tried, err := carry.Rehearse(ctx, carry.Rehearsing{State: b.state(t), Plan: p, Ledger: copied, Today: b.day})
		require.NoError(t, err)

		job, err := carry.New(ctx, b.state(t), p, b.ledger, b.day)
		require.NoError(t, err)
		require.NoError(t, job.All(ctx))
		done, err := job.Run(ctx, func(carry.Progress) {})
		require.NoError(t, err)
		var left []string
		for _, f := range done.Failures {
			left = append(left, f.What+": "+f.Says)
		}
		if d := differ(left, tried.NotSettled); d != "" || done.Settled != tried.Settled {
			return fmt.Sprintf("rehearsed %d, applied %d:\n%s", tried.Settled, done.Settled, d)
		}
		return ""
	})
}
