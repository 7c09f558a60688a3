// Package draft makes a plan: from people, applications, kits and exports, by
// way of stages, entitlements, differences, order and guards. The same input
// gives the same bytes; the order in which people, accounts or files come does
// not matter, and no clock is read.
package draft

import (
	"slices"
	"sort"

	"golang.org/x/sync/errgroup"

	"pravet/internal/core/day"
	"pravet/internal/core/decide"
	"pravet/internal/core/diff"
	"pravet/internal/core/entitle"
	"pravet/internal/core/filter"
	"pravet/internal/core/guard"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/core/table"
	"pravet/internal/core/words"
)

// Input is all that a plan follows from.
type Input struct {
	Organization string
	Desired      plan.Desired // People is filled in here
	Today        day.Day      // the day that the plan is for
	Clock        day.Day      // the day on which it is drafted

	People       *model.People
	Apps         []*model.App // in the order of their ids
	Kits         []*model.Kit // in the order of their names
	Separations  []model.Separation
	Exceptions   []model.Exception
	Guards       model.Guards // the organization's
	Exports      []*Export    // one for each application, nil where it was not selected
	Only         *filter.Filter
	PeopleBefore int // people in the plan before, or -1

	Rejections []decide.Rejection
	Lifts      []decide.Lift // those that stand

	Paths []*model.Path // in the order of their ranks
	Past  entitle.Past  // of each application
	Was   []entitle.Was // of each kit
	// Stood, where it is not nil, is told what stands about accounts of an application that
	// are on their way out, on the day of the plan.
	Stood func(app int, marks []entitle.Mark)
	Held  func(ruled entitle.Ruled, keeps []entitle.Lingering) // likewise of kits that linger
	// Promoted tells what changes have done in an environment that this one is promoted from, and when
	// it was settled there last, as far as it stands: environment → plan.Change.Does → day.
	Promoted  map[string]map[string]day.Day
	Outsiders *model.Outsiders // nil where there are none
	Kept      []model.Kept     // to whom nothing is done that cannot be undone

	Undo *UndoneRun // what is to be backed out of, instead of bringing everything in line; nil for a draft
}

// An Export is an application's accounts and what is known about the reading.
type Export struct {
	Accounts *model.Accounts
	Digest   string
	TakenAt  string  // RFC 3339
	Day      day.Day // the day of TakenAt
	Before   int     // accounts in the export before, or -1
	Says     bool    // the export says itself when it was taken
}

