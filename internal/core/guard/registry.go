package guard

import (
	"slices"

	"pravet/internal/core/fact"
)

// A Guard is a limit or an invariant that holds changes.
type Guard struct {
	Name   string
	Lift   Scope
	Asks   bool        // it ends for a change once that change is accepted individually, by id or number
	Raises []fact.Kind // what its holds say
	Holds  string      // what it holds, for the docs
	Limit  string      // and by which limit, "" for none
}

// A Scope is what a guard may be lifted for by a decision.
type Scope uint8

// The scopes.
const (
	Never     Scope = iota // the hold ends only when its cause does
	ForChange              // one change at a time, named by its id or number
	ForPlan                // a whole plan, or an application until a day (standing.yaml)
)

func (s Scope) String() string { return [...]string{"never", "one change", "a plan"}[s] }

// A family is some guards and how they are checked, in the order: each application, all of them
// together, and each application once more when it is known what is held.
type family struct {
	guards []Guard
	each   func(c *checker, app int)
	all    func(c *checker)
	late   func(c *checker, app int)
}

// families are all guards there are, in the order in which they are checked. It is filled once, here.
var families = []family{
	exportsFamily, promotedFamily, countsFamily, endingsFamily, gainingFamily, outsidersFamily, askedFamily,
	accountsFamily, alikeFamily, namesFamily, attributesFamily, possibleFamily, definingFamily, undoneFamily,
	rosterFamily, separatedFamily, atLeastFamily, seatsFamily,
}

// All lists all guards.
func All() (out []Guard) {
	for i := range families {
		out = append(out, families[i].guards...)
	}
	return out
}

// Named finds a guard by its name; ok is false where there is none.
func Named(name string) (g Guard, ok bool) {
	for i := range families {
		for _, g := range families[i].guards {
			if g.Name == name {
				return g, true
			}
		}
	}
	return Guard{}, false
}

// Names lists the names of the guards that may be lifted for at least so much, sorted.
func Names(lift Scope) (out []string) {
	for _, g := range All() {
		if g.Lift >= lift {
			out = append(out, g.Name)
		}
	}
	slices.Sort(out)
	return out
}

// Asks reports whether a guard holds a change only until it is accepted individually: to accept the
// whole plan is not enough.
func Asks(name string) bool {
	g, ok := Named(name)
	return ok && g.Asks
}
