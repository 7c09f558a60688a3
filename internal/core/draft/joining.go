package draft

import (
	"slices"

	"pravet/internal/core/day"
	"pravet/internal/core/diff"
	"pravet/internal/core/entitle"
	"pravet/internal/core/fact"
	"pravet/internal/core/guard"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
)

// joining points out accounts that are known by something else than their name, and the
// invitations that nobody has accepted, with what waits for that.
func (d *drafter) joining(a int, found *diff.Result, add func(fact.Fact)) {
	app, accounts := d.in.Apps[a], d.accounts[a]
	for _, x := range found.Found {
		if int(x.App) != a || !d.selected(x.Person) {
			continue
		}
		f := fact.Fact{
			Kind: fact.FoundByEmail, Account: accounts.Key.At(int(x.Account)), Person: d.called(x.Person),
		}
		if x.Former {
			f.Kind = fact.FoundFormer
		}
		if at := app.Attr(app.Match); at >= 0 && app.Attrs[at].Fixed {
			f.Attribute = app.Match
		}
		add(f)
	}
	d.pending(a, found, add)
}

// pending points out the invitations that nobody has accepted: few with what waits for
// each, many by their number and the first day on which one expires.
func (d *drafter) pending(a int, found *diff.Result, add func(fact.Fact)) {
	app := d.in.Apps[a]
	var all []fact.Fact
	many := fact.Fact{Kind: fact.WaitingFor}
	for _, x := range found.Pending {
		if int(x.App) != a {
			continue
		}
		f := fact.Fact{
			Kind: fact.WaitingFor, Account: d.accounts[a].Key.At(int(x.Account)), Person: d.called(x.Person),
			On: d.leaving.Invitation(a, int(x.Account)).Expires.String(),
		}
		for _, t := range x.Waits {
			f.Names = append(f.Names, app.Things[t].String())
		}
		all = append(all, f)
		if many.Names = append(many.Names, f.Account); many.On == "" || f.On < many.On {
			many.On = f.On
		}
	}
	if many.Count = len(all); many.Count > fact.MaxNames {
		many.Names = guard.First(many.Names)
		all = []fact.Fact{many}
	}
	for _, f := range all {
		add(f)
	}
}

// lingering points out what people keep for a while after a rule has stopped matching.
func (d *drafter) lingering(found *diff.Result) (out []plan.Notice) {
	type keeping struct {
		names []string
		until day.Day
	}
	kits := map[int]*keeping{}
	for _, x := range d.explainer.Due.Linger {
		if !d.selected(x.Person) || d.leaving.Stages[x.Person] != entitle.Here || !d.reaches(found, x) {
			continue
		}
		k := kits[x.Kit]
		if k == nil {
			k = &keeping{until: x.Until}
			kits[x.Kit] = k
		}
		k.names, k.until = append(k.names, d.called(x.Person)), min(k.until, x.Until)
	}
	for n, k := range kits {
		slices.Sort(k.names)
		out = append(out, guard.Notice("", fact.Fact{
			Kind: fact.Lingering, Kit: d.in.Kits[n].Name, Count: len(k.names), Names: guard.First(k.names),
			Until: k.until.String(),
		}))
	}
	return out
}

// reaches reports whether something lingers in an application that the plan is about.
func (d *drafter) reaches(found *diff.Result, x entitle.Lingering) bool {
	return slices.ContainsFunc(d.in.Kits[x.Kit].Gives, func(g model.Give) bool {
		return found.AccountOf[g.App] != nil && found.AccountOf[g.App][x.Person] != diff.None
	})
}

// selected reports whether the plan is about a person.
func (d *drafter) selected(person int32) bool {
	due := d.explainer.Due
	return due.Classes[due.Of[person]].Selected
}

// called is how a person is called, with the id.
func (d *drafter) called(person int32) string {
	return d.explainer.Name(person) + " (" + d.ids.At(int(person)) + ")"
}
