package guard

import (
	"pravet/internal/core/diff"
	"pravet/internal/core/entitle"
	"pravet/internal/core/fact"
	"pravet/internal/core/model"
)

// NotHere is the name of this file's guard.
const NotHere = "not-here"

var undoneFamily = family{
	guards: []Guard{{
		Name: NotHere, Lift: ForChange,
		Raises: []fact.Kind{fact.NotHere, fact.OfNobodyNow},
		Holds: "what a back-out would give to somebody who is not here (away, left, not started yet), or to an " +
			"account that belongs to nobody",
	}},
	each: (*checker).undone,
}

// undone holds what a back-out gives to whom the files give nothing: it brings back what was, and that
// may have been taken for a good reason. O(changes).
func (c *checker) undone(a int) {
	for _, i := range c.byApp[a] {
		ch := &c.Changes[i]
		if ch.Why != diff.IsUndone || ch.Verb.OfThing() || ch.Effect() != model.Widens {
			continue
		}
		switch {
		case ch.Person == diff.None:
			c.hold(i, NotHere, fact.Fact{Kind: fact.OfNobodyNow, Account: ch.Key})
		case c.Stages[ch.Person] != entitle.Here:
			c.hold(i, NotHere, fact.Fact{
				Kind: fact.NotHere, Person: c.personName(ch.Person), Value: c.Stages[ch.Person].String(),
			})
		}
	}
}
