package draft_test

import (
	"maps"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"pravet/internal/core/course"
	"pravet/internal/core/decide"
	"pravet/internal/core/diff"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
)

// reach is what an account holds, by itself and along, by application and
// thing; nothing for one that is blocked when open is asked for.
func (w *world) reach(a int, user string, open bool) map[string]bool {
	out := map[string]bool{}
	acc, ok := w.state[a][user]
	if !ok || open && !acc.open {
		return out
	}
	app := w.apps[a]
	var held []int32
	for i, th := range app.Things {
		if acc.held[key(th)] {
			held = append(held, int32(i))
		}
	}
	for _, t := range append(w.as(a).Along(held...), held...) {
		out[app.ID+"/"+key(app.Things[t])] = true
	}
	return out
}

// active counts the active holders of a thing.
func (w *world) active(a int, thing string) int {
	n := 0
	for user := range w.state[a] {
		if w.reach(a, user, true)[thing] {
			n++
		}
	}
	return n
}

// separate keeps things apart, unless one of them brings another along: check
// refuses that.
func (w *world) separate(s model.Separation) {
	for _, x := range s.Apart {
		for _, y := range s.Apart {
			if x != y && x.App == y.App && model.CatalogGraph(w.apps[x.App]).Chain(x.Thing, y.Thing) != nil {
				return
			}
		}
	}
	w.apart = append(w.apart, s)
}

// carryOut carries out what is accepted of a plan and nothing holds, as a run
// does: step by step, each only once all that it needs is settled and it would
// break nothing. It looks after each change, and returns what was done. Changes
// that fail, where it is not nil, are not carried out though they were begun.
func (w *world) carryOut(t require.TestingT, p *plan.Plan, accept func(*plan.Change) bool, look func()) (log []string) {
	return w.run(t, p, accept, func(*plan.Change) bool { return false }, look)
}

func (w *world) run(
	t require.TestingT,
	p *plan.Plan,
	accept, fails func(*plan.Change) bool,
	look func(),
) (log []string) {
	states := make([]decide.State, len(p.Changes))
	settled := map[string]bool{}
	for i := range p.Changes {
		states[i] = decide.StateRejected
		if c := &p.Changes[i]; len(c.Holds) == 0 && accept(c) {
			states[i] = decide.Ready
		}
	}
	c := course.New(p)
	refused := map[int]bool{}
	for step := c.Next(states); step != nil; step = c.Next(states) {
		a := slices.IndexFunc(w.apps, func(a *model.App) bool { return a.ID == p.Changes[step[0]].App })
		var changes []*plan.Change
		for _, i := range step {
			require.Equal(t, w.apps[a].ID, p.Changes[i].App, "a step is of one application")
			changes = append(changes, &p.Changes[i])
		}
		no := w.now(t).Try(func(string, *plan.Change) bool { return false }).Refuse(a, changes)
		for _, i := range step {
			ch := &p.Changes[i]
			for _, need := range ch.Needs {
				require.True(
					t,
					settled[need],
					"%s %s of %s runs without what it needs",
					ch.Verb,
					ch.Address(),
					ch.Account,
				)
			}
			if _, held := no[ch.ID]; held {
				states[i], refused[i] = decide.Held, true
				continue
			}
			if fails(ch) {
				states[i] = decide.Tried
				continue
			}
			states[i], settled[ch.ID] = decide.Completed, true
			w.apply(t, ch)
			log = append(log, ch.ID)
			look()
		}
		if len(no) < len(step) {
			for i := range refused {
				states[i] = decide.Ready
			}
			clear(refused)
		}
	}
	return log
}

// now is how things are in the world, for what must hold at every step.
func (w *world) now(t require.TestingT) *course.Now {
	n := &course.Now{People: w.roster(t, nil), Apps: w.apps, Separations: w.apart, Today: today}
	for a := range w.apps {
		n.Accounts = append(n.Accounts, w.accounts(a))
	}
	n.PersonOf = diff.Match(diff.Input{People: n.People, Apps: n.Apps, Accounts: n.Accounts}).PersonOf
	return n
}

func all(*plan.Change) bool { return true }

