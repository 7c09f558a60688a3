package access

import (
	"slices"

	"pravet/internal/core/model"
	"pravet/internal/core/plan"
)

// A Would is what would become of a person with other attributes.
type Would struct {
	ID      string            `json:"id"`
	Name    string            `json:"name"`
	New     bool              `json:"new"` // the files do not have the person
	With    map[string]string `json:"with"`
	Gains   []plan.Change     `json:"gains"`
	Loses   []plan.Change     `json:"loses"`
	Changes []plan.Change     `json:"changes"` // what would change besides
	Anyway  []plan.Change     `json:"anyway"`  // what is to come or to go as things are, and would be then
	NoMore  []plan.Change     `json:"noMore"`  // what is to come or to go as things are, and would not be then
	Keeps   []string          `json:"keeps"`   // things that the person has and would keep
	Reasons []plan.Reason     `json:"reasons"`
	Plan    *plan.Plan        `json:"-"` // as it would be
}

// Would tells what becomes of a person of the view, who has other attributes there than now: now and then are the
// plans for them alone, as things are and as they would be.
func (v *View) Would(person int, with map[string]string, isNew bool, now, then *plan.Plan) *Would {
	w := &Would{
		ID: v.People.Get(person, "id"), Name: v.Explain.Name(int32(person)), New: isNew, With: with,
		Gains: []plan.Change{}, Loses: []plan.Change{}, Changes: []plan.Change{}, Anyway: []plan.Change{},
		NoMore: []plan.Change{}, Keeps: []string{}, Reasons: then.Reasons, Plan: then,
	}
	ids := func(p *plan.Plan) map[string]bool {
		out := map[string]bool{}
		for i := range p.Changes {
			out[p.Changes[i].ID] = true
		}
		return out
	}
	due, will := ids(now), ids(then)
	for _, c := range then.Changes {
		switch {
		case due[c.ID]:
			w.Anyway = append(w.Anyway, c)
		case c.Effect == model.Widens:
			w.Gains = append(w.Gains, c)
		case c.Effect == model.Narrows:
			w.Loses = append(w.Loses, c)
		default:
			w.Changes = append(w.Changes, c)
		}
	}
	for _, c := range now.Changes {
		if !will[c.ID] {
			w.NoMore = append(w.NoMore, c)
		}
	}
	v.Why(person, nil).Things(func(x *Item) {
		if (x.State == Has || x.State == Kept) && !slices.Contains(w.Keeps, x.Thing) {
			w.Keeps = append(w.Keeps, x.Thing)
		}
	})
	slices.Sort(w.Keeps)
	return w
}
