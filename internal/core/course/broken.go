package course

import (
	"fmt"

	"pravet/internal/core/diff"
	"pravet/internal/core/model"
)

// Broken tells what must hold at every step and does not, and by how much: seats held beyond
// those bought, holders missing who must stay, people who hold what is kept apart. It counts
// anew, in O(accounts), and shares nothing with what refuses changes, so that it can check
// that.
func (n *Now) Broken() map[string]int {
	out := map[string]int{}
	reachers := make([]*diff.Reacher, len(n.Apps))
	for a, app := range n.Apps {
		accounts := n.Accounts[a]
		if accounts == nil {
			continue
		}
		reachers[a] = diff.New(model.ExportedGraph(app, accounts), accounts.Sets)
		for t := range app.Things {
			thing := &app.Things[t]
			held, open := 0, 0
			for i, set := range accounts.Held {
				if reachers[a].Has(set, int32(t)) {
					held++
					if accounts.Open(i) {
						open++
					}
				}
			}
			if over := held - thing.Seats; thing.Kind == model.License && thing.Seats >= 0 && over > 0 {
				out[fmt.Sprintf("%s: seats of %s", app.ID, thing)] = over
			}
			if missing := thing.AtLeast - open; missing > 0 {
				out[fmt.Sprintf("%s: holders of %s who must stay", app.ID, thing)] = missing
			}
		}
	}
	ids := n.People.Column("id")
	for i := range n.Separations {
		sep := &n.Separations[i]
		sides := map[int32]map[model.AppThing]bool{}
		for _, x := range sep.Apart {
			if n.Accounts[x.App] == nil {
				continue
			}
			for at, set := range n.Accounts[x.App].Held {
				p := n.PersonOf[x.App][at]
				if p == diff.None || !reachers[x.App].Has(set, x.Thing) {
					continue
				}
				if sides[p] == nil {
					sides[p] = map[model.AppThing]bool{}
				}
				sides[p][x] = true
			}
		}
		for p, of := range sides {
			if len(of) > 1 && model.Excepted(n.Exceptions, sep.Name, ids.At(int(p)), n.Today) == nil {
				out[fmt.Sprintf("separation %s: %s", sep.Name, ids.At(int(p)))] = len(of) - 1
			}
		}
	}
	return out
}
