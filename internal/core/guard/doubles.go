package guard

import (
	"pravet/internal/core/diff"
	"pravet/internal/core/reach"
)

// doubles makes what is taken away because something else brings it along wait
// for that, where the same plan gives it. O(changes of the people concerned).
func (c *checker) doubles(st *reach.States) {
	type holder struct {
		app int32
		key string
	}
	gains := map[holder][]int{}
	for i := range c.Changes {
		if ch := &c.Changes[i]; c.Apps[ch.App].Tidy && ch.Effect() == "widens" && ch.Thing != diff.None {
			gains[holder{ch.App, ch.Key}] = append(gains[holder{ch.App, ch.Key}], i)
		}
	}
	for i := range c.Changes {
		ch := &c.Changes[i]
		if ch.Why != diff.IsDouble {
			continue
		}
		app := int(ch.App)
		if c.keepsGiver(st, ch) {
			continue
		}
		for _, g := range gains[holder{ch.App, ch.Key}] {
			if st.App(app).Brings(c.Changes[g].Thing, ch.Thing) {
				c.out.Needs[i] = append(c.out.Needs[i], g)
			}
		}
	}
}

// keepsGiver tells whether something that is held already, and stays, brings
// along what a change takes away.
func (c *checker) keepsGiver(st *reach.States, ch *diff.Change) bool {
	a := int(ch.App)
	sets := c.Accounts[a].Sets
	state := st.Of(a, ch.Key)
	for _, t := range sets.Members(state.Set) {
		if t != ch.Thing && sets.Has(state.After, t) && st.App(a).Brings(t, ch.Thing) {
			return true
		}
	}
	return false
}
