package reference

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"pravet/internal/core/day"
	"pravet/internal/ledger"
	"pravet/internal/prepare"
)

// A trial is what was done last to something in the environment that live is promoted from.
type trial struct{ does, on string }

// touches names what a change is about, the same in each environment.
func (c *change) touches() string {
	subject := "person " + c.person
	if c.person == "" || c.second {
		subject = "account " + c.account
	}
	return strings.Join([]string{c.app, subject, c.thing, c.attribute}, " ")
}

// does is what a change does, whatever value it starts from.
func (w *world) does(c *change) string {
	after := c.after
	switch c.verb {
	case "create":
		for i := range w.people {
			if p := &w.people[i]; p.id == c.person {
				title, _ := w.sets(p, w.app(c.app))
				after = fmt.Sprint(p.user, p.name, p.email, title)
			}
		}
	case "define":
		t := w.app(c.app).thing(c.thing)
		after = fmt.Sprint(t.title, t.permissions, t.brings)
	}
	return fmt.Sprint(c.verb, after, c.also)
}

// try notes what was carried out.
func (w *world) try(tried map[string]trial, done []*change) {
	for _, c := range done {
		tried[c.touches()] = trial{w.does(c), w.today}
	}
}

// promoted lets a plan of live be held until it was carried out in rehearsal, no more than a week ago, and not undone
// there.
func promoted(t *testing.T, seed uint64) string {
	r := rand.New(rand.NewPCG(seed, 12))
	live := open(t, seed, func(w *world) {
		for i := range w.apps {
			w.apps[i].promoted, w.apps[i].shrink = true, "100%"
		}
	})
	defer live.close()
	w := *live.world
	w.apps, w.before = slices.Clone(live.apps), map[string]int{}
	there := &bench{world: &w, dir: live.dir, day: live.day, environment: "rehearsal"}
	for i := range w.apps {
		a := &w.apps[i]
		a.folder, a.rows = "exports/rehearsal", slices.Clone(a.rows)
	}
	var err error
	there.ledger, err = ledger.Open(live.dir, ledger.Options{By: "Farah", Environment: "rehearsal", Now: func() time.Time {
		at, err := time.Parse(time.DateOnly, there.today)
		require.NoError(t, err)
		return at
	}})
	require.NoError(t, err)
	defer func() {
		for _, tree := range there.trees {
			tree.Close()
		}
		there.ledger.Close()
	}()
	live.settled = func(environment string) (map[string]day.Day, error) {
		require.Equal(t, "rehearsal", environment)
		return prepare.Settled(there.ledger)
	}
	for i := range w.apps {
		w.export(t, there.dir, &w.apps[i])
	}
	live.tried = map[string]trial{}
	plans := map[string]bool{}
	var rejected []string
	for round := range 3 {
		if r.IntN(2) == 0 {
			there.byHand(t, r)
		}
		p, want, d := there.agreed(t, rejected)
		if d != "" {
			return fmt.Sprintf(
				"round %d, in rehearsal, rejected %q:\n%s%s", round, rejected, d, strings.Join(there.rows(), "\n"),
			)
		}
		if !plans[p.ID] {
			plans[p.ID] = true
			there.record(t, p)
			chosen := there.still(undoable(want, func(int) bool { return false }), rejected)
			if r.IntN(2) == 0 {
				chosen = there.part(t, r, p, want, &rejected)
			}
			done, _ := there.carry(want, chosen, false)
			x := &run{bench: there}
			if d := x.whole(t, p, done); d != "" {
				return fmt.Sprintf("round %d, the run in rehearsal:\n%s", round, d)
			}
			there.reread(t, there.dir)
			there.gone(want, done)
			w.try(live.tried, done)
		}
		is, err := prepare.Draft(live.state(t), live.ledger, live.day, live.day, nil)
		require.NoError(t, err)
		should := live.reckon(nil)
		live.judge(should)
		if d := differ(lines(should), lines(drafted(is))); d != "" {
			return fmt.Sprintf("round %d, in live:\n%s", round, d)
		}
		days := day.Day(r.IntN(6))
		live.day, there.day = live.day+days, there.day+days
		live.today, there.today = live.day.String(), there.day.String()
	}
	return ""
}

// TestPromotion holds in live what was not tried, and nothing else.
func TestPromotion(t *testing.T) {
	each(t, 25, promoted)
}
