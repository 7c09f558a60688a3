package draft

import (
	"pravet/internal/core/diff"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/core/reach"
)

// ends tells of each change, taken in the plan's order, what it means in the
// end: which other things come or go with it. What another change of the plan
// brings back, or had been there before, is neither.
type ends struct {
	d      *drafter
	states *reach.States
	now    []map[string]*reach.State // application → account → as it is at this step
	names  []map[uint32][]plan.Thing
}

func (d *drafter) ends() *ends {
	e := &ends{d: d, states: d.states}
	for range d.in.Apps {
		e.now = append(e.now, map[string]*reach.State{})
		e.names = append(e.names, map[uint32][]plan.Thing{})
	}
	return e
}

// of returns what comes or goes with the next change, and whether the thing
// itself does not: it was there before in another way, or stays so.
func (e *ends) of(c *diff.Change) (also []plan.Thing, stays bool) {
	if c.Verb.OfThing() {
		return none, false
	}
	a := int(c.App)
	whole := e.states.Of(a, c.Key)
	st := e.now[a][c.Key]
	if st == nil {
		st = &reach.State{After: whole.Set, OpenAfter: whole.Open}
		e.now[a][c.Key] = st
	}
	r, narrowed, sets := e.states.App(a), e.states.Narrowed(a), e.d.sets[a]
	before := st.After
	st.Step(sets, c.Verb, c.Thing)
	var other uint32
	switch c.Verb {
	case model.Create, model.Update:
		return none, false
	case model.Suspend, model.Remove:
		other = narrowed.Full(before)
	case model.Restore:
		other = r.Full(before)
	case model.Assign, model.Join, model.Grant:
		other = r.Without(r.Without(r.Full(st.After), r.Full(before)), e.states.Before(a).Full(whole.Set))
	default:
		other = r.Without(r.Without(narrowed.Full(before), narrowed.Full(st.After)), r.Full(whole.After))
	}
	if c.Thing != diff.None {
		stays = !sets.Has(other, c.Thing)
		other = sets.Without(other, c.Thing)
	}
	return e.things(a, other), stays
}

// none is no thing.
var none []plan.Thing

func (e *ends) things(a int, set uint32) []plan.Thing {
	if set == 0 {
		return none
	}
	out, ok := e.names[a][set]
	if !ok {
		for _, t := range e.d.sets[a].Members(set) {
			thing := e.d.in.Apps[a].Things[t]
			out = append(out, plan.Thing{Kind: thing.Kind, Name: thing.Name})
		}
		e.names[a][set] = out
	}
	return out
}
