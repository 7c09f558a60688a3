package adopt

import (
	"fmt"

	"pravet/internal/core/access"
	"pravet/internal/core/diff"
	"pravet/internal/core/plan"
)

// Proof compares what people should have by the files as they were and as they would be: everything that a
// change would have taken away is theirs afterwards, and nobody comes to be due a thing that they do not
// have. The error names the first who differs. An empty draft would not prove that: what is left alone has
// no changes. O(people · applications), and once for each pair of classes.
func Proof(before, after *access.View, changes []*plan.Change) error {
	was := map[string]int{}
	for p := range before.People.Len() {
		was[before.People.Get(p, "id")] = p
	}
	for _, c := range changes {
		p := after.People.Named(c.Person)
		if c.Person == "" || p < 0 || c.Thing == nil || !c.Verb.Deed().Loses {
			continue
		}
		if a := appOf(after, c.App); a >= 0 && !should(after, p, a)[c.Thing.Kind.String()+" "+c.Thing.Name] {
			return fmt.Errorf(
				"%s would not keep %s %s of %s; nothing was written",
				after.People.Called(p), c.Thing.Kind, c.Thing.Name, c.App,
			)
		}
	}
	type classes struct {
		app      int
		was, now uint32
	}
	more := map[classes][]string{}
	for p := range after.People.Len() {
		old, known := was[after.People.Get(p, "id")]
		if !known {
			continue
		}
		for a := range after.Apps {
			if after.Accounts[a] == nil {
				continue
			}
			key := classes{a, before.Due.Of[old], after.Due.Of[p]}
			new, seen := more[key]
			if !seen {
				had := should(before, old, appOf(before, after.Apps[a].ID))
				for name := range should(after, p, a) {
					if !had[name] {
						new = append(new, name)
					}
				}
				more[key] = new
			}
			for _, name := range new {
				if !has(after, p, a, name) {
					return fmt.Errorf(
						"%s would come to have %s of %s, which they do not have today; nothing was written",
						after.People.Called(p), name, after.Apps[a].ID,
					)
				}
			}
		}
	}
	return nil
}

func appOf(v *access.View, id string) int {
	for a, app := range v.Apps {
		if app.ID == id {
			return a
		}
	}
	return -1
}

// should are the things that a person is due in an application, with all that comes along.
func should(v *access.View, p, a int) map[string]bool {
	out := map[string]bool{}
	if a < 0 {
		return out
	}
	due := &v.Due.Classes[v.Due.Of[p]].Apps[a]
	if !due.Account() {
		return out
	}
	for _, t := range v.Sets[a].Members(due.Reach) {
		out[v.Apps[a].Things[t].String()] = true
	}
	return out
}

// has reports whether the account of a person has a thing today.
func has(v *access.View, p, a int, name string) bool {
	account := v.AccountOf[a][p]
	if account == diff.None {
		return false
	}
	for t := range v.Apps[a].Things {
		if v.Apps[a].Things[t].String() == name {
			return diff.Exported(v.Apps[a], v.Accounts[a]).Has(v.Accounts[a].Has(int(account)), int32(t))
		}
	}
	return false
}
