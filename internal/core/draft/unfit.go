package draft

import (
	"slices"
	"strings"

	"pravet/internal/core/fact"
	"pravet/internal/core/model"
	"pravet/internal/core/table"
)

// An Unfit is a name of an account in the files that no account of an export has.
type Unfit struct {
	Pos  model.Pos
	Fact fact.Fact
}

// A Named is a name of an account in the files.
type Named struct {
	Name, Via string
	Pos       model.Pos
}

// NamedAccounts lists the accounts of an application that the files name: under protect and alone, what is
// kept, and the lists of paths.
func NamedAccounts(app *model.App, kept []model.Kept, paths []*model.Path) (all []Named) {
	for _, n := range app.Protect {
		all = append(all, Named{n.Text, "protect", n.Pos})
	}
	for _, n := range app.Alone {
		all = append(all, Named{n.Text, "alone", n.Pos})
	}
	for i := range kept {
		if k := &kept[i]; k.App == app.ID && k.Account != "" {
			all = append(all, Named{k.Account, "kept", k.Pos})
		}
	}
	for _, p := range paths {
		if p.List == nil {
			continue
		}
		for entry, line := range p.List.Lines {
			if name, ok := strings.CutPrefix(entry, app.ID+"/"); ok {
				all = append(all, Named{name, "the list of path " + p.Name, model.Pos{File: p.List.File, Line: line}})
			}
		}
	}
	return all
}

// Unfitting lists those of the names that fit no account. A slip there protects nobody. Names are compared
// as accounts and people are, case ignored. idle are the patterns that no account fits. O(accounts), where there
// is any of them.
func Unfitting(app *model.App, accounts *model.Accounts, idle []model.Pattern, all []Named) (out []Unfit) {
	for _, p := range idle {
		out = append(out, Unfit{p.Pos, fact.Fact{
			Kind: fact.NoneFits, Value: p.Filter.String(), Via: p.Under, Place: p.Pos.String(), App: app.ID,
		}})
	}
	if len(all) == 0 {
		return out
	}
	index := table.NewIndex(accounts.Key, nil)
	all = slices.DeleteFunc(all, func(n Named) bool { return index.Find(n.Name) >= 0 })
	slices.SortFunc(all, func(x, y Named) int {
		return strings.Compare(x.Pos.String()+x.Name, y.Pos.String()+y.Name)
	})
	for i, n := range all {
		f := fact.Fact{Kind: fact.NoAccount, Account: n.Name, Via: n.Via, Place: n.Pos.String(), App: app.ID}
		if i < maxNear {
			names := make([]string, accounts.Key.Len())
			for j := range names {
				names[j] = accounts.Key.At(j)
			}
			f.Other = table.Nearest(n.Name, names)
		}
		out = append(out, Unfit{n.Pos, f})
	}
	return out
}

// maxNear is for how many names a nearest one is looked for, among all accounts.
const maxNear = 3

// unfit says which names fit nothing.
func (d *drafter) unfit(a int, add func(fact.Fact)) {
	if d.in.Only != nil {
		return
	}
	names := NamedAccounts(d.in.Apps[a], d.in.Kept, d.in.Paths)
	for _, u := range Unfitting(d.in.Apps[a], d.accounts[a], d.idle[a], names) {
		add(u.Fact)
	}
}
