package access

import (
	"cmp"
	"slices"
	"strings"

	"pravet/internal/core/model"
	"pravet/internal/core/stage"
)

// Implied is what the files ask for that no plan will give: a pair of things that are
// kept apart, or more seats than were bought.
type Implied struct {
	Pos        model.Pos
	Separation string       // its name, or "" for seats
	License    *model.Thing // of seats
	App        string       // of the license
	People     []string     // the first who would have both, by name and id
	Count      int          // of those people, or of the seats that are needed
}

// maxImplied is how many people an Implied names.
const maxImplied = 3

// Implied lists what the files imply by themselves; no application is looked at. Who
// may have both by an exception is left out. O(people).
func (v *View) Implied() (out []Implied) {
	for i := range v.Separations {
		sep := &v.Separations[i]
		x := Implied{Pos: sep.Pos, Separation: sep.Name}
		both := map[uint32]bool{} // class → its people would have both
		for class := range v.Due.Classes {
			due := v.Due.Classes[class].Apps
			both[uint32(class)] = len(sep.Break(func(t model.AppThing) bool {
				d := &due[t.App]
				return d.Account() && v.Sets[t.App].Has(d.Reach, t.Thing)
			})) > 1
		}
		for p, class := range v.Due.Of {
			id := v.People.Get(p, "id")
			if !both[class] || v.Stages[p] != stage.Here ||
				model.Excepted(v.Exceptions, sep.Name, id, v.Today) != nil {
				continue
			}
			if x.Count++; len(x.People) < maxImplied {
				x.People = append(x.People, v.name(p)+" ("+id+")")
			}
		}
		if x.Count > 0 {
			out = append(out, x)
		}
	}
	licenses := v.Licenses()
	needed := v.needed(v.Due, v.Stages, licenses)
	for i, l := range licenses {
		thing := &v.Apps[l.App].Things[l.Thing]
		if thing.Seats >= 0 && needed[i] > thing.Seats {
			out = append(out, Implied{Pos: thing.Pos, License: thing, App: v.Apps[l.App].ID, Count: needed[i]})
		}
	}
	return out
}

// An Open is what a change would do to somebody's account, or to a thing that they
// hold there.
type Open struct {
	App, Account, Person string
	Verb                 model.Verb
	Kind                 model.Kind // of the thing
	Name                 string     // of the thing, or "" for the account itself
}

// Opens calls f with what is to come or to go, and takes what is said of its decision.
// What an account is to hold waits for the account.
func (a *Answer) Opens(f func(Open) string) {
	accounts, closed := map[string]string{}, map[string]string{}
	for i := range a.Accounts {
		x := &a.Accounts[i]
		accounts[x.App] = cmp.Or(x.Account, a.UserName)
		if !x.acts {
			continue
		}
		if says := f(Open{App: x.App, Account: accounts[x.App], Person: a.ID, Verb: x.verb}); says != "" {
			x.Should += ", " + says
			if x.verb == model.Create || x.verb == model.Restore {
				closed[x.App] = says
			}
		}
	}
	a.Things(func(x *Item) {
		parts := strings.SplitN(x.Thing, "/", 3)
		if len(parts) != 3 || !slices.Contains([]string{ToCome, ToGo}, x.State) {
			return
		}
		kind, ok := model.ParseKind(parts[1])
		if !ok {
			return
		}
		verb := model.Gaining(kind)
		if x.State == ToGo {
			verb = model.Losing(kind)
		}
		x.Rejected = f(Open{parts[0], accounts[parts[0]], a.ID, verb, kind, parts[2]})
		if says := closed[parts[0]]; says != "" && x.Rejected == "" && x.State == ToCome {
			x.Rejected = "set aside, as the account is " + says
		}
	})
}
