// Package undo makes the changes that undo a run, as far as it can be undone. It looks at
// what each change of the run was, and at what the application shows now: what somebody else
// has changed since then is left alone, and said.
//
// A change and what undoes it, on the account that it was about:
//
//	grant role planner                  revoke role planner
//	update title from "Mate" to "Bosun"  update title from "Bosun" to "Mate"
//	suspend                             restore
//	create                              suspend: the account stays, as work may be in it by now
//	remove                              restore, where the application has kept the account
package undo

import (
	"fmt"
	"slices"
	"strings"

	"pravet/internal/core/fact"
	"pravet/internal/core/guard"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/core/table"
	"pravet/internal/core/words"
)

// Input is what a back-out follows from.
type Input struct {
	Run      string
	Plan     *plan.Plan // that the run has carried out
	Done     []string   // the changes that it has settled, in their order
	Apps     []*model.App
	Accounts []*model.Accounts // as the applications are now; nil where they were not read
	Limits   []model.Guards    // of each application, complete
}

// Stays is why an account that a run has made is not removed again.
const Stays = "the account stays, blocked: work may be in it by now"

// Result is the changes that undo a run, and what is to be said of the rest.
type Result struct {
	Changes []plan.Change
	Reasons []plan.Reason
	Notices []plan.Notice
}

// Changes makes them, in the reverse order of the run. It costs O(accounts + changes).
func Changes(in Input) *Result {
	u := &undoing{Input: in, out: &Result{}, inverse: map[string]string{}, renamed: map[[2]string]string{}}
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
		if name, ok := c.After.(string); ok && u.renames(c) {
			u.renamed[[2]string{c.App, c.Account}] = name
		}
	}
	u.index = make([]*table.Index, len(in.Apps))
	for _, c := range slices.Backward(done) {
		u.undo(c)
	}
	// What needed another change is undone before that one is.
	at := map[string]int{}
	for i := range u.out.Changes {
		at[u.out.Changes[i].ID] = i
	}
	for _, c := range done {
		mine := u.inverse[c.ID]
		for _, need := range c.Needs {
			if i, ok := at[u.inverse[need]]; ok && mine != "" && mine != u.inverse[need] {
				u.out.Changes[i].Needs = append(u.out.Changes[i].Needs, mine)
			}
		}
	}
	u.hold()
	return u.out
}

type undoing struct {
	Input
	out     *Result
	index   []*table.Index
	inverse map[string]string    // id of a change → id of what undoes it
	renamed map[[2]string]string // application and old name → new one
}

func (u *undoing) app(id string) int {
	return slices.IndexFunc(u.Apps, func(a *model.App) bool { return a.ID == id })
}

func (u *undoing) renames(c *plan.Change) bool {
	a := u.app(c.App)
	return a >= 0 && c.Verb == model.Update && c.Attribute == u.Apps[a].Match
}

// undo makes what undoes one change.
func (u *undoing) undo(c *plan.Change) {
	a := u.app(c.App)
	if a < 0 || u.Accounts[a] == nil {
		u.left(c, "the application is not here any more")
		return
	}
	out := plan.Change{App: c.App, Account: c.Account, Person: c.Person, Reasons: []int{len(u.out.Reasons)}}
	if name, ok := u.renamed[[2]string{c.App, c.Account}]; ok {
		out.Account = name
	}
	says, stays := "", ""
	switch c.Verb {
	case model.Update:
		if c.Attribute == model.KeySince {
			u.left(c, "a key that was made anew stays")
			return
		}
		out.Verb, out.Attribute, out.Before, out.After = model.Update, c.Attribute, c.After, c.Before
	case model.Suspend:
		out.Verb = model.Restore
	case model.Restore:
		out.Verb = model.Suspend
	case model.Create, model.Invite:
		if c.Attribute != "" {
			u.left(c, "an invitation that was sent cannot be called back")
			return
		}
		out.Verb, stays = model.Suspend, Stays
		if c.Verb == model.Invite && u.state(a, out.Account) == model.Invited {
			out.Verb, stays = model.Withdraw, ""
		}
	case model.Remove:
		if u.state(a, out.Account) != model.Removed {
			u.left(c, "the application keeps no accounts that were removed")
			return
		}
		out.Verb = model.Restore
	case model.Join, model.Grant, model.Assign, model.Leave, model.Revoke, model.Release:
		out.Verb, out.Thing = opposite(c.Verb), c.Thing
	case model.HandOver:
		u.left(c, "what was handed over is among what the other owns; hand it back by hand")
		return
	case model.Redefine:
		out.Verb, out.Thing, out.Attribute, out.Before, out.After = c.Verb, c.Thing, c.Attribute, c.After, c.Before
		out.Reach = c.Reach
	case model.Define:
		u.left(c, "the definition stays: somebody may hold it by now")
		return
	default:
		u.left(c, "nobody knows any more what it was; define it anew in the catalog")
		return
	}
	if ok, why := Fits(u.Apps[a], u.Accounts[a], u.at(a), &out); !ok {
		says = why
	}
	if says != "" {
		u.left(c, says)
		return
	}
	if stays != "" {
		u.left(c, stays)
	}
	if out.Effect = out.Verb.Effect(); c.Verb == model.Redefine {
		out.Effect = map[model.Effect]model.Effect{model.Widens: model.Narrows, model.Narrows: model.Widens}[c.Effect]
	}
	out.ID = plan.ChangeID(&out)
	if u.inverse[c.ID] = out.ID; slices.ContainsFunc(
		u.out.Changes,
		func(x plan.Change) bool { return x.ID == out.ID },
	) {
		return // suspended by the run, and created by it
	}
	f := fact.Fact{Kind: fact.Undoes, Other: u.Run, Value: c.Verb.String()}
	u.out.Reasons = append(u.out.Reasons, plan.Reason{
		Facts: &f, File: "plans/" + u.Plan.ID + ".json", Line: 1, Says: words.Of(&f),
	})
	u.out.Changes = append(u.out.Changes, out)
}

