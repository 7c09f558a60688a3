// This is the order in which changes are carried out:
// by verb (see model.Verb for why that order is safe), then application,
// person, thing and attribute. What gives more to those who have something is
// redefined after all that narrows; what something else brings along is taken
// away when that is there.

package draft

import (
	"cmp"
	"slices"

	"pravet/internal/core/diff"
	"pravet/internal/core/model"
)

// Sort orders changes in place, in O(n log n). The outcome does not depend on
// the order in which they come: applications are numbered by their id, people
// are compared by theirs, accounts of nobody by their name.
func Sort(changes []diff.Change, people *model.People) {
	// Few changes are told apart by more than the number that sums up their step,
	// application and person, and to move numbers is cheap.
	type place struct {
		sum uint64
		at  int32
	}
	places := make([]place, len(changes))
	ranks := people.Ranks()
	for i := range changes {
		c := &changes[i]
		person := uint64(0) // nobody
		switch {
		case c.Person == diff.None:
		case ranks == nil:
			person = uint64(c.Person) + 1
		default:
			person = uint64(ranks[c.Person]) + 1
		}
		places[i] = place{uint64(rank(c))<<56 | uint64(c.App)<<32 | person, int32(i)}
	}
	slices.SortFunc(places, func(x, y place) int {
		if x.sum != y.sum {
			return cmp.Compare(x.sum, y.sum)
		}
		return within(&changes[x.at], &changes[y.at])
	})
	// Each change is moved once, along the circles of which a new order consists.
	for start := range places {
		if places[start].at < 0 {
			continue
		}
		first, to := changes[start], start
		for {
			from := int(places[to].at)
			places[to].at = -1
			if from == start {
				changes[to] = first
				break
			}
			changes[to] = changes[from]
			to = from
		}
	}
}

// within compares changes of one step that are about the same person, or about
// nobody, in the same application.
func within(x, y *diff.Change) int {
	if d := cmp.Compare(x.Key, y.Key); d != 0 {
		return d
	}
	of := func(c *diff.Change) diff.Definition {
		if c.Def == nil {
			return diff.Definition{}
		}
		return *c.Def
	}
	return cmp.Or(
		cmp.Compare(of(x).Depth, of(y).Depth),
		cmp.Compare(x.Thing, y.Thing),
		cmp.Compare(x.Attr, y.Attr),
		cmp.Compare(of(x).Field, of(y).Field),
		cmp.Compare(x.Verb, y.Verb),
	)
}

// rank orders the steps of a plan.
func rank(c *diff.Change) int {
	// Between two verbs there is room.
	switch {
	case c.Verb == model.Redefine && c.Sense == diff.More:
		return 2*int(model.Remove) + 1
	case c.Why == diff.IsDouble, c.Late: // also of a redefinition that waits for what gives back
		return 2*int(model.Grant) + 1
	}
	return 2 * int(c.Verb)
}

// Defer lets what an account loses wait for what it or others gain, where too
// few would hold a thing in between of which some must stay: a successor is
// there before an administrator goes. Whatever else an account loses does not wait.
// states are those of the changes, which it marks and orders anew.
// O(accounts · guarded things + changes · log changes).
func Defer(
	apps []*model.App,
	accounts []*model.Accounts,
	states *diff.States,
	changes []diff.Change,
	people *model.People,
) {
	guarded := func(a *model.App) bool {
		return slices.ContainsFunc(a.Things, func(t model.Thing) bool { return t.AtLeast > 0 })
	}
	if !slices.ContainsFunc(apps, guarded) {
		return
	}
	between := narrowed(apps, accounts, changes)
	late := make([]map[int32][]int32, len(apps)) // slot → things whose loss waits
	any := false
	for a, app := range apps {
		late[a] = map[int32][]int32{}
		for t := range app.Things {
			least := app.Things[t].AtLeast
			if least == 0 || accounts[a] == nil {
				continue
			}
			before := states.Before(a).Active(accounts[a], int32(t))
			least = min(least, before)
			dips, _ := diff.Losing(states.Before(a), states.Narrowed(a), between[a], int32(t))
			if len(dips) == 0 || before-len(dips) >= least {
				continue // enough stay all along
			}
			for slot := range dips {
				late[a][slot], any = append(late[a][slot], int32(t)), true
			}
		}
	}
	if !any {
		return
	}
	for i := range changes {
		c := &changes[i]
		if c.Effect() != model.Narrows || c.Verb.OfThing() {
			continue
		}
		c.Late = slices.ContainsFunc(late[c.App][c.Slot], func(t int32) bool {
			return c.Thing == diff.None || states.Before(int(c.App)).Brings(c.Thing, t)
		})
	}
	Sort(changes, people)
}

// narrowed are the accounts that lose something, as they are once all is taken
// and nothing given.
func narrowed(apps []*model.App, accounts []*model.Accounts, changes []diff.Change) [][]diff.State {
	out := make([][]diff.State, len(accounts))
	for i := range changes {
		c := &changes[i]
		if c.Effect() != model.Narrows || c.Verb.OfThing() {
			continue
		}
		for int(c.Slot) >= len(out[c.App]) {
			out[c.App] = append(out[c.App], diff.State{})
		}
		st := &out[c.App][c.Slot]
		if !st.Touched {
			*st = diff.Start(accounts[c.App], c.Account)
			st.Touched = true
		}
		st.Step(apps[c.App], accounts[c.App].Sets, c.Does(), c.Thing)
	}
	return out
}
