// A back-out finds the differences that undo a run, as far as it can be undone. It looks at
// what each change of the run was, and at what the application shows now: what somebody else
// has changed since then is left alone, and said. What it finds is ordered, judged by guards and
// made into a plan like any other difference.
//
// A change and what undoes it, on the account that it was about:
//
//	grant role planner                  revoke role planner
//	update title from "Mate" to "Bosun"  update title from "Bosun" to "Mate"
//	suspend                             restore
//	create                              suspend: the account stays, as work may be in it by now
//	remove                              restore, where the application has kept the account

package draft

import (
	"slices"
	"strings"

	"pravet/internal/core/account"
	"pravet/internal/core/diff"
	"pravet/internal/core/fact"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
)

// An UndoneRun is what is to be undone.
type UndoneRun struct {
	ID   string
	Plan *plan.Plan // that the run has carried out
	Done []string   // the changes that it has settled, in their order
}

// Undoing is what a back-out follows from.
type Undoing struct {
	UndoneRun
	Apps     []*model.App
	Accounts []*model.Accounts // as the applications are now; nil where they were not read
	PersonOf [][]int32         // application → account → person, or diff.None
	Same     []map[int32]int32 // see diff.Result
}

// Stays is why an account that a run has made is not removed again.
const Stays = "the account stays, blocked: work may be in it by now"

// A NotUndone is a change that is not undone.
type NotUndone struct {
	App  string
	Fact fact.Fact
}

// Undo finds the changes that undo a run, in no particular order. It costs O(accounts + changes).
func Undo(in Undoing) (changes []diff.Change, left []NotUndone) {
	u := &undoing{
		Undoing: in,
		renamed: map[[2]string]string{},
		named:   map[[2]string]bool{},
		seen:    make([]*account.Accounts, len(in.Apps)),
		slots:   make([]map[int32]int32, len(in.Apps)),
		known:   map[same]bool{},
	}
	byID := map[string]*plan.Change{}
	for i := range in.Plan.Changes {
		byID[in.Plan.Changes[i].ID] = &in.Plan.Changes[i]
	}
	var done []*plan.Change
	for _, id := range in.Done {
		c := byID[id]
		if c == nil {
			continue
		}
		done = append(done, c)
		u.named[[2]string{c.App, c.Account}] = true
		if a := u.app(c.App); a >= 0 {
			if name, ok := account.Renames(u.Apps[a], c); ok {
				u.renamed[[2]string{c.App, c.Account}] = name
			}
		}
	}
	for _, c := range slices.Backward(done) {
		u.undo(c)
	}
	return u.changes, u.left
}

type undoing struct {
	Undoing
	changes []diff.Change
	left    []NotUndone
	seen    []*account.Accounts
	slots   []map[int32]int32    // application → account → slot
	renamed map[[2]string]string // application and old name → new one
	named   map[[2]string]bool   // application and name of the accounts that the run has changed
	known   map[same]bool
}

// same tells changes apart: an account that a run has opened and made is suspended once.
type same struct {
	app         int
	account     string
	verb        model.Verb
	thing, attr int32
	field       string
	sense       diff.Sense
}

func (u *undoing) app(id string) int {
	return slices.IndexFunc(u.Apps, func(a *model.App) bool { return a.ID == id })
}

// in returns the accounts of an application, to be looked up.
func (u *undoing) in(a int) *account.Accounts {
	if u.seen[a] == nil {
		u.seen[a] = account.In(u.Apps[a], u.Accounts[a])
	}
	return u.seen[a]
}

// undo finds what undoes one change.
func (u *undoing) undo(c *plan.Change) {
	a := u.app(c.App)
	if a < 0 || u.Accounts[a] == nil {
		u.stays(c, "the application is not here any more")
		return
	}
	out := *c // as what undoes it
	if name, ok := u.renamed[[2]string{c.App, c.Account}]; ok {
		out.Account = name
	}
	out.Verb, out.Before, out.After = c.Verb.Undo(), c.After, c.Before
	if out.Thing != nil && c.Verb.Deed().Gains && u.Apps[a].One[c.Thing.Kind] {
		// The thing that went comes back: nobody is without one.
		out.Verb, out.Before, out.After = c.Verb, plan.Value{}, plan.Value{}
		out.Thing = &plan.Thing{Kind: c.Thing.Kind, Name: c.Before.Text()}
	}
	why := ""
	switch state := u.state(a, out.Account); {
	case c.Verb == model.Update && c.Attribute == model.KeySince:
		why = "a key that was made anew stays"
	case c.Verb == model.Invite && c.Attribute != "":
		why = "an invitation that was sent cannot be called back"
	case c.Verb == model.Create, c.Verb == model.Invite && state != model.Invited:
		out.Verb, out.Attribute = model.Suspend, ""
	case c.Verb == model.Remove && state != model.Removed:
		why = "the application keeps no accounts that were removed"
	case c.Verb == model.HandOver:
		why = "what was handed over is among what the other owns; hand it back manually"
	case out.Thing != nil && out.Thing.Name == "":
		why = "nobody knows any more which " + out.Thing.Kind.String() + " it was"
	case c.Verb == model.Define:
		why = "the definition stays: somebody may have it by now"
	case c.Verb == model.Retire, c.Verb == model.Withdraw:
		why = "nobody knows any more what it was; add it to the files again"
	}
	if why == "" {
		why = u.fits(a, &out)
	}
	if why != "" {
		u.stays(c, why)
		return
	}
	if out.Verb == model.Suspend && c.Verb.Deed().Makes {
		u.stays(c, Stays)
	}
	if why := u.add(a, &out, c.Verb); why != "" {
		u.stays(c, why)
	}
}