// TestEnoughActiveHoldersStay: what a plan may do never leaves fewer than
// atLeast, where there were enough, at no step.
func TestEnoughActiveHoldersStay(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		w := drawWorld(t, false)
		before := map[string]int{}
		least := map[string]int{}
		for a, app := range w.apps {
			for i := range app.Things {
				if rapid.Bool().Draw(t, "guarded") {
					app.Things[i].AtLeast = rapid.IntRange(1, 4).Draw(t, "atLeast")
					thing := app.ID + "/" + key(app.Things[i])
					least[thing] = app.Things[i].AtLeast
					before[thing] = w.active(a, thing)
				}
			}
		}
		p := w.draft(t, nil)
		dump := w.dump(p)
		w.carryOut(t, p, all, func() {
			for a, app := range w.apps {
				for thing := range maps.Keys(least) {
					if strings.HasPrefix(thing, app.ID+"/") {
						require.GreaterOrEqual(
							t,
							w.active(a, thing),
							min(before[thing], least[thing]),
							"%s in\n%s",
							thing,
							dump,
						)
					}
				}
			}
		})
	})
}

// TestWhatIsKeptApartIsNeverBroughtTogether by a plan, at no step, in one
// application or across two.
func TestWhatIsKeptApartIsNeverBroughtTogether(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		w := drawWorld(t, false)
		var things []model.AppThing
		for a, app := range w.apps {
			for i := range app.Things {
				things = append(things, model.AppThing{App: a, Thing: int32(i)})
			}
		}
		if len(things) < 2 {
			t.Skip("there are no two things")
		}
		for range rapid.IntRange(1, 2).Draw(t, "separations") {
			picked := rapid.Permutation(things).Draw(t, "apart")
			w.separate(
				model.Separation{Name: "apart", Apart: picked[:rapid.IntRange(2, min(3, len(things))).Draw(t, "size")]},
			)
		}
		together := func(user string, s model.Separation) int {
			n := 0
			for _, x := range s.Apart {
				if w.reach(x.App, user, false)[w.apps[x.App].ID+"/"+key(w.apps[x.App].Things[x.Thing])] {
					n++
				}
			}
			return n
		}
		before := map[string]int{}
		for _, p := range w.people {
			for i, s := range w.apart {
				before[p.name+string(rune('0'+i))] = together(p.name, s)
			}
		}
		p := w.draft(t, nil)
		dump := w.dump(p)
		w.carryOut(t, p, all, func() {
			for _, p := range w.people {
				for i, s := range w.apart {
					require.LessOrEqual(
						t,
						together(p.name, s),
						max(1, before[p.name+string(rune('0'+i))]),
						"%s in\n%s",
						p.name,
						dump,
					)
				}
			}
		})
	})
}

// TestAnyPartKeepsTheInvariants: whatever is rejected, what is carried out of
// the rest, after looking again, leaves enough active holders and brings nothing
// together that is kept apart.
func TestAnyPartKeepsTheInvariants(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		w := drawWorld(t, false)
		var things []model.AppThing
		least, before := map[string]int{}, map[string]int{}
		for a, app := range w.apps {
			for i := range app.Things {
				things = append(things, model.AppThing{App: a, Thing: int32(i)})
				if rapid.Bool().Draw(t, "guarded") {
					thing := app.ID + "/" + key(app.Things[i])
					app.Things[i].AtLeast = rapid.IntRange(1, 3).Draw(t, "atLeast")
					least[thing], before[thing] = app.Things[i].AtLeast, w.active(a, thing)
				}
			}
		}
		if len(things) > 1 {
			w.separate(model.Separation{Name: "apart", Apart: rapid.Permutation(things).Draw(t, "apart")[:2]})
		}
		together := func(user string) int {
			n := 0
			for _, s := range w.apart {
				for _, x := range s.Apart {
					if w.reach(x.App, user, false)[w.apps[x.App].ID+"/"+key(w.apps[x.App].Things[x.Thing])] {
						n++
					}
				}
			}
			return n
		}
		was := map[string]int{}
		for _, p := range w.people {
			was[p.name] = together(p.name)
		}
		p := w.draft(t, nil)
		dump := w.dump(p)
		accept := map[string]bool{}
		for _, c := range p.Changes {
			accept[c.ID] = rapid.IntRange(0, 3).Draw(t, "accept") > 0
		}
		log := w.carryOut(t, p, func(c *plan.Change) bool { return accept[c.ID] }, func() {})
		for a, app := range w.apps {
			for thing := range least {
				if strings.HasPrefix(thing, app.ID+"/") {
					require.GreaterOrEqual(
						t,
						w.active(a, thing),
						min(before[thing], least[thing]),
						"%s in\n%s%s",
						thing,
						dump,
						log,
					)
				}
			}
		}
		for _, p := range w.people {
			require.LessOrEqual(t, together(p.name), max(1, was[p.name]), "%s in\n%s%s", p.name, dump, log)
		}
	})
}
