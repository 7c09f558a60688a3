package access

import (
	"pravet/internal/core/model"
)

// Effective names what a set of things gives in the end, with the kinds.
func (v *View) Effective(app int, set uint32) []string {
	return v.names(app, v.reach[app].Full(set), -1)
}

// SeatsOf names the licenses that an account has in the end, and adds what their seats cost a month to a
// sum.
func (v *View) SeatsOf(app, at int, cost model.Sum) (names []string) {
	for _, t := range v.Accounts[app].Sets.Members(v.reach[app].Full(v.Accounts[app].Held[at])) {
		if thing := &v.Apps[app].Things[t]; thing.Kind == model.License {
			names = append(names, thing.Name)
			cost.Add(thing.Price, 1)
		}
	}
	return names
}

// Seated lists the accounts that have a thing in the end. O(accounts).
func (v *View) Seated(thing model.AppThing) (out []int32) {
	has := v.reach[thing.App].Giving(thing.Thing)
	for at, set := range v.Accounts[thing.App].Held {
		if has[set] {
			out = append(out, int32(at))
		}
	}
	return out
}

// Sides lists which of the things that a separation keeps apart a person has in the end, and
// which by the files they should have.
func (v *View) Sides(p int, s *model.Separation) (has, should []string) {
	for _, x := range s.Apart {
		address := func() string { return v.Apps[x.App].Address(x.Thing).String() }
		if v.AccountOf[x.App] != nil && v.reach[x.App].Has(v.has(p, x.App), x.Thing) {
			has = append(has, address())
		}
		if set, account := v.Should(p, x.App); account && v.Sets[x.App].Has(set, x.Thing) {
			should = append(should, address())
		}
	}
	return has, should
}
