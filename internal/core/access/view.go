// Package access answers who has what, who should, and why: from the desired
// state of a day and, where they were read, the applications' exports. It
// changes nothing and drafts nothing.
//
//	v := access.Look(access.Input{People: people, Apps: apps, Kits: kits, Accounts: accounts, Today: today})
//	answer := v.Why(people.Named("E0042"), nil)
package access

import (
	"slices"

	"pravet/internal/core/day"
	"pravet/internal/core/diff"
	"pravet/internal/core/entitle"
	"pravet/internal/core/model"
	"pravet/internal/core/words"
)

// Input is what a View is of. Accounts holds nil for an application whose export
// was not read.
type Input struct {
	People   *model.People
	Apps     []*model.App
	Kits     []*model.Kit
	Accounts []*model.Accounts
	Today    day.Day

	Separations []model.Separation
	Exceptions  []model.Exception // from separations

	Paths     []*model.Path // in the order of their ranks
	Outsiders *model.Outsiders
}

// A View is what is due and what is held on a day. It is used by one goroutine
// at a time.
type View struct {
	Input
	Deciding []string // who decides about changes, and how that is proved, in words
	Due      *entitle.Result
	Stages   []entitle.Stage
	Explain  *words.Explainer
	Sets     []*model.Sets // of each application
	Past     entitle.Past  // since when accounts are on their way out; nil where that is not known

	AccountOf [][]int32      // application → person → account, or diff.None; nil where no export was read
	PersonOf  [][]int32      // application → account → person, or diff.None
	graphs    []*model.Graph // what should bring what along in each application
	reach     []*diff.Reacher
	leaving   *entitle.Leaving // made when it is asked for first
	only      []string         // applications whose licenses are counted
}

// Keep lets people keep what kits gave them for a while, as the ledger knows who held
// those; was is nil where nothing lingers.
func (v *View) Keep(was []entitle.Was) {
	if was == nil {
		return
	}
	v.Due = entitle.Compute(entitle.Input{
		People: v.People, Apps: v.Apps, Graphs: v.graphs, Kits: v.Kits, Sets: v.Sets, Today: v.Today,
		Was: was, Clock: v.Today, Separations: v.Separations, Exceptions: v.Exceptions,
	})
	v.Explain.Due = v.Due
}

// Look computes what is due and whose each account is, at the cost of
// entitle.Compute and diff.Compute.
func Look(in Input) *View {
	v := &View{Input: in}
	for a, app := range in.Apps {
		sets, wanted := model.NewSets(), model.CatalogGraph(app)
		exported := wanted
		if of := in.Accounts[a]; of != nil {
			app.Select(of, in.Today)
			sets, wanted, exported = of.Sets, model.WantedGraph(app, of), model.ExportedGraph(app, of)
		}
		v.Sets = append(v.Sets, sets)
		v.graphs = append(v.graphs, wanted)
		v.reach = append(v.reach, diff.New(exported, sets))
	}
	v.Due = entitle.Compute(
		entitle.Input{People: in.People, Apps: in.Apps, Graphs: v.graphs, Kits: in.Kits, Sets: v.Sets, Today: in.Today},
	)
	v.Stages = entitle.StagesOf(in.People, in.Today)
	v.Explain = &words.Explainer{
		People:   in.People,
		Apps:     in.Apps,
		Graphs:   v.graphs,
		Kits:     in.Kits,
		Sets:     v.Sets,
		Accounts: in.Accounts,
		Due:      v.Due,
		Today:    in.Today,
	}
	match := diff.Match(diff.Input{People: in.People, Apps: in.Apps, Accounts: in.Accounts})
	v.AccountOf, v.PersonOf = match.AccountOf, match.PersonOf
	return v
}

// closedFor reports whether an application is closed for a person today.
func (v *View) closedFor(p, app int) bool {
	a := v.Apps[app]
	return len(a.Closed) > 0 && a.ClosedFor(func(attr string) string { return v.People.Get(p, attr) }, v.Today) != nil
}

// Later reports whether somebody who is not here yet is to have an account from the first day.
func (v *View) Later(p, app int) bool {
	return v.Stages[p] == entitle.NotYet && v.due(p, app).Account()
}

// ahead reports whether an account is to be made before somebody's first day.
func (v *View) ahead(p, app int) bool {
	return v.Later(p, app) && v.AccountOf[app] != nil && v.account(p, app) < 0 &&
		v.Apps[app].Leads(v.People.Get(p, "starts"), v.Today)
}

// due is what a person should have in an application.
func (v *View) due(p, app int) *entitle.Due { return &v.Due.Classes[v.Due.Of[p]].Apps[app] }

// Should is the set of all that a person should have in an application in the
// end; account reports whether an account should be open there at all.
func (v *View) Should(p, app int) (set uint32, account bool) {
	if d := v.due(p, app); entitle.DutyOf(v.Stages[p], d.Account(), model.NoAccount).Acts && !v.closedFor(p, app) {
		return d.Reach, true
	}
	return 0, false
}

