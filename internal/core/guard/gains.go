package guard

import (
	"pravet/internal/core/diff"
	"pravet/internal/core/fact"
	"pravet/internal/core/model"
)

// gains holds what gives access, where an application or the organization limits that:
// more accounts that gain something than widening allows, and those who would be new
// holders of what is marked sensitive, or the first holders of anything at all.
func (c *checker) gains(a int) {
	lim := c.Limits[a]
	if lim.Widening.Set {
		c.widens(a)
	}
	if !lim.Sensitive.Set && !lim.FirstHolder.Set {
		return
	}
	held := c.States.Before(a).Somebody(c.Accounts[a], len(c.Apps[a].Things))
	type gain struct {
		account
		thing int32
	}
	var sensitive, first map[int]int32 // number of a change → a thing that it gives so
	sensitive, first = map[int]int32{}, map[int]int32{}
	gained, begun := map[gain]bool{}, map[gain]bool{}
	for _, i := range c.byApp[a] {
		ch := &c.Changes[i]
		if ch.Effect() != model.Widens {
			continue
		}
		for _, t := range c.given(a, ch) {
			who := gain{account{a, ch.Slot}, t}
			if c.Apps[a].Things[t].Sensitive {
				sensitive[i], gained[who] = t, true
			}
			if !held[t] {
				first[i], begun[who] = t, true
			}
		}
	}
	hold := func(guard string, kind fact.Kind, which map[int]int32, n int, l model.Limit) {
		if !l.Set || n <= l.Of(c.Accounts[a].Len()) {
			return
		}
		for _, i := range c.byApp[a] {
			if t, ok := which[i]; ok {
				f := limited(kind, n, l, c.Accounts[a].Len())
				f.Thing = c.Apps[a].Things[t].String()
				c.hold(i, guard, f)
			}
		}
	}
	hold(Sensitive, fact.NewHolder, sensitive, len(gained), lim.Sensitive)
	hold(FirstHolder, fact.FirstHolder, first, len(begun), lim.FirstHolder)
}

// widens holds all that gives access, where more accounts gain something than the
// limit allows.
func (c *checker) widens(a int) {
	lim, accounts := c.Limits[a].Widening, c.Accounts[a]
	gaining := map[string]bool{}
	for _, i := range c.byApp[a] {
		ch := &c.Changes[i]
		switch {
		case ch.Effect() != model.Widens:
		case ch.Verb.OfThing() && ch.Def != nil:
			for _, at := range ch.Def.Through {
				gaining[accounts.Key.At(int(at))] = true
			}
		default:
			gaining[ch.Key] = true
		}
	}
	if len(gaining) > lim.Of(accounts.Len()) {
		f := limited(fact.Beyond, len(gaining), lim, accounts.Len())
		f.Other, f.Via = "gain something", "accounts"
		c.holdAll(a, func(ch *diff.Change) bool { return ch.Effect() == model.Widens }, Widening, f)
	}
}

// given lists the things that somebody has by a change and had not before the plan.
func (c *checker) given(a int, ch *diff.Change) []int32 {
	sets, after := c.Accounts[a].Sets, c.States.App(a)
	if ch.Verb.OfThing() {
		if ch.Def == nil || len(ch.Def.Through) == 0 {
			return nil
		}
		return sets.Members(after.Full(sets.Of(ch.Def.Moved)))
	}
	if ch.Thing == diff.None {
		return nil
	}
	had := uint32(0)
	if st := c.States.Of(ch); st != nil {
		had = c.States.Before(a).Full(st.Set)
	}
	return sets.Members(after.Without(after.Full(sets.Of([]int32{ch.Thing})), had))
}
