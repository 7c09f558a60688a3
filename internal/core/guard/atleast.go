package guard

import (
	"pravet/internal/core/fact"

	"pravet/internal/core/diff"
	"pravet/internal/core/model"
)

// The guards of this file.
const (
	AtLeast = "at-least"
)

var atLeastFamily = family{
	guards: []Guard{
		{
			Name: AtLeast, Lift: ForChange,
			Raises: []fact.Kind{fact.TooFew, fact.TooFewBetween},
			Holds:  "what would leave fewer active holders after the plan, counting what comes along",
			Limit:  "`atLeast` of the group, role or license",
		},
	},
	late: (*checker).atLeast,
}

// atLeast holds what would leave too few active holders of a thing, counted over
// effective access after the whole plan, and as the application has it where a
// gain, or the definition that it comes by, is held.
func (c *checker) atLeast(a int) {
	app := c.Apps[a]
	for t := range app.Things {
		thing := &app.Things[t]
		if thing.AtLeast == 0 {
			continue
		}
		losers, more := c.rest.Losing(a, int32(t))
		n := c.rest.App(a).Active(c.Accounts[a], int32(t)) + more
		if n >= thing.AtLeast {
			c.between(a, int32(t))
			continue
		}
		for _, i := range c.byApp[a] {
			ch := &c.Changes[i]
			if ch.Verb == model.Redefine {
				// It may reach those whose own loss is held.
				if ch.Sense == diff.Less && c.brings(a, int32(t), ch) && c.active(ch) {
					c.hold(i, AtLeast, TooFew(n, thing))
				}
				continue
			}
			if c.takes(ch) && losers[ch.Slot] && (ch.Thing == diff.None || c.loses(a, int32(t), ch)) {
				c.hold(i, AtLeast, TooFew(n, thing))
			}
		}
	}
}

// active reports whether an account that may sign in has the thing of a
// redefinition today.
func (c *checker) active(ch *diff.Change) bool {
	accounts, has := c.Accounts[ch.App], c.States.Before(int(ch.App)).Giving(ch.Thing)
	for i, set := range accounts.Held {
		if accounts.Open(i) && has[set] {
			return true
		}
	}
	return false
}

// between holds redefinitions that take a thing from so many that, until others
// give it back, too few would hold it.
func (c *checker) between(a int, t int32) {
	thing := &c.Apps[a].Things[t]
	var less []int
	for _, i := range c.byApp[a] {
		if ch := &c.Changes[i]; ch.Verb == model.Redefine && ch.Sense == diff.Less && c.brings(a, t, ch) {
			less = append(less, i)
		}
	}
	if len(less) == 0 {
		return
	}
	late := map[int32]bool{}
	for _, i := range c.byApp[a] {
		if ch := &c.Changes[i]; ch.Late {
			late[ch.Slot] = true
		}
	}
	n := 0
	for i, set := range c.Accounts[a].Held {
		stays := c.Accounts[a].Open(i) && c.States.Narrowed(a).Has(set, t)
		if s := c.rest.At(a, i); s != nil && !late[c.States.Slot(a, i)] {
			stays = stays && s.OpenAfter && c.rest.App(a).Has(s.After, t)
		}
		if stays {
			n++
		}
	}
	if n < thing.AtLeast {
		for _, i := range less {
			f := TooFew(n, thing)
			f.Kind = fact.TooFewBetween
			c.hold(i, AtLeast, f)
		}
	}
}

// TooFew is that too few active holders of a thing would stay.
func TooFew(n int, thing *model.Thing) fact.Fact {
	return fact.Fact{Kind: fact.TooFew, Count: n, Thing: thing.String(), Allowed: thing.AtLeast}
}
