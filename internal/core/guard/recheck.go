package guard

import (
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
	r := rechecker{reach.New(app, accounts.Sets), app, accounts, map[string]*reach.State{}}
	index := table.NewIndex(accounts.Key, nil)
	for _, c := range changes {
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
	*reach.Reacher
	app      *model.App
	accounts *model.Accounts
	of       map[string]*reach.State
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
	losers, more := r.Losing(r.of, t)
	n := r.Active(r.accounts, t) + more
	if n >= thing.AtLeast || len(losers) == 0 {
		return
	}
	for _, c := range changes {
		if c.Effect != "narrows" || !losers[c.Account] {
			continue
		}
		if x := r.thing(c); x < 0 || r.Brings(x, t) {
			held[c.ID] = tooFew(n, thing)
		}
	}
}