// opposite is the verb that takes back what another one does.
func opposite(v model.Verb) model.Verb {
	return map[model.Verb]model.Verb{
		model.Join: model.Leave, model.Leave: model.Join, model.Grant: model.Revoke, model.Revoke: model.Grant,
		model.Assign: model.Release, model.Release: model.Assign,
	}[v]
}

func (u *undoing) at(a int) *table.Index {
	if u.index[a] == nil {
		u.index[a] = table.NewIndex(u.Accounts[a].Key, nil)
	}
	return u.index[a]
}

func (u *undoing) state(a int, account string) model.State {
	if i := u.at(a).Spelled(account); i >= 0 {
		return u.Accounts[a].States[i]
	}
	return model.NoAccount
}

// left says that a change is not undone, and why.
func (u *undoing) left(c *plan.Change, why string) {
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
	name := strings.Join(parts, ", ")
	f := fact.Fact{Kind: fact.NotUndone, Value: c.Verb.String(), Account: name, Because: why}
	u.out.Notices = append(u.out.Notices, guard.Notice(c.App, f))
}

// Fits reports whether a change finds what it starts from, as an application is now; if not,
// what is there instead.
func Fits(app *model.App, accounts *model.Accounts, index *table.Index, c *plan.Change) (ok bool, says string) {
	if c.Verb.OfThing() {
		return defined(app, accounts.Definitions, c)
	}
	i := index.Spelled(c.Account)
	if i < 0 {
		return false, "the account is not there any more"
	}
	state := accounts.States[i]
	holds := func() bool {
		t := app.Thing(c.Thing.Kind, c.Thing.Name)
		return t >= 0 && accounts.Sets.Has(accounts.Has(i), t)
	}
	switch c.Verb {
	case model.Update:
		is := ""
		if n := app.Attr(c.Attribute); n >= 0 {
			is = accounts.Attr(n, i)
		} else if c.Attribute == app.Match {
			is = accounts.Key.At(i)
		}
		want := ""
		if c.Before != nil {
			want = fmt.Sprint(c.Before)
		}
		if is != want {
			return false, fmt.Sprintf("somebody has changed it since, to %q", is)
		}
	case model.Suspend:
		if state != model.Open {
			return false, "the account is " + state.String() + " by now"
		}
	case model.Restore:
		if state == model.Open {
			return false, "somebody has opened the account since"
		}
	case model.Leave, model.Revoke, model.Release:
		if !holds() {
			return false, "somebody has taken it away since"
		}
	case model.Join, model.Grant, model.Assign:
		if holds() {
			return false, "somebody has given it again since"
		}
	case model.Withdraw:
		return state == model.Invited, "nobody is invited any more"
	}
	return true, ""
}

// defined reports whether a definition is what a change of it starts from.
func defined(app *model.App, defs *model.Definitions, c *plan.Change) (ok bool, says string) {
	t := app.Thing(c.Thing.Kind, c.Thing.Name)
	if defs == nil || t < 0 || defs.Of[t] == nil {
		return false, "the definition is not there any more"
	}
	d := defs.Of[t]
	is := map[string]string{
		"title": d.Title, "permissions": fmt.Sprint(d.Permissions), "brings": fmt.Sprint(d.Brings),
	}[c.Attribute]
	want := fmt.Sprint(plan.Texts(c.Before))
	if c.Attribute == "title" {
		want = ""
		if c.Before != nil {
			want = fmt.Sprint(c.Before)
		}
	}
	if is != want {
		return false, "somebody has changed the definition since"
	}
	return true, ""
}

// hold raises the holds of limits on counts, and of protected accounts. What must hold at
// every step is looked at when it is carried out.
func (u *undoing) hold() {
	for a, app := range u.Apps {
		if u.Accounts[a] == nil {
			continue
		}
		open, suspended := 0, 0
		for _, s := range u.Accounts[a].States {
			if s == model.Open {
				open++
			}
		}
		narrowed := map[string]bool{}
		each := func(f func(*plan.Change)) {
			for i := range u.out.Changes {
				if u.out.Changes[i].App == app.ID {
					f(&u.out.Changes[i])
				}
			}
		}
		each(func(c *plan.Change) {
			if c.Verb == model.Suspend {
				suspended++
			}
			if c.Effect == model.Narrows {
				narrowed[c.Account] = true
			}
			if _, yes := app.Protected(c.Account); yes {
				f := fact.Fact{Kind: fact.Protected, Account: c.Account}
				c.Holds = append(c.Holds, guard.Hold(guard.Protected, f))
			}
		})
		over := func(name string, n int, l model.Limit, whole int, what, of string, which func(*plan.Change) bool) {
			if n <= l.Of(whole) {
				return
			}
			f := fact.Fact{
				Kind: fact.Beyond, Count: n, Limit: l.String(), Whole: whole, Allowed: l.Of(whole), Other: what, Via: of,
			}
			each(func(c *plan.Change) {
				if which(c) {
					c.Holds = append(c.Holds, guard.Hold(name, f))
				}
			})
		}
		over(guard.Suspensions, suspended, u.Limits[a].Suspensions, open, "be suspended", "open accounts",
			func(c *plan.Change) bool { return c.Verb == model.Suspend })
		over(guard.Narrowing, len(narrowed), u.Limits[a].Narrowing, u.Accounts[a].Len(), "lose something", "accounts",
			func(c *plan.Change) bool { return c.Effect == model.Narrows })
	}
}
