package draft

import (
	"pravet/internal/core/diff"
	"pravet/internal/core/reach"
)

// doubles tells of each change that takes away what something else brings
// along which changes it has to wait for: those that give that something else,
// where nothing that is held already, and stays, brings it along too.
// O(changes).
func (d *drafter) doubles(changes []diff.Change) map[int][]int {
	type holder struct {
		app int32
		key string
	}
	gains := map[holder][]int{}
	any := false
	for i := range changes {
		c := &changes[i]
		any = any || c.Why == diff.IsDouble
		if d.in.Apps[c.App].Tidy && c.Effect() == "widens" && c.Thing != diff.None {
			gains[holder{c.App, c.Key}] = append(gains[holder{c.App, c.Key}], i)
		}
	}
	if !any {
		return nil
	}
	out := map[int][]int{}
	states := reach.Follow(d.in.Apps, d.accounts, changes)
	for i := range changes {
		c := &changes[i]
		if c.Why != diff.IsDouble || d.kept(states, c) {
			continue
		}
		for _, g := range gains[holder{c.App, c.Key}] {
			if states.App(int(c.App)).Brings(changes[g].Thing, c.Thing) {
				out[i] = append(out[i], g)
			}
		}
	}
	return out
}

// kept tells whether something that is held already, and stays, brings along
// what a change takes away.
func (d *drafter) kept(states *reach.States, c *diff.Change) bool {
	a := int(c.App)
	sets, state := d.sets[a], states.Of(a, c.Key)
	for _, t := range sets.Members(state.Set) {
		if t != c.Thing && sets.Has(state.After, t) && states.App(a).Brings(t, c.Thing) {
			return true
		}
	}
	return false
}
