// Package order puts changes into the order in which they are carried out:
// by verb (see model.Verb for why that order is safe), then application,
// person, thing and attribute. What something else brings along is taken away
// last, when that is there.
package order

import (
	"cmp"
	"slices"

	"pravet/internal/core/diff"
	"pravet/internal/core/model"
)

// Sort orders changes in place, in O(n log n). The outcome does not depend on
// the order in which they come: applications are numbered by their id, people
// are compared by theirs, accounts of nobody by their name.
func Sort(changes []diff.Change, people *model.People) {
	ids := people.Column("id")
	id := func(c *diff.Change) string {
		if c.Person == diff.None {
			return ""
		}
		return ids.At(int(c.Person))
	}
	slices.SortFunc(changes, func(x, y diff.Change) int {
		if d := cmp.Or(cmp.Compare(rank(&x), rank(&y)), cmp.Compare(x.App, y.App)); d != 0 {
			return d
		}
		if x.Person != y.Person {
			if d := cmp.Compare(id(&x), id(&y)); d != 0 {
				return d
			}
		}
		return cmp.Or(cmp.Compare(x.Key, y.Key), cmp.Compare(x.Thing, y.Thing), cmp.Compare(x.Attr, y.Attr))
	})
}

// rank orders the steps of a plan.
func rank(c *diff.Change) int {
	if c.Why == diff.IsDouble {
		return int(model.Grant) + 1 + int(c.Verb)
	}
	return int(c.Verb)
}