func (u *undoing) fits(a int, c *plan.Change) (why string) {
	ok, says := true, ""
	if c.Verb.OfThing() {
		ok, says = account.DefinitionFits(u.Apps[a], u.Accounts[a].Definitions, c)
	} else {
		ok, says = account.Fits(u.Apps[a], func(name string) account.Seen { return u.find(a, name) }, c)
	}
	if ok {
		return ""
	}
	return says
}

// find returns an account, nil where it is not there. One that the run has changed as well, under a name that differs
// in case only, is another.
func (u *undoing) find(a int, name string) account.Seen {
	row := u.in(a).Row(name)
	if row < 0 {
		return nil
	}
	if is := u.Accounts[a].Key.At(row); is != name && u.named[[2]string{u.Apps[a].ID, is}] {
		return nil
	}
	return u.in(a).Find(name)
}

func (u *undoing) state(a int, name string) model.State {
	if is := u.find(a, name); is != nil {
		return is.State()
	}
	return model.NoAccount
}

// add notes what undoes a change as a difference; why is what it cannot be for.
func (u *undoing) add(a int, c *plan.Change, undoes model.Verb) (why string) {
	app := u.Apps[a]
	out := diff.Change{
		App: int32(a), Person: diff.None, Account: diff.None, Thing: diff.None, Attr: diff.None, Slot: diff.None,
		Verb: c.Verb, Why: diff.IsUndone, Def: &diff.Definition{Undoes: undoes},
	}
	if c.Thing != nil {
		if out.Thing = app.Thing(c.Thing.Kind, c.Thing.Name); out.Thing < 0 {
			return "it is not in the catalog any more"
		}
	}
	switch {
	case c.Verb.OfThing():
		u.redefine(app, c, &out)
	default:
		row := int32(u.in(a).Row(c.Account))
		if first, ok := u.Same[a][row]; ok {
			row = first
		}
		out.Account, out.Person, out.Slot, out.Key = row, u.PersonOf[a][row], u.slot(a, row), c.Account
		if out.Thing != diff.None && c.Verb.Deed().Gains {
			out.Before, out.Sense = diff.Exchanged(app, u.Accounts[a].Sets, u.Accounts[a].Has(int(row)), out.Thing)
			out.After = c.After.Text() // the terms on which it was held
		}
		if c.Verb == model.Update {
			if out.Attr = int32(app.Attr(c.Attribute)); out.Attr < 0 {
				return "the attribute is not managed any more"
			}
			out.Before, out.After = c.Before.Text(), c.After.Text()
		}
	}
	key := same{a, out.Key, out.Verb, out.Thing, out.Attr, out.Def.Field, out.Sense}
	if !u.known[key] {
		u.known[key] = true
		u.changes = append(u.changes, out)
	}
	return ""
}

// redefine fills in a change of a definition.
func (u *undoing) redefine(app *model.App, c *plan.Change, out *diff.Change) {
	out.Def.Field, out.Def.Depth = c.Attribute, model.CatalogGraph(app).Depths()[out.Thing]
	if c.Attribute == diff.Title {
		out.Before, out.After = c.Before.Text(), c.After.Text()
		return
	}
	out.Def.From, out.Def.To = c.Before.List(), c.After.List()
	moved := model.Without(out.Def.To, out.Def.From)
	if out.Sense = diff.More; len(moved) == 0 {
		out.Sense, moved = diff.Less, model.Without(out.Def.From, out.Def.To)
	}
	if c.Attribute == diff.Brings {
		out.Def.Moved = app.Numbers(moved)
	}
}

func (u *undoing) slot(a int, row int32) int32 {
	if u.slots[a] == nil {
		u.slots[a] = map[int32]int32{}
	}
	n, ok := u.slots[a][row]
	if !ok {
		n = int32(len(u.slots[a]))
		u.slots[a][row] = n
	}
	return n
}

// stays says that a change is not undone, and why.
func (u *undoing) stays(c *plan.Change, why string) {
	var parts []string
	if c.Account != "" {
		parts = append(parts, c.Account)
	}
	if c.Thing != nil {
		parts = append(parts, c.Thing.Kind.String()+" "+c.Thing.Name)
	}
	if c.Attribute != "" {
		parts = append(parts, c.Attribute)
	}
	u.left = append(u.left, NotUndone{c.App, fact.Fact{
		Kind: fact.NotUndone, Value: c.Verb.String(), Account: strings.Join(parts, ", "), Because: why,
	}})
}
