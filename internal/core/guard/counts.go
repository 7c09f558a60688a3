package guard

import (
	"pravet/internal/core/diff"
	"pravet/internal/core/model"
)

// counts holds all changes of a sort when there are more than the limit.
func (c *checker) counts(a int) {
	lim, accounts := c.Limits[a], c.Accounts[a]
	removed, suspended := 0, 0
	narrowed := map[string]bool{}
	for _, i := range c.byApp[a] {
		ch := &c.Changes[i]
		switch ch.Verb {
		case model.Remove:
			removed++
		case model.Suspend:
			suspended++
		}
		switch {
		case narrows(ch) && ch.Verb == model.Redefine:
			for _, at := range ch.Through {
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
			c.holdAll(a, which, guard, "%s %s; the limit is %s%s", model.Count(n, "account would", "accounts would"), what, l, limitOf(l, whole, of))
		}
	}
	over(Removals, removed, lim.Removals, accounts.Len(), "be removed", "accounts", func(ch *diff.Change) bool { return ch.Verb == model.Remove })
	over(Suspensions, suspended, lim.Suspensions, open, "be suspended", "open accounts", func(ch *diff.Change) bool { return ch.Verb == model.Suspend })
	over(Narrowing, len(narrowed), lim.Narrowing, accounts.Len(), "lose something", "accounts", narrows)
}

// limitOf spells a percentage out: "10% of 41 accounts, which is 5".
func limitOf(l model.Limit, whole int, of string) string {
	if !l.IsPct {
		return ""
	}
	return " of " + model.Thousands(whole) + " " + of + ", which is " + model.Thousands(l.Of(whole))
}
