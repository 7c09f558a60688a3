// Package order puts changes into the order in which they are carried out:
// by verb (see model.Verb for why that order is safe), then application,
// person, thing and attribute. What gives more to those who have something is
// redefined after all that narrows; what something else brings along is taken
// away when that is there.
package order

import (
	"cmp"
	"slices"

	"pravet/internal/core/diff"
	"pravet/internal/core/model"
	"pravet/internal/core/reach"
)

// Sort orders changes in place, in O(n log n). The outcome does not depend on
// the order in which they come: applications are numbered by their id, people
// are compared by theirs, accounts of nobody by their name.
func Sort(changes []diff.Change, people *model.People) {
	ids := people.Column("id")
	id := func(c *diff.Change) string {
		if c.Person == diff.None {
			return ""
		}
		return ids.At(int(c.Person))
	}
	slices.SortFunc(changes, func(x, y diff.Change) int {
		if d := cmp.Or(cmp.Compare(rank(&x), rank(&y)), cmp.Compare(x.App, y.App)); d != 0 {
			return d
		}
		if x.Person != y.Person {
			if d := cmp.Compare(id(&x), id(&y)); d != 0 {
				return d
			}
		}
		return cmp.Or(
			cmp.Compare(x.Key, y.Key),
			cmp.Compare(x.Depth, y.Depth),
			cmp.Compare(x.Thing, y.Thing),
			cmp.Compare(x.Attr, y.Attr),
			cmp.Compare(x.Field, y.Field),
			cmp.Compare(x.Verb, y.Verb),
		)
	})
}

// rank orders the steps of a plan.
func rank(c *diff.Change) int {
	// Between two verbs there is room.
	switch {
	case c.Verb == model.Redefine && c.Sense == diff.More:
		return 2*int(model.Remove) + 1
	case c.Why == diff.IsDouble, c.Late:
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
	states *reach.States,
	changes []diff.Change,
	people *model.People,
) {
	guarded := func(a *model.App) bool {
		return slices.ContainsFunc(a.Things, func(t model.Thing) bool { return t.AtLeast > 0 })
	}
	if !slices.ContainsFunc(apps, guarded) {
		return
	}
	between := narrowed(accounts, changes)
	late := make([]map[string][]int32, len(apps)) // account → things whose loss waits
	any := false
	for a, app := range apps {
		late[a] = map[string][]int32{}
		for t := range app.Things {
			least := app.Things[t].AtLeast
			if least == 0 || accounts[a] == nil {
				continue
			}
			before := states.Before(a).Active(accounts[a], int32(t))
			least = min(least, before)
			dips, _ := reach.Losing(states.Before(a), states.Narrowed(a), between[a], int32(t))
			if len(dips) == 0 || before-len(dips) >= least {
				continue // enough stay all along
			}
			for key := range dips {
				late[a][key], any = append(late[a][key], int32(t)), true
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
		c.Late = slices.ContainsFunc(late[c.App][c.Key], func(t int32) bool {
			return c.Thing == diff.None || states.Before(int(c.App)).Brings(c.Thing, t)
		})
	}
	Sort(changes, people)
}

// narrowed are the accounts that lose something, as they are once all is taken
// and nothing given.
func narrowed(accounts []*model.Accounts, changes []diff.Change) []map[string]*reach.State {
	out := make([]map[string]*reach.State, len(accounts))
	for a := range out {
		out[a] = map[string]*reach.State{}
	}
	for i := range changes {
		c := &changes[i]
		if c.Effect() != model.Narrows || c.Verb.OfThing() {
			continue
		}
		st := out[c.App][c.Key]
		if st == nil {
			of := accounts[c.App]
			st = &reach.State{
				Set:       of.Held[c.Account],
				After:     of.Held[c.Account],
				Open:      of.Open(int(c.Account)),
				OpenAfter: of.Open(int(c.Account)),
			}
			out[c.App][c.Key] = st
		}
		st.Step(accounts[c.App].Sets, c.Verb, c.Thing)
	}
	return out
}
