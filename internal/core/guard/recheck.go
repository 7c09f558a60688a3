package guard

import (
	"fmt"

	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/core/table"
)

// Recheck looks again at the invariants that a part of a plan may break where
// the whole does not: when what widens was rejected, too few active holders
// may stay. changes are those of one application that are about to be carried
// out, in their order, and accounts its state as it is. It returns why some of
// them must be held, by id. O(accounts · guarded things + changes).
func Recheck(app *model.App, accounts *model.Accounts, changes []*plan.Change) map[string]string {
	held := map[string]string{}
	r := rechecker{app: app, accounts: accounts, reach: map[uint32]uint32{}, of: map[string]*state{}}
	index := table.NewIndex(accounts.Key, nil)
	for _, c := range changes {
		st := r.of[c.Account]
		if st == nil {
			st = &state{}
			if at := index.Find(c.Account); at >= 0 {
				st.open, st.set = accounts.Open[at], accounts.Held[at]
			}
			st.openAfter, st.after = st.open, st.set
			r.of[c.Account] = st
		}
		r.apply(st, c)
	}
	for t := range app.Things {
		if thing := &app.Things[t]; thing.AtLeast > 0 {
			r.holders(int32(t), thing, changes, held)
		}
	}
	return held
}

type rechecker struct {
	app      *model.App
	accounts *model.Accounts
	reach    map[uint32]uint32
	of       map[string]*state
}

func (r *rechecker) apply(st *state, c *plan.Change) {
	verb, _ := model.ParseVerb(c.Verb)
	switch verb {
	case model.Suspend:
		st.openAfter = false
	case model.Remove:
		st.openAfter, st.after = false, 0
	case model.Create, model.Restore:
		st.openAfter = true
	}
	if t := r.thing(c); t >= 0 {
		if c.Effect == "widens" {
			st.after = r.accounts.Sets.With(st.after, t)
		} else {
			st.after = r.accounts.Sets.Without(st.after, t)
		}
	}
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

func (r *rechecker) reaches(set uint32, thing int32) bool {
	sets := r.accounts.Sets
	full, ok := r.reach[set]
	if !ok {
		members := sets.Members(set)
		full = sets.Of(append(r.app.Implied(members), members...))
		r.reach[set] = full
	}
	return sets.Has(full, thing)
}

func (r *rechecker) holders(t int32, thing *model.Thing, changes []*plan.Change, held map[string]string) {
	n := 0
	for i, set := range r.accounts.Held {
		if r.accounts.Open[i] && r.reaches(set, t) {
			n++
		}
	}
	losers := map[string]bool{}
	for key, st := range r.of {
		before, after := st.open && r.reaches(st.set, t), st.openAfter && r.reaches(st.after, t)
		switch {
		case before && !after:
			n--
			losers[key] = true
		case !before && after:
			n++
		}
	}
	if n >= thing.AtLeast || len(losers) == 0 {
		return
	}
	for _, c := range changes {
		if c.Effect != "narrows" || !losers[c.Account] {
			continue
		}
		if x := r.thing(c); x < 0 || r.reaches(r.accounts.Sets.Of([]int32{x}), t) {
			held[c.ID] = fmt.Sprintf("only %s of %s %s would stay; at least %d must", model.Count(n, "active holder", "active holders"), thing.Kind, thing.Name, thing.AtLeast)
		}
	}
}
