// Package guard looks at the ordered differences and raises holds: reasons why
// a change may not be carried out as things are. A guard never changes or
// drops a change. Where a guard is about one change, only that one is held;
// where it is about an application as a whole, all its changes are.
//
// One file is one family of guards, which stands in the registry (registry.go) by one line there: the
// lists of guards, what may lift each, the completion of --lift, the schema of standing.yaml and the
// table of docs/guards.md follow from it.
package guard

import (
	"pravet/internal/core/fact"

	"pravet/internal/core/day"
	"pravet/internal/core/diff"
	"pravet/internal/core/entitle"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/core/words"
)

// Input is all that guards look at. Changes are in the plan's order.
type Input struct {
	People      *model.People
	Apps        []*model.App
	Limits      []model.Guards // of each application, complete
	Kits        []*model.Kit
	Separations []model.Separation
	Exceptions  []model.Exception // from separations
	Explain     *words.Explainer
	States      *diff.States      // of the accounts that the changes touch
	Accounts    []*model.Accounts // nil for an application that was not selected
	Due         *entitle.Result
	Diff        *diff.Result
	Changes     []diff.Change
	Today       day.Day // of the plan
	Clock       day.Day // when it is drafted

	// Promoted tells what changes have done in an environment that this one is promoted from, and when
	// it was settled there last: environment → what a change does → day. Does is that of a change here.
	Promoted     map[string]map[string]day.Day
	Does         func(change int) string
	TakenAt      []day.Day // of each export
	Before       []int     // accounts in the export before, or -1
	PeopleBefore int       // people in the plan before, or -1
	Leaving      *entitle.Leaving
	Kept         []model.Kept
	Outsiders    *model.Outsiders
	Stages       []entitle.Stage
	LimitRoster  model.Limit

	// Lifted reports whether a decision takes a guard away in an application: what
	// it would hold is carried out, and counts so for the guards after it.
	Lifted func(guard, app string) bool
}

// Result is what the guards found.
type Result struct {
	Holds   map[int][]plan.Hold // number of the change → holds
	Needs   map[int][]int       // number of the change → changes that must come before it
	Notices []plan.Notice
	Uses    []Use  // of the licenses with seats or a price
	Suspect []bool // applications whose export is empty or has shrunk
	Roster  bool   // the roster has shrunk
}

// Check runs all guards, in O(accounts + changes · log changes).
func Check(in Input) *Result {
	c := &checker{
		Input: in,
		out:   &Result{Holds: map[int][]plan.Hold{}, Needs: map[int][]int{}, Suspect: make([]bool, len(in.Apps))},
		byApp: make([][]int, len(in.Apps)),
	}
	for i := range in.Changes {
		a := in.Changes[i].App
		c.byApp[a] = append(c.byApp[a], i)
	}
	of := func(check func(*checker, int)) {
		if check == nil {
			return
		}
		for a := range in.Apps {
			if in.Accounts[a] != nil {
				check(c, a)
			}
		}
	}
	for i := range families {
		of(families[i].each)
	}
	for i := range families {
		if all := families[i].all; all != nil {
			all(c)
		}
	}
	// What is held by now frees no seat and makes nobody a holder.
	c.left()
	for i := range families {
		of(families[i].late)
	}
	return c.out
}

type checker struct {
	Input
	out      *Result
	byApp    [][]int               // application → numbers of its changes
	widening map[account][]int     // numbers of the changes that give an account a thing
	losing   map[account][]int     // and of those that take from it
	byPerson map[personApp][]int   // see losses
	others   map[personApp][]int32 // see seconds
	rest     *diff.States          // of the accounts, if what is held is not carried out
}

// An account is one of an application, by the slot of its changes.
type account struct {
	app  int
	slot int32
}

// left follows the accounts through the changes that nothing holds so far.
func (c *checker) left() {
	if len(c.out.Holds) == 0 {
		c.rest = c.States
		return
	}
	kept := make([]diff.Change, 0, len(c.Changes))
	for i := range c.Changes {
		if len(c.out.Holds[i]) == 0 {
			kept = append(kept, c.Changes[i])
		}
	}
	c.rest = diff.Follow(c.Apps, c.Accounts, c.Diff.Same, kept)
}

// gives reports whether a change gives an account something: a thing, be it for another that goes, or what it had
// before it was removed.
func (c *checker) gives(ch *diff.Change) bool {
	if ch.Verb == model.Restore {
		return c.had(ch) != 0
	}
	return ch.Thing != diff.None && !ch.Verb.OfThing() && ch.Verb.Deed().Gains
}

// exchanged is the thing that goes when a change gives another of which everybody has one, -1 for none.
func (c *checker) exchanged(ch *diff.Change) int32 { return ch.Exchanged(c.Apps[ch.App]) }

// takes reports whether a change takes something from an account.
func (c *checker) takes(ch *diff.Change) bool { return narrows(ch) || c.exchanged(ch) >= 0 }

// loses reports whether a change that takes something takes a thing: by itself, or by what it brings along.
func (c *checker) loses(a int, t int32, ch *diff.Change) bool {
	gone := c.exchanged(ch)
	if gone < 0 {
		return c.brings(a, t, ch)
	}
	return int(ch.App) == a && (c.States.App(a).Brings(gone, t) || c.States.Before(a).Brings(gone, t))
}

// gather indexes the changes of each account.
func (c *checker) gather() {
	if c.widening != nil {
		return
	}
	c.widening, c.losing = map[account][]int{}, map[account][]int{}
	for i := range c.Changes {
		ch := &c.Changes[i]
		if ch.Verb.OfThing() {
			continue
		}
		k := account{int(ch.App), ch.Slot}
		if c.gives(ch) {
			c.widening[k] = append(c.widening[k], i)
		}
		if c.takes(ch) {
			c.losing[k] = append(c.losing[k], i)
		}
	}
}

func (c *checker) hold(i int, guard string, f fact.Fact) {
	if c.Lifted(guard, c.Apps[c.Changes[i].App].ID) {
		return
	}
	h := Hold(guard, f)
	for _, x := range c.out.Holds[i] {
		if x.Guard == guard && x.Says == h.Says {
			return // it has been said
		}
	}
	c.out.Holds[i] = append(c.out.Holds[i], h)
}

// Hold is a hold of a guard, in words as well.
func Hold(guard string, f fact.Fact) plan.Hold {
	return plan.Hold{Guard: guard, Facts: f, Says: words.Of(&f)}
}

// Notice is a notice about an application, in words as well.
func Notice(app string, f fact.Fact) plan.Notice {
	return plan.Notice{App: app, Facts: f, Says: words.Of(&f)}
}

// holdAll holds all of an application's changes that a test chooses.
func (c *checker) holdAll(a int, which func(*diff.Change) bool, guard string, f fact.Fact) {
	h := Hold(guard, f)
	for _, i := range c.byApp[a] {
		if which(&c.Changes[i]) && !c.Lifted(guard, c.Apps[a].ID) {
			c.out.Holds[i] = append(c.out.Holds[i], h)
		}
	}
}

func (c *checker) notice(a int, f fact.Fact) {
	c.out.Notices = append(c.out.Notices, Notice(c.Apps[a].ID, f))
}

func narrows(ch *diff.Change) bool { return ch.Effect() == model.Narrows }

// personName is how a hold names a person.
func (c *checker) personName(p int32) string {
	if n := c.People.Get(int(p), "displayName"); n != "" {
		return n + " (" + c.People.Get(int(p), "id") + ")"
	}
	return c.People.Get(int(p), "id")
}
