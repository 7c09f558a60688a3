package draft

import (
	"fmt"
	"maps"
	"slices"

	"pravet/internal/core/diff"
	"pravet/internal/core/guard"
	"pravet/internal/core/model"
	"pravet/internal/core/money"
	"pravet/internal/core/plan"
)

func (d *drafter) appNotices(a int, found *diff.Result, add func(string, ...any)) {
	accounts, app := d.accounts[a], d.in.Apps[a]
	if n := len(accounts.Unnamed); n > 0 {
		add("%s no %s and cannot belong to anyone; left alone", model.Count(n, "account has", "accounts have"), app.Match)
	}
	var strays []string
	for _, c := range found.Strays {
		if int(c.App) == a {
			strays = append(strays, c.Key)
		}
	}
	if len(strays) > 0 && d.in.Only == nil {
		add("%s to nobody: %s", model.Count(len(strays), "account belongs", "accounts belong"), guard.Some(strays))
	}
	for k := range model.Kinds {
		var names []string
		held := 0
		for u, n := range accounts.Unmanaged {
			if u.Kind == model.Kind(k) {
				names = append(names, u.Name)
				held += n
			}
		}
		if held > 0 {
			kind := model.Kind(k)
			add("%s outside the catalog, left alone: %s", model.Count(held, "holding of a "+kind.String(), "holdings of "+kind.Plural()), guard.Some(names))
		}
	}
	d.doubleNotices(a, found, add)
	d.nestingNotices(a, add)
	for t := range app.Things {
		if thing := &app.Things[t]; thing.Retire && accounts.Definitions != nil && accounts.Definitions.Of[t] == nil {
			add("%s %s is retired and gone; take it out of %s", thing.Kind, thing.Name, thing.Pos)
		}
	}
}

// costs adds up what the seats in use cost, before the plan and after it.
func (d *drafter) costs(checked *guard.Result) []plan.Cost {
	before, after := money.Sum{}, money.Sum{}
	for i := range checked.Uses {
		use := &checked.Uses[i]
		price := d.in.Apps[use.App].Things[use.Thing].Price
		before.Add(price, use.Before)
		after.Add(price, use.After)
	}
	var out []plan.Cost
	all := maps.Clone(before)
	maps.Copy(all, after)
	for _, currency := range all.Currencies() {
		out = append(out, plan.Cost{Currency: currency, Before: before.Of(currency), After: after.Of(currency)})
	}
	return out
}

// nestingNotices points out groups that are within others in the application, or
// are not, other than the catalog says; access follows the application. It also
// points out members of groups whom no account is there for.
func (d *drafter) nestingNotices(a int, add func(string, ...any)) {
	app, accounts := d.in.Apps[a], d.accounts[a]
	if accounts.Nested != nil {
		for t := range app.Things {
			child := &app.Things[t]
			if child.Kind != model.Group {
				continue
			}
			should := slices.DeleteFunc(slices.Clone(child.Implies), func(x int32) bool { return app.Things[x].Kind != model.Group })
			for _, parent := range model.Without(accounts.Nested[t], should) {
				add("group %s is within group %s in the application, and the catalog does not say so; who is in it has both", child.Name, app.Things[parent].Name)
			}
			for _, parent := range model.Without(should, accounts.Nested[t]) {
				add("group %s is not within group %s in the application, as the catalog has it; it brings nothing of that along", child.Name, app.Things[parent].Name)
			}
		}
	}
	for _, inner := range accounts.Inner {
		add("group %s, which is not in the catalog, is within group %s; who is in it is not counted there", inner.Member, inner.Group)
	}
	var gone []string
	for _, x := range accounts.Dangling {
		gone = append(gone, fmt.Sprintf("%s in %s", x.Member, x.Group))
	}
	if n := len(gone); n > 0 {
		add("%s whom no account is there for; left alone: %s", model.Count(n, "member of a group is someone", "members of groups are some"), guard.Some(gone))
	}
}

// doubleNotices points out what is held directly although something brings it.
func (d *drafter) doubleNotices(a int, found *diff.Result, add func(string, ...any)) {
	app := d.in.Apps[a]
	by := map[int32][]string{}
	for _, x := range found.Doubles {
		if int(x.App) == a {
			by[x.Thing] = append(by[x.Thing], d.accounts[a].Key.At(int(x.Account)))
		}
	}
	for t, keys := range by {
		thing := app.Things[t]
		add("%s %s is held directly although something else brings it along: %s", thing.Kind, thing.Name, guard.Some(keys))
	}
}
