package draft

import (
	"slices"

	"pravet/internal/core/diff"
	"pravet/internal/core/model"
)

// doubles tells of each change that takes away what something else brings along
// which changes it has to wait for: those that give that something else, or let
// it bring this along, where nothing that is held already, and stays, brings it
// along too. O(changes).
func (d *drafter) doubles(changes []diff.Change) map[int][]int {
	type holder struct{ app, slot int32 }
	gains := map[holder][]int{}
	more := map[int32][]int{} // application → redefinitions by which more comes along
	any := false
	for i := range changes {
		c := &changes[i]
		if c.Verb == model.Define || c.Verb == model.Redefine && c.Def.Field == diff.Brings && c.Sense == diff.More {
			more[c.App] = append(more[c.App], i)
		}
		any = any || c.Why == diff.IsDouble
		if d.in.Apps[c.App].Tidy && c.Person != diff.None && c.Effect() == model.Widens && c.Thing != diff.None {
			gains[holder{c.App, c.Slot}] = append(gains[holder{c.App, c.Slot}], i)
		}
	}
	if !any {
		return nil
	}
	out := map[int][]int{}
	for i := range changes {
		c := &changes[i]
		if c.Why != diff.IsDouble || d.kept(c) {
			continue
		}
		for _, g := range gains[holder{c.App, c.Slot}] {
			if d.states.App(int(c.App)).Brings(changes[g].Thing, c.Thing) {
				out[i] = append(out[i], g)
			}
		}
		for _, r := range more[c.App] {
			if changes[r].Thing == c.Thing ||
				slices.ContainsFunc(
					changes[r].Def.Moved,
					func(t int32) bool { return d.states.App(int(c.App)).Brings(t, c.Thing) },
				) {
				out[i] = append(out[i], r)
			}
		}
	}
	return out
}

// kept reports whether something that is held already, and stays, brings along
// what a change takes away.
func (d *drafter) kept(c *diff.Change) bool {
	a := int(c.App)
	sets, state := d.sets[a], d.states.Of(c)
	for _, t := range sets.Members(state.Set) {
		if t != c.Thing && sets.Has(state.After, t) && d.states.Narrowed(a).Brings(t, c.Thing) {
			return true
		}
	}
	return false
}
