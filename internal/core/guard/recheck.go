package guard

import (
	"slices"

	"pravet/internal/core/diff"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/core/reach"
	"pravet/internal/core/table"
)

// Recheck looks again at the invariants that a part of a plan may break where
// the whole does not: when what widens was rejected, too few active holders
// may stay. changes are those of one application that are about to be carried
// out, in their order, and accounts its state as it is. It returns why some of
// them must be held, by id. O(accounts · guarded things + changes).
func Recheck(app *model.App, accounts *model.Accounts, changes []*plan.Change) map[string]string {
	held := map[string]string{}
	before, after := app.As(accounts.Definitions), app.As(redefined(accounts.Definitions, app, changes))
	r := rechecker{reach.New(after, accounts.Sets), reach.New(before, accounts.Sets), app, accounts, map[string]*reach.State{}}
	index := table.NewIndex(accounts.Key, nil)
	for _, c := range changes {
		if verb, _ := model.ParseVerb(c.Verb); verb.OfThing() {
			continue
		}
		st := r.of[c.Account]
		if st == nil {
			st = &reach.State{}
			if at := index.Find(c.Account); at >= 0 {
				st.Open, st.Set = accounts.Open[at], accounts.Held[at]
			}
			st.OpenAfter, st.After = st.Open, st.Set
			r.of[c.Account] = st
		}
		verb, _ := model.ParseVerb(c.Verb)
		st.Step(accounts.Sets, verb, r.thing(c))
	}
	for t := range app.Things {
		if thing := &app.Things[t]; thing.AtLeast > 0 {
			r.holders(int32(t), thing, changes, held)
		}
	}
	return held
}

type rechecker struct {
	*reach.Reacher // by the definitions after the changes
	before         *reach.Reacher
	app            *model.App
	accounts       *model.Accounts
	of             map[string]*reach.State
}

// thing is the number of a change's thing, or -1.
func (r *rechecker) thing(c *plan.Change) int32 {
	if c.Thing == nil {
		return -1
	}
	kind, ok := model.ParseKind(c.Thing.Kind)
	if !ok {
		return -1
	}
	return r.app.Thing(kind, c.Thing.Name)
}

func (r *rechecker) holders(t int32, thing *model.Thing, changes []*plan.Change, held map[string]string) {
	losers, more := reach.Losing(r.before, r.Reacher, r.of, t)
	n := r.Active(r.accounts, t) + more
	if n >= thing.AtLeast {
		return
	}
	for _, c := range changes {
		if c.Verb == model.Redefine.String() {
			if gone := model.Without(plan.Texts(c.Before), plan.Texts(c.After)); c.Attribute == diff.Brings && r.anyBrings(r.app.Numbers(gone), t) {
				held[c.ID] = tooFew(n, thing)
			}
			continue
		}
		if c.Effect != "narrows" || !losers[c.Account] {
			continue
		}
		if x := r.thing(c); x < 0 || r.anyBrings([]int32{x}, t) {
			held[c.ID] = tooFew(n, thing)
		}
	}
}

// anyBrings tells whether one of some things brought another along before the
// changes, or does after them.
func (r *rechecker) anyBrings(things []int32, t int32) bool {
	return slices.ContainsFunc(things, func(x int32) bool { return r.Brings(x, t) || r.before.Brings(x, t) })
}

// redefined are definitions as they are once some changes are carried out.
func redefined(defs *model.Definitions, app *model.App, changes []*plan.Change) *model.Definitions {
	if defs == nil {
		return nil
	}
	out := *defs
	out.Of = slices.Clone(defs.Of)
	for _, c := range changes {
		verb, _ := model.ParseVerb(c.Verb)
		kind, ok := model.ParseKind(c.Address().Kind)
		if !verb.OfThing() || !ok {
			continue
		}
		t := app.Thing(kind, c.Thing.Name)
		switch {
		case t < 0:
		case verb == model.Retire:
			out.Of[t] = nil
		case verb == model.Define:
			out.Of[t] = app.Defined(t)
		case c.Attribute == diff.Brings && out.Of[t] != nil:
			next := *out.Of[t]
			next.Brings = plan.Texts(c.After)
			out.Of[t] = &next
		}
	}
	return &out
}
