package draft

import (
	"slices"

	"pravet/internal/core/diff"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
)

// ends tells of each change of an application, taken in the plan's order, what it
// means in the end: which other things come or go with it. What another change of
// the plan brings back, or had been there before, is neither.
type ends struct {
	d      *drafter
	a      int
	states *diff.States
	now    []diff.State // slot → as the account is at this step
	names  map[uint32][]plan.Thing
	held   []int // thing → how many have it before the plan, one way or another; nil until it is asked for
}

func (d *drafter) ends(a int) *ends {
	return &ends{d: d, a: a, states: d.states, names: map[uint32][]plan.Thing{}}
}

// judge says what the next change means in the end.
func (e *ends) judge(p *plan.Change, c *diff.Change) {
	p.Also, p.Stays = e.of(c)
	if p.Stays && p.Effect == model.Widens && len(p.Also) == 0 && !c.Verb.OfThing() {
		p.Effect = model.Keeps // it was there before, brought along by something else
	}
	p.First = p.Effect == model.Widens && c.Thing != diff.None && !c.Verb.OfThing() && e.first(p, c.Thing)
}

// first reports whether nobody had a thing, or one of those that come with it.
func (e *ends) first(p *plan.Change, thing int32) bool {
	app := e.d.in.Apps[e.a]
	if e.held == nil {
		e.held = e.states.Before(e.a).Counts(e.d.accounts[e.a], len(app.Things))
	}
	return e.held[thing] == 0 || slices.ContainsFunc(p.Also, func(t plan.Thing) bool {
		return e.held[app.Thing(t.Kind, t.Name)] == 0
	})
}

// of returns what comes or goes with the next change, and whether the thing
// itself does not: it was there before in another way, or stays so.
func (e *ends) of(c *diff.Change) (also []plan.Thing, stays bool) {
	if c.Verb.OfThing() {
		return none, false
	}
	a, whole := e.a, e.states.Of(c)
	for int(c.Slot) >= len(e.now) {
		e.now = append(e.now, diff.State{})
	}
	st := &e.now[c.Slot]
	if !st.Touched {
		*st = diff.State{After: whole.Set, OpenAfter: whole.Open, Touched: true}
		if c.Account != diff.None {
			st.Had = e.d.accounts[a].Had[c.Account]
		}
	}
	r, narrowed, sets := e.states.App(a), e.states.Narrowed(a), e.d.sets[a]
	before := sets.Union(st.After, st.Had) // what a removed account would hold again
	st.Step(e.d.in.Apps[a], sets, c.Does(), c.Thing)
	now := sets.Union(st.After, st.Had)
	var other uint32
	switch deed := c.Verb.Deed(); {
	case deed.Makes, c.Verb == model.Update:
		return none, false
	case deed.Moves && c.Verb.Effect() == model.Narrows:
		other = narrowed.Full(before)
	case deed.Back:
		other = r.Full(st.After)
	case deed.Gains:
		other = r.Without(r.Without(r.Full(now), r.Full(before)), e.states.Before(a).Full(whole.Set))
	default:
		other = r.Without(r.Without(narrowed.Full(before), narrowed.Full(now)), r.Full(whole.After))
	}
	if c.Thing != diff.None {
		stays = !sets.Has(other, c.Thing)
		other = sets.Without(other, c.Thing)
	}
	return e.things(other), stays
}

// none is no thing.
var none []plan.Thing

func (e *ends) things(set uint32) []plan.Thing {
	if set == 0 {
		return none
	}
	out, ok := e.names[set]
	if !ok {
		for _, t := range e.d.sets[e.a].Members(set) {
			thing := e.d.in.Apps[e.a].Things[t]
			out = append(out, plan.Thing{Kind: thing.Kind, Name: thing.Name, Sensitive: thing.Sensitive})
		}
		e.names[set] = out
	}
	return out
}
