package guard

import (
	"pravet/internal/core/diff"
	"pravet/internal/core/fact"
	"pravet/internal/core/model"
)

// The guards of this file.
const (
	Removals    = "removals"
	Suspensions = "suspensions"
	Narrowing   = "narrowing"
)

var countsFamily = family{
	guards: []Guard{
		{
			Name: Removals, Lift: ForPlan,
			Raises: []fact.Kind{fact.Beyond},
			Holds:  "removals, when there are more than the limit",
			Limit:  "`removals: 2`",
		},
		{
			Name: Suspensions, Lift: ForPlan,
			Raises: []fact.Kind{fact.Beyond},
			Holds: "suspensions, when there are more, of the open accounts; those for days on which the application is closed " +
				"do not count",
			Limit: "`suspensions: 10%`",
		},
		{
			Name: Narrowing, Lift: ForPlan,
			Raises: []fact.Kind{fact.Beyond},
			Holds:  "everything that narrows, when more accounts lose something",
			Limit:  "`narrowing: 25%`",
		},
	},
	each: (*checker).counts,
}

// counts holds all removals, suspensions or narrowing changes of an application when there are more
// than its limit. Those because of days on which it is closed are not counted.
func (c *checker) counts(a int) {
	lim, accounts := c.Limits[a], c.Accounts[a]
	removed, suspended := 0, 0
	narrowed := map[string]bool{}
	for _, i := range c.byApp[a] {
		ch := &c.Changes[i]
		if ch.Why == diff.IsClosed {
			continue // these are many, and meant
		}
		switch ch.Verb {
		case model.Remove:
			removed++
		case model.Suspend:
			suspended++
		}
		switch {
		case narrows(ch) && ch.Verb == model.Redefine:
			for _, at := range ch.Def.Through {
				narrowed[accounts.Key.At(int(at))] = true
			}
		case narrows(ch):
			narrowed[ch.Key] = true
		}
	}
	open := 0
	for _, s := range accounts.States {
		if s == model.Open {
			open++
		}
	}
	over := func(guard string, n int, l model.Limit, whole int, what, of string, which func(*diff.Change) bool) {
		if n > l.Of(whole) {
			f := limited(fact.Beyond, n, l, whole)
			f.Other, f.Via = what, of
			c.holdAll(a, which, guard, f)
		}
	}
	over(
		Removals,
		removed,
		lim.Removals,
		accounts.Len(),
		"be removed",
		"accounts",
		func(ch *diff.Change) bool { return ch.Verb == model.Remove },
	)
	over(
		Suspensions,
		suspended,
		lim.Suspensions,
		open,
		"be suspended",
		"open accounts",
		func(ch *diff.Change) bool { return ch.Verb == model.Suspend && ch.Why != diff.IsClosed },
	)
	over(
		Narrowing, len(narrowed), lim.Narrowing, accounts.Len(), "lose something", "accounts",
		func(ch *diff.Change) bool { return narrows(ch) && ch.Why != diff.IsClosed },
	)
}

// limited is that a count is beyond its limit.
func limited(kind fact.Kind, n int, l model.Limit, whole int) fact.Fact {
	return fact.Fact{Kind: kind, Count: n, Limit: l.String(), Whole: whole, Allowed: l.Of(whole)}
}
