package course

import (
	"pravet/internal/core/decide"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/core/table"
)

// A Use is how many seats of a license are in use before some changes and after them.
type Use struct {
	App    int
	Thing  int32
	Before int
	After  int
}

// Seats counts the seats in use before the changes of a plan that are ready, and after them, of the licenses of which a number
// was bought or that have a price. O(accounts · licenses + changes).
func (n *Now) Seats(p *plan.Plan, states []decide.State) (out []Use) {
	numbers := map[string]int{}
	t := n.Try(func(string, *plan.Change) bool { return true })
	for a, app := range n.Apps {
		if n.Accounts[a] == nil {
			continue
		}
		var counted []limit
		for i := range app.Things {
			if x := &app.Things[i]; x.Kind == model.License && (x.Seats >= 0 || x.Price.Known()) {
				counted = append(counted, limit{thing: int32(i), seats: true})
			}
		}
		if len(counted) == 0 {
			continue
		}
		numbers[app.ID] = a
		s := t.bare(a)
		s.limited, s.index = counted, table.NewIndex(s.accounts.Key, nil)
		s.count()
		t.sims[a] = s
		for _, l := range s.limited {
			out = append(out, Use{App: a, Thing: l.thing, Before: l.count})
		}
	}
	for i := range p.Changes {
		c := &p.Changes[i]
		if a, ok := numbers[c.App]; ok && states[i] == decide.Ready {
			t.sims[a].step(c, t.lifted)
		}
	}
	for i := range out {
		for _, l := range t.sims[out[i].App].limited {
			if l.thing == out[i].Thing {
				out[i].After = l.count
			}
		}
	}
	return out
}
