package access

import (
	"cmp"
	"fmt"
	"slices"

	"pravet/internal/core/day"
	"pravet/internal/core/entitle"
	"pravet/internal/core/fact"
	"pravet/internal/core/model"
)

// An invited is an account to which somebody is invited.
type invited struct {
	app, at, person int
	entitle.Invitation
}

// invitations lists the invitations that nobody has accepted, those that expire first
// before the others. O(accounts).
func (v *View) invitations() (out []invited) {
	for a, accounts := range v.Accounts {
		if accounts == nil || v.Apps[a].Invites == nil {
			continue
		}
		for at, state := range accounts.States {
			if state == model.Invited {
				out = append(out, invited{a, at, int(v.PersonOf[a][at]), v.pathInput().Invitation(a, at)})
			}
		}
	}
	slices.SortStableFunc(out, func(x, y invited) int { return cmp.Compare(x.Expires, y.Expires) })
	return out
}

// awaits reports whether somebody gets a thing only once they have accepted an invitation.
func (v *View) awaits(p, app int, thing int32) bool {
	at, x := v.account(p, app), v.Apps[app].Invites
	return x != nil && (at < 0 || v.Accounts[app].States[at] == model.Invited) &&
		!x.With[v.Apps[app].Things[thing].Kind]
}

// waits lists the things that are due to somebody who is invited, and not given before
// the invitation is accepted.
func (v *View) waits(p, app int) (out []string) {
	for _, t := range v.Sets[app].Members(v.due(p, app).Want) {
		if v.state(p, app, t) == Waits {
			out = append(out, v.Apps[app].Things[t].String())
		}
	}
	return out
}

// invitedRows lists the invitations that nobody has accepted.
func (v *View) invitedRows() *Rows {
	rows := v.invitations()
	return &Rows{
		Columns: []string{
			"app", "account", "person", "name", "sent", "since", "expires", "days", "waits", "stage", "effective",
			"file", "line",
		},
		Also:    v.ofPeople(),
		Default: []string{"app", "account", "name", "sent", "since", "expires", "days", "waits"},
		Several: set("effective", "waits"),
		Len:     len(rows),
		Values: func(i int, column string) []string {
			r := rows[i]
			switch column {
			case "sent":
				return one(fmt.Sprint(r.Sent))
			case "since":
				return one(r.Since.String())
			case "expires":
				return one(r.Expires.String())
			case "days":
				return one(fmt.Sprint(max(0, int(r.Expires-v.Today))))
			case "waits":
				if r.person < 0 {
					return nil
				}
				return v.waits(r.person, r.app)
			}
			return v.accountValues(r.app, r.at, column)
		},
	}
}

// invitations are those that expire.
func (f *falling) invitations() {
	for _, x := range f.v.invitations() {
		id := ""
		if x.person >= 0 {
			id = f.v.People.Get(x.person, "id")
		}
		app, account := f.v.Apps[x.app], f.v.Accounts[x.app].Key.At(x.at)
		f.add(max(x.Expires, f.v.Today), app.ID, id, app.Invites.Pos, fact.Fact{
			Kind: fact.FallsInvited, App: app.ID, Account: account, Until: x.Expires.String(),
			Person: cmp.Or(f.called(id), account),
		})
	}
}

// A need is an attribute that a thing needs a value of.
type need struct {
	app   int
	thing int32
	attr  string // of the person
}

// missing is what somebody who is here lacks for what is due to them: it waits for that.
// O(people + classes · things).
func (f *falling) missing() {
	v := f.v
	needs := make([][]need, len(v.Due.Classes))
	any := false
	for c := range v.Due.Classes {
		for a, app := range v.Apps {
			d := &v.Due.Classes[c].Apps[a]
			if !d.Account() {
				continue
			}
			for _, t := range v.Sets[a].Members(d.Want) {
				for _, attr := range app.Things[t].Needs {
					if n := app.Attr(attr); n >= 0 && app.Attrs[n].Person != "" {
						needs[c], any = append(needs[c], need{a, t, app.Attrs[n].Person}), true
					}
				}
			}
		}
	}
	if !any {
		return
	}
	for p, class := range v.Due.Of {
		for _, x := range needs[class] {
			if _, open := v.Should(p, x.app); !open || v.People.Get(p, x.attr) != "" ||
				v.Sets[x.app].Has(v.has(p, x.app), x.thing) {
				continue
			}
			id := v.People.Get(p, "id")
			f.add(v.Today, v.Apps[x.app].ID, id, v.People.Pos(p), fact.Fact{
				Kind: fact.FallsMissing, Person: v.called(p), App: v.Apps[x.app].ID,
				Thing: v.Apps[x.app].Things[x.thing].String(), Attribute: x.attr,
			})
		}
	}
}

// expiry is when an invitation to an account expires, in words; "" for one to which nobody
// is invited.
func (v *View) expiry(app, at int) string {
	if at < 0 || v.Accounts[app].States[at] != model.Invited || v.Apps[app].Invites == nil {
		return ""
	}
	x := v.pathInput().Invitation(app, at)
	if x.Expires == day.None {
		return ""
	}
	return x.Expires.String()
}
