package draft

import (
	"slices"
	"strings"

	"pravet/internal/core/diff"
	"pravet/internal/core/model"
)

// maxNamed is how many accounts or things a notice names before it counts.
const maxNamed = 5

func (d *drafter) appNotices(a int, found *diff.Result, add func(string, ...any)) {
	accounts, app := d.accounts[a], d.in.Apps[a]
	if accounts.Nameless > 0 {
		add("%s no %s and cannot belong to anyone; left alone", model.Count(accounts.Nameless, "account has", "accounts have"), app.Match)
	}
	var strays []string
	for _, c := range found.Strays {
		if int(c.App) == a {
			strays = append(strays, c.Key)
		}
	}
	if len(strays) > 0 && d.in.Only == nil {
		add("%s to nobody: %s", model.Count(len(strays), "account belongs", "accounts belong"), some(strays))
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
			add("%s outside the catalog, left alone: %s", model.Count(held, "holding of a "+kind.String(), "holdings of "+kind.Plural()), some(names))
		}
	}
	d.doubles(a, found, add)
}

// doubles points out what is held directly although something brings it.
func (d *drafter) doubles(a int, found *diff.Result, add func(string, ...any)) {
	app := d.in.Apps[a]
	by := map[int32][]string{}
	for _, x := range found.Doubles {
		if int(x.App) == a {
			by[x.Thing] = append(by[x.Thing], d.accounts[a].Key.At(int(x.Account)))
		}
	}
	for t, keys := range by {
		thing := app.Things[t]
		add("%s %s is held directly although something else brings it along: %s", thing.Kind, thing.Name, some(keys))
	}
}

// some names the first few of a list, sorted, and counts the rest.
func some(names []string) string {
	slices.Sort(names)
	if len(names) <= maxNamed {
		return strings.Join(names, ", ")
	}
	return strings.Join(names[:maxNamed], ", ") + " and " + model.Count(len(names)-maxNamed, "more", "more")
}
