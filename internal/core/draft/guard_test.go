package draft_test

import (
	"maps"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"pravet/internal/core/guard"
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
	for _, t := range append(app.Implied(held), held...) {
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

// free carries out all changes of a plan that nothing holds, and what needs
// none that is held.
func (w *world) free(t *rapid.T, p *plan.Plan) {
	done := map[string]bool{}
	for i := range p.Changes {
		c := &p.Changes[i]
		if len(c.Holds) == 0 && !slices.ContainsFunc(c.Needs, func(n string) bool { return !done[n] }) {
			w.apply(t, c)
			done[c.ID] = true
		}
	}
}

// TestEnoughActiveHoldersStay: what a plan may do never leaves fewer than
// atLeast, where there were enough.
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
		w.free(t, p)
		for a, app := range w.apps {
			for thing := range maps.Keys(least) {
				if strings.HasPrefix(thing, app.ID+"/") {
					require.GreaterOrEqual(t, w.active(a, thing), min(before[thing], least[thing]), thing)
				}
			}
		}
	})
}

// TestWhatIsKeptApartIsNeverBroughtTogether by a plan, in one application or
// across two.
func TestWhatIsKeptApartIsNeverBroughtTogether(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		w := drawWorld(t, false)
		var all []model.AppThing
		for a, app := range w.apps {
			for i := range app.Things {
				all = append(all, model.AppThing{App: a, Thing: int32(i)})
			}
		}
		if len(all) < 2 {
			t.Skip("there are no two things")
		}
		for range rapid.IntRange(1, 2).Draw(t, "separations") {
			picked := rapid.Permutation(all).Draw(t, "apart")
			w.apart = append(w.apart, model.Separation{Name: "apart", Apart: picked[:rapid.IntRange(2, min(3, len(all))).Draw(t, "size")]})
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
		w.free(t, w.draft(t, nil))
		for _, p := range w.people {
			for i, s := range w.apart {
				require.LessOrEqual(t, together(p.name, s), max(1, before[p.name+string(rune('0'+i))]), p.name)
			}
		}
	})
}

// TestAnyPartKeepsTheInvariants: whatever is rejected, what is carried out of
// the rest, after looking again, leaves enough active holders and brings nothing
// together that is kept apart.
func TestAnyPartKeepsTheInvariants(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		w := drawWorld(t, false)
		var all []model.AppThing
		least, before := map[string]int{}, map[string]int{}
		for a, app := range w.apps {
			for i := range app.Things {
				all = append(all, model.AppThing{App: a, Thing: int32(i)})
				if rapid.Bool().Draw(t, "guarded") {
					thing := app.ID + "/" + key(app.Things[i])
					app.Things[i].AtLeast = rapid.IntRange(1, 3).Draw(t, "atLeast")
					least[thing], before[thing] = app.Things[i].AtLeast, w.active(a, thing)
				}
			}
		}
		if len(all) > 1 {
			w.apart = []model.Separation{{Name: "apart", Apart: rapid.Permutation(all).Draw(t, "apart")[:2]}}
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
		chosen := map[string]bool{}
		for i := range p.Changes {
			c := &p.Changes[i]
			chosen[c.ID] = len(c.Holds) == 0 && rapid.IntRange(0, 3).Draw(t, "accept") > 0 && !slices.ContainsFunc(c.Needs, func(n string) bool { return !chosen[n] })
		}
		for a, app := range w.apps {
			var ready []*plan.Change
			for i := range p.Changes {
				if c := &p.Changes[i]; c.App == app.ID && chosen[c.ID] {
					ready = append(ready, c)
				}
			}
			for id := range guard.Recheck(app, w.accounts(a), ready) {
				chosen[id] = false
			}
		}
		done := map[string]bool{}
		for i := range p.Changes {
			c := &p.Changes[i]
			if chosen[c.ID] && !slices.ContainsFunc(c.Needs, func(n string) bool { return !done[n] }) {
				w.apply(t, c)
				done[c.ID] = true
			}
		}
		for a, app := range w.apps {
			for thing := range least {
				if strings.HasPrefix(thing, app.ID+"/") {
					require.GreaterOrEqual(t, w.active(a, thing), min(before[thing], least[thing]), thing)
				}
			}
		}
		for _, p := range w.people {
			require.LessOrEqual(t, together(p.name), max(1, was[p.name]), p.name)
		}
	})
}