// Draft makes the plan; it is not sealed yet.
func Draft(in Input) (*plan.Plan, error) {
	in.Desired.People = in.People.Len()
	p := &plan.Plan{
		Format: plan.Format, Organization: in.Organization, AsOf: in.Today.String(), Desired: in.Desired,
		Exports: []plan.Export{}, Changes: []plan.Change{},
		Reasons: []plan.Reason{}, SetAside: []plan.SetAside{}, Notices: []plan.Notice{},
	}
	d := newDrafter(in)
	due := entitle.Compute(entitle.Input{
		People: in.People,
		Apps:   in.Apps,
		Graphs: d.graphs,
		Kits:   in.Kits,
		Sets:   d.sets,
		Only:   in.Only,
		Today:  in.Today,
		Was:    in.Was,
		Clock:  in.Clock,

		Separations: in.Separations,
		Exceptions:  in.Exceptions,
	})
	if in.Held != nil {
		in.Held(due.Ruled, due.Linger)
	}
	stages := entitle.StagesOf(in.People, in.Today)
	d.leaving = &entitle.Leaving{
		People: in.People, Apps: in.Apps, Accounts: d.accounts, Paths: in.Paths, Stages: stages, Past: in.Past,
		Today: in.Today, Clock: in.Clock, Due: due, Kits: in.Kits,
	}
	for _, app := range in.Apps {
		wait := app.Guards.Or(in.Guards).Or(model.DefaultGuards()).RemovalWait
		d.leaving.Waits = append(d.leaving.Waits, wait != (day.Duration{}))
	}
	if d.leaving.Past == nil {
		d.leaving.Past = make(entitle.Past, len(in.Apps))
	}
	found := diff.Compute(diff.Input{
		People:   in.People,
		Apps:     in.Apps,
		Accounts: d.accounts,
		Due:      due,
		Stages:   stages,
		Leaving:  d.leaving,
		Today:    in.Today,

		Outsiders: in.Outsiders,
	})
	d.personOf, d.accountOf = found.PersonOf, found.AccountOf
	for a := range in.Apps {
		if in.Stood != nil && d.accounts[a] != nil {
			in.Stood(a, found.Marks[a])
		}
	}
	changes := found.Changes
	if in.Undo != nil {
		var left []NotUndone
		changes, left = Undo(Undoing{
			UndoneRun: *in.Undo, Apps: in.Apps, Accounts: d.accounts, PersonOf: found.PersonOf, Same: found.Same,
		})
		for _, l := range left {
			p.Notices = append(p.Notices, guard.Notice(l.App, l.Fact))
		}
		p.Undoes = in.Undo.ID
	}
	if in.Only != nil {
		changes = slices.DeleteFunc(changes, func(c diff.Change) bool { return c.Person == diff.None })
	}
	d.belong(changes)
	Sort(changes, in.People)
	d.states = diff.Follow(in.Apps, d.accounts, found.Same, changes)
	Defer(in.Apps, d.accounts, d.states, changes, in.People)
	d.reached(changes)
	d.explainer = &words.Explainer{
		People:   in.People,
		Apps:     in.Apps,
		Graphs:   d.graphs,
		Kits:     in.Kits,
		Sets:     d.sets,
		Accounts: d.accounts,
		Due:      due,
		Today:    in.Today,
		Leaving:  d.leaving,
		Stands:   found.Stands,
		Own:      map[[2]int32]int32{},
	}
	for _, x := range found.Found {
		d.explainer.Own[[2]int32{x.App, x.Person}] = x.Account
	}
	if in.Undo != nil {
		d.explainer.Undoes.Run, d.explainer.Undoes.Plan = in.Undo.ID, in.Undo.Plan.ID
	}
	d.teller = d.explainer.Teller()
	all := d.changes(changes, due)
	if err := unique(all); err != nil {
		return nil, err
	}
	// Guards look at what is left once the rejected is out: a seat that is not
	// given up is not free, a role that is not granted completes no pair.
	left, aside := decide.SetAside(all, in.Rejections, in.Today)
	p.SetAside = append(p.SetAside, aside...)
	kept := changes
	if p.Changes = all; len(left) < len(all) {
		kept, p.Changes = d.without(changes, found.Same, all, left)
	}
	d.means(p.Changes, kept)
	checked := guard.Check(d.guardInput(due, found, kept, p.Changes))
	judge(p.Changes, checked)
	d.tried(p, kept)
	p.Reasons = d.said
	p.Totals = plan.Count(p.Changes)
	d.head(p, checked, changes)
	p.Costs = d.costs(checked)
	p.Notices = append(p.Notices, d.notices(found, checked)...)
	sort.SliceStable(p.Notices, func(i, j int) bool { return p.Notices[i].App < p.Notices[j].App })
	return p, nil
}

// without are the changes that are left, in the order that they have among
// themselves: nobody waits for what is rejected.
func (d *drafter) without(
	changes []diff.Change,
	same []map[int32]int32,
	all []plan.Change,
	left []int,
) ([]diff.Change, []plan.Change) {
	kept := make([]diff.Change, len(left))
	for n, i := range left {
		kept[n] = changes[i]
		kept[n].Number = int32(i)
		kept[n].Late = kept[n].Def != nil && len(kept[n].Def.Waits) > 0 && kept[n].Sense == diff.Less
	}
	Sort(kept, d.in.People)
	d.states = diff.Follow(d.in.Apps, d.accounts, same, kept)
	Defer(d.in.Apps, d.accounts, d.states, kept, d.in.People)
	d.reached(kept)
	out := make([]plan.Change, len(kept))
	for i := range kept {
		out[i] = all[kept[i].Number]
		out[i].Effect = kept[i].Effect()
		if out[i].Reach != nil {
			out[i].Reach = d.reachOf(&kept[i])
		}
	}
	return kept, out
}

