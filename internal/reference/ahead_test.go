package reference

import (
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"pravet/internal/core/access"
	"pravet/internal/core/day"
	"pravet/internal/core/fact"
	"pravet/internal/core/guard"
	"pravet/internal/core/plan"
	"pravet/internal/prepare"
)

// horizon is how many days are looked ahead.
const horizon = 40

// TestNothingFallsDueUnannounced drafts a plan for each day to come: what it has that the plan for the day
// before had not, and what it has not any more, is announced for that day, or for the day before as its
// last. And whatever step is announced for a day is in that day's plan.
func TestNothingFallsDueUnannounced(t *testing.T) {
	turns := 0
	each(t, 25, func(t *testing.T, seed uint64) string {
		b := open(t, seed, (*world).restless)
		defer b.close()
		s := b.state(t)
		v := s.View(b.day)
		var err error
		v.Past, err = prepare.Stands(b.ledger, s.Repo, func(int) bool { return true })
		require.NoError(t, err)
		require.NoError(t, prepare.Keep(b.ledger, s.Repo, v))
		items := v.Falling(b.day+horizon, access.Stood{Lifts: s.Repo.Lifts, Kept: s.Repo.Kept})
		said := ""
		before := b.on(t, s, b.day)
		for on := b.day + 1; on <= b.day+horizon; on++ {
			now := b.on(t, s, on)
			for id, c := range now {
				if before[id] == nil && !announced(items, c, on) {
					said += fmt.Sprintf("on %s, unannounced, begins: %s %s of %s %s\n", on, c.Verb, c.Address(), c.Person, c.Account)
				}
			}
			for id, c := range before {
				if now[id] == nil && !announced(items, c, on) {
					said += fmt.Sprintf("on %s, unannounced, ends: %s %s of %s %s\n", on, c.Verb, c.Address(), c.Person, c.Account)
				}
			}
			for i := range items {
				if x := &items[i]; x.Kind == fact.FallsStep && x.On == on.String() && !stepped(now, x) {
					said += fmt.Sprintf("on %s, announced and not in the plan: %s\n", on, x.Says)
				}
			}
			turns += len(now) - len(before)
			before = now
		}
		return said
	})
	require.NotZero(t, turns, "no world has a day on which something falls due")
}

// stepped reports whether a plan has a change of the account that a step is announced for.
func stepped(now map[string]*plan.Change, x *access.Falling) bool {
	for _, c := range now {
		if c.App == x.App && c.Account == x.Facts.Account {
			return true
		}
	}
	return false
}

// on are the changes of the plan for a day, by id, but for those of protected accounts: nothing happens
// to them.
func (b *bench) on(t *testing.T, s *prepare.State, on day.Day) map[string]*plan.Change {
	p, err := prepare.Draft(s, b.ledger, on, b.day, nil)
	require.NoError(t, err)
	out := map[string]*plan.Change{}
	for i := range p.Changes {
		c := &p.Changes[i]
		if !slices.ContainsFunc(c.Holds, func(h plan.Hold) bool { return h.Guard == guard.Protected }) {
			out[c.ID] = c
		}
	}
	return out
}

// announced reports whether something that is to fall due on a day, or whose last day is the one before,
// concerns whom a change is about, or all of its application.
func announced(items []access.Falling, c *plan.Change, on day.Day) bool {
	return slices.ContainsFunc(items, func(x access.Falling) bool {
		if x.On != on.String() && x.On != (on-1).String() {
			return false
		}
		switch x.Kind {
		case fact.FallsClosed, fact.FallsOpen:
			return x.App == c.App
		case fact.FallsRejection, fact.FallsLift, fact.FallsShort:
			return false
		}
		return x.Person == c.Person && c.Person != "" || x.Facts.Account == c.Account && x.App == c.App
	})
}

// restless lets people of a world come and go in the days to come, kits be held for a while or by rules
// that count days, accounts leave by paths or be made ahead, and applications close.
func (w *world) restless() {
	now, err := day.Parse(today)
	if err != nil {
		panic(err)
	}
	at := func(days int) string { return (now + day.Day(days)).String() }
	for i := range w.people {
		p := &w.people[i]
		switch (len(w.people) + i) % 5 {
		case 0:
			p.starts, p.ends = at(1+i%30), ""
		case 1:
			p.starts, p.ends = "", at(i*3%35)
		case 2:
			p.starts, p.ends = at(-i%20), ""
		}
	}
	for i := range w.kits {
		switch k := &w.kits[i]; {
		case k.holder != "":
			k.until = at(2 + i*5%30)
		case i%2 == 0:
			k.rule = `starts gt "-P20D"`
		}
	}
	w.more = map[string]string{}
	for i := range w.apps {
		id := w.apps[i].id
		switch (len(w.people) + i) % 3 {
		case 0:
			w.more["apps/"+id] = fmt.Sprintf("closed: [{from: %s, to: %s, because: the dock is painted}]\n", at(5), at(9))
		case 1:
			w.more["apps/"+id] = "lead: P4D\n"
		}
	}
	if len(w.people)%2 == 0 {
		w.more["paths"] = "paths:\n  away:\n    when: ended\n    steps: [{after: P3D, do: suspend}, {after: P5D, do: strip}, {do: stay}]\n"
	}
}