// account is a person's account in an application, or -1.
func (v *View) account(p, app int) int {
	if v.AccountOf[app] == nil {
		return -1
	}
	at := int(v.AccountOf[app][p])
	if at >= 0 && v.Accounts[app].States[at] == model.Removed && !v.pathInput().Restorable(app, at) {
		return -1
	}
	return at
}

// has is the set of all that a person has in an application in the end, open or
// blocked.
func (v *View) has(p, app int) uint32 {
	if at := v.account(p, app); at >= 0 {
		return v.reach[app].Full(v.Accounts[app].Held[at])
	}
	return 0
}

// pathState is where an account stands on a path, nil for one that is upon none. person is -1
// for one of nobody.
func (v *View) pathState(app, at, person int) *entitle.Stand {
	if len(v.Paths) == 0 || at < 0 || v.untouched(app, at) {
		return nil
	}
	return v.pathInput().Of(app, at, person)
}

// pathComing is where an account stands when the next step falls due that finds something to do.
func (v *View) pathComing(app, at, person int, to day.Day) *entitle.Stand {
	if v.untouched(app, at) {
		return nil
	}
	return v.pathInput().Coming(app, at, person, to)
}

// untouched reports whether no plan changes an account.
func (v *View) untouched(app, at int) bool {
	key := v.Accounts[app].Key.At(at)
	_, protected := v.Apps[app].Protected(key)
	_, alone := v.Apps[app].IsAlone(key)
	return protected || alone
}

// pathInput is where accounts stand on their ways in and out.
func (v *View) pathInput() *entitle.Leaving {
	if v.leaving == nil {
		v.leaving = &entitle.Leaving{
			People: v.People, Apps: v.Apps, Accounts: v.Accounts, Paths: v.Paths, Stages: v.Stages,
			Today: v.Today, Clock: v.Today,
		}
	}
	if v.leaving.Past = v.Past; v.Past == nil {
		v.leaving.Past = make(entitle.Past, len(v.Apps))
	}
	return v.leaving
}

// name is how a person is called.
func (v *View) name(p int) string { return v.Explain.Name(int32(p)) }

// called is how a person is called, with the id.
func (v *View) called(p int) string { return v.name(p) + " (" + v.People.Get(p, "id") + ")" }

// The states of a thing that someone has or should have.
const (
	Has    = "has"     // and should have
	ToCome = "to come" // should have, and has not
	ToGo   = "to go"   // has, and should not have
	Kept   = "kept"    // has, and keeps it while blocked
	Waits  = "waits"   // should have, and has not until the invitation is accepted
	NotDue = "not due" // a kit gives it, and it is not due in this application today
)

// state tells where a person stands with a thing.
func (v *View) state(p, app int, thing int32) string {
	has := v.Sets[app].Has(v.has(p, app), thing)
	should, _ := v.Should(p, app)
	if s := v.pathState(app, v.account(p, app), p); s != nil && has {
		for _, step := range s.Wants() {
			if step.Do == model.DoStrip && slices.Contains(
				entitle.Stripped(v.Apps[app], v.Accounts[app], v.account(p, app), &step), thing,
			) {
				return ToGo
			}
		}
		return Kept
	}
	switch {
	case has && v.Sets[app].Has(should, thing) && v.never(p, app, thing):
		return ToGo
	case has && v.Sets[app].Has(should, thing):
		return Has
	case has && (v.closedFor(p, app) || entitle.DutyOf(v.Stages[p], v.due(p, app).Account(), model.Open).Holdings == entitle.Keep):
		return Kept
	case has:
		return ToGo
	case v.Sets[app].Has(should, thing) && v.awaits(p, app, thing):
		return Waits
	case v.Sets[app].Has(should, thing), v.instead(p, app, thing) && !v.closedFor(p, app):
		return ToCome
	}
	return NotDue
}

// never reports whether a thing is never somebody's, although a kit gives it: it is for insiders, or brings along what
// is.
func (v *View) never(p, app int, thing int32) bool {
	return v.Apps[app].ForInsiders(v.graphs[app], thing) &&
		v.Outsiders.Are(func(attr string) string { return v.People.Get(p, attr) }, v.Today)
}

// instead reports whether a thing is to come for one of which everybody has one and that is never the person's.
func (v *View) instead(p, app int, thing int32) bool {
	a, at := v.Apps[app], v.account(p, app)
	return at >= 0 && a.Lone(thing) && slices.ContainsFunc(v.Sets[app].Members(v.Accounts[app].Held[at]), func(t int32) bool {
		return a.Instead(t) == thing && v.Sets[app].Has(v.due(p, app).Want, t) && v.never(p, app, t)
	})
}
