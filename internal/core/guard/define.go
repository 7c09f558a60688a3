package guard

import (
	"fmt"
	"slices"

	"pravet/internal/core/fact"

	"pravet/internal/core/diff"
	"pravet/internal/core/model"
)

// The guards of this file.
const (
	InUse = "in-use"
)

var definingFamily = family{
	guards: []Guard{
		{
			Name: InUse, Lift: ForChange,
			Raises: []fact.Kind{fact.StillHeld, fact.HeldAlready, fact.StillBrings},
			Holds: "the end of a definition that someone would still hold; the beginning of one that someone " +
				"holds already, as the export then shows too few",
		},
	},
	each: (*checker).inUse,
}

// brings reports whether a change gives or takes a thing: by itself, by what it
// brings along, or, of a redefinition, by what it moves.
func (c *checker) brings(a int, t int32, ch *diff.Change) bool {
	switch {
	case int(ch.App) != a:
		return false
	case ch.Verb == model.Restore:
		return c.States.App(a).Has(c.had(ch), t)
	case ch.Thing == diff.None:
		return false
	}
	if !moves(ch) {
		return !ch.Verb.OfThing() && (c.States.App(a).Brings(ch.Thing, t) || c.States.Before(a).Brings(ch.Thing, t))
	}
	return (ch.Verb == model.Define || ch.Def.Field == diff.Brings) &&
		slices.ContainsFunc(ch.Def.Moved, func(moved int32) bool {
			return c.States.App(a).Brings(moved, t) || c.States.Before(a).Brings(moved, t)
		})
}

// moves reports whether a change is one of a definition by which accounts gain or
// lose things: it changes, or it begins.
func moves(ch *diff.Change) bool { return ch.Verb == model.Redefine || ch.Verb == model.Define }

// inUse holds the end of a definition while an account still holds the thing
// after the plan, or something else that the application has still brings it; and
// the beginning of one that an account holds already, for then the application
// must have it, and shows fewer definitions than there are.
func (c *checker) inUse(a int) {
	for _, i := range c.byApp[a] {
		ch := &c.Changes[i]
		if ch.Verb != model.Retire && ch.Verb != model.Define {
			continue
		}
		t := c.Apps[a].Things[ch.Thing]
		var left []string
		for at, set := range c.Accounts[a].Held {
			key := c.Accounts[a].Key.At(at)
			if s := c.States.At(a, at); s != nil && ch.Verb == model.Retire {
				set = s.After
			}
			if c.Accounts[a].Sets.Has(set, ch.Thing) {
				left = append(left, key)
			}
		}
		switch {
		case ch.Verb == model.Define && len(left) > 0:
			c.hold(i, InUse, fact.Fact{
				Kind:  fact.HeldAlready,
				Thing: t.String(),
				Count: len(left),
				App:   c.Apps[a].ID,
				Names: First(left),
			})
			continue
		case ch.Verb == model.Define:
			continue
		case len(left) > 0:
			c.hold(i, InUse, fact.Fact{Kind: fact.StillHeld, Thing: t.String(), Count: len(left), Names: First(left)})
		}
		for _, d := range c.Accounts[a].Definitions.Others {
			if slices.Contains(d.Along, ch.Thing) {
				c.hold(
					i,
					InUse,
					fact.Fact{Kind: fact.StillBrings, Via: fmt.Sprintf("%s %s", d.Kind, d.Name), Thing: t.String()},
				)
			}
		}
	}
}
