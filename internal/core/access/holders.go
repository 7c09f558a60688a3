package access

import (
	"cmp"
	"fmt"
	"slices"

	"pravet/internal/core/model"
)

// A Holder is an account that has a thing.
type Holder struct {
	Account string   `json:"account"`
	Person  string   `json:"person"` // id, or "" for an account of nobody
	Name    string   `json:"name"`
	Open    bool     `json:"open"`
	Is      string   `json:"is"`      // the state of the account: open, blocked, invited
	Through []string `json:"through"` // the things that bring it along; none where it is held directly
	State   string   `json:"state"`   // as of an Item; "of nobody" for an account of nobody
	Kits    []string `json:"kits"`    // the kits of the person that give it
	Places  []string `json:"places"`  // where those kits give it, as file:line

	// Rejected says until when, by whom and why it was rejected that this goes.
	Rejected string `json:"rejected,omitempty"`
	// Of a past day: since when, by whose decision and why, where a run gave it.
	Since     string `json:"since,omitempty"`
	DecidedBy string `json:"decidedBy,omitempty"`
	Because   string `json:"because,omitempty"`
	Run       string `json:"run,omitempty"`
}

// OfNobody is the state of what an account of nobody has.
const OfNobody = "of nobody"

// Holders lists the accounts that hold a thing directly or, with effective, have
// it in the end, by person and account. O(accounts + holders · log holders).
func (v *View) Holders(thing model.AppThing, effective bool) []Holder {
	app, accounts := v.Apps[thing.App], v.Accounts[thing.App]
	out := []Holder{}
	for i, set := range accounts.Held {
		direct := accounts.Sets.Has(set, thing.Thing)
		if !direct && (!effective || !v.reach[thing.App].Has(set, thing.Thing)) {
			continue
		}
		h := Holder{
			Account: accounts.Key.At(i),
			Open:    accounts.Open(i),
			Is:      accounts.States[i].String(),
			Through: []string{},
			State:   OfNobody,
			Kits:    []string{},
			Places:  []string{},
		}
		if !direct {
			for _, t := range accounts.Sets.Members(set) {
				if v.graphs[thing.App].Chain(t, thing.Thing) != nil {
					h.Through = append(h.Through, app.Things[t].String())
				}
			}
		}
		if p := v.PersonOf[thing.App][i]; p >= 0 {
			h.Person, h.Name, h.State = v.People.Get(
				int(p),
				"id",
			), v.name(int(p)), v.state(int(p), thing.App, thing.Thing)
			for _, path := range v.Explain.Paths(p, thing.App, thing.Thing) {
				if kit := v.Kits[path.Held.Kit].Name; !slices.Contains(h.Kits, kit) {
					h.Kits = append(h.Kits, kit)
					h.Places = append(h.Places, fmt.Sprintf("%s:%d", path.Pos.File, path.Pos.Line))
				}
			}
		}
		out = append(out, h)
	}
	slices.SortStableFunc(out, func(x, y Holder) int {
		return cmp.Or(cmp.Compare(x.Person, y.Person), cmp.Compare(x.Account, y.Account))
	})
	return out
}