type drafter struct {
	in        Input
	graphs    []*model.Graph // what should bring what along in each application
	sets      []*model.Sets
	accounts  []*model.Accounts
	explainer *words.Explainer
	lifted    map[liftedIn]int // a lifted guard, in an application → holds that it lifted
	teller    *words.Teller
	said      []plan.Reason     // each once, in the order in which changes have them
	given     map[gift][]int    // numbers of the reasons for what a class of people is given
	idle      [][]model.Pattern // of each application, the patterns that no account fits
	numbers   map[uint64]int32  // sum of a reason → its number in said
	ids       *table.Column     // of people
	personOf  [][]int32         // application → account → person, or diff.None
	accountOf [][]int32         // application → person → account, or diff.None
	states    *diff.States      // of the accounts that the changes touch
	leaving   *entitle.Leaving
}

func newDrafter(in Input) *drafter {
	d := &drafter{
		in:      in,
		ids:     in.People.Column("id"),
		lifted:  map[liftedIn]int{},
		said:    []plan.Reason{},
		numbers: map[uint64]int32{},
		given:   map[gift][]int{},
		idle:    make([][]model.Pattern, len(in.Apps)),
	}
	for a := range in.Apps {
		if e := in.Exports[a]; e != nil {
			d.idle[a] = in.Apps[a].Select(e.Accounts, in.Today)
			d.graphs = append(d.graphs, model.WantedGraph(in.Apps[a], e.Accounts))
			d.sets = append(d.sets, e.Accounts.Sets)
			d.accounts = append(d.accounts, e.Accounts)
		} else {
			d.graphs = append(d.graphs, model.CatalogGraph(in.Apps[a]))
			d.sets = append(d.sets, model.NewSets())
			d.accounts = append(d.accounts, nil)
		}
	}
	return d
}

func (d *drafter) guardInput(due *entitle.Result, found *diff.Result, changes []diff.Change, planned []plan.Change) guard.Input {
	in := guard.Input{
		People:      d.in.People,
		Apps:        d.in.Apps,
		Kits:        d.in.Kits,
		Separations: d.in.Separations,
		Exceptions:  d.in.Exceptions,
		Explain:     d.explainer,
		Lifted:      d.isLifted,
		States:      d.states,
		Accounts:    d.accounts,
		Due:         due, Diff: found, Changes: changes, Today: d.in.Today, Clock: d.in.Clock,
		PeopleBefore: d.in.PeopleBefore, Leaving: d.leaving, Kept: d.in.Kept,
		Outsiders: d.in.Outsiders, Stages: d.leaving.Stages, Promoted: d.in.Promoted,
		Does: func(i int) string { return planned[i].Does() },
	}
	org := d.in.Guards.Or(model.DefaultGuards())
	in.LimitRoster = org.RosterShrink
	for a, app := range d.in.Apps {
		in.Limits = append(in.Limits, app.Guards.Or(org))
		taken, before := day.None, -1
		if e := d.in.Exports[a]; e != nil {
			taken, before = e.Day, e.Before
		}
		in.TakenAt = append(in.TakenAt, taken)
		in.Before = append(in.Before, before)
	}
	return in
}

// judge adds to the changes what the guards found.
func judge(out []plan.Change, checked *guard.Result) {
	for i, needs := range checked.Needs {
		p := &out[i]
		for _, n := range needs {
			if !slices.Contains(p.Needs, out[n].ID) {
				p.Needs = append(p.Needs, out[n].ID)
			}
		}
	}
	for i, holds := range checked.Holds {
		out[i].Holds = holds
	}
}

// means says of each change what it means in the end.
func (d *drafter) means(out []plan.Change, changes []diff.Change) {
	var group errgroup.Group
	for a := range d.in.Apps {
		ends := d.ends(a)
		group.Go(func() error {
			for i := range out {
				if int(changes[i].App) == a {
					ends.judge(&out[i], &changes[i])
				}
			}
			return nil
		})
	}
	_ = group.Wait() // none of it fails
}
