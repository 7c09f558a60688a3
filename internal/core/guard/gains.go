package guard

import (
	"pravet/internal/core/diff"
	"pravet/internal/core/fact"
	"pravet/internal/core/model"
)

// The guards of this file.
const (
	Widening    = "widening"
	Sensitive   = "sensitive"
	FirstHolder = "first-holder"
)

var gainingFamily = family{
	guards: []Guard{
		{
			Name: Widening, Lift: ForPlan,
			Raises: []fact.Kind{fact.Beyond, fact.NewHolders},
			Holds: "everything that gives access, when more accounts gain something; what gives one thing, when " +
				"it has more new holders",
			Limit: "none; `widening: 25%` sets one for accounts, `widening: {accounts: 25%, holders: 50%}` for " +
				"both",
		},
		{
			Name: Sensitive, Lift: ForPlan, Asks: true,
			Raises: []fact.Kind{fact.NewHolder},
			Holds: "what gives a thing that is marked `sensitive` to a new holder, when there are more of them; " +
				"each until it is accepted individually, not with the whole plan",
			Limit: "none; with `sensitive: 0` each waits",
		},
		{
			Name: FirstHolder, Lift: ForPlan, Asks: true,
			Raises: []fact.Kind{fact.FirstHolder},
			Holds: "what gives a thing that nobody has yet, when more accounts than the limit would be the " +
				"first to have it; each until it is accepted individually, not with the whole plan",
			Limit: "none; with `firstHolder: 0` each waits",
		},
	},
	each: (*checker).gains,
}

// gains holds what gives access, where an application or the organization limits that:
// more accounts that gain something, or that come to have one thing, than widening
// allows, and those who would be new holders of what is marked sensitive, or the first
// holders of anything at all.
func (c *checker) gains(a int) {
	lim := c.Limits[a]
	if lim.Widening.Set {
		c.widens(a)
	}
	if !lim.NewHolders.Set && !lim.Sensitive.Set && !lim.FirstHolder.Set {
		return
	}
	things := c.Apps[a].Things
	held := c.States.Before(a).Counts(c.Accounts[a], len(things))
	all, sensitive, first := newGains(), newGains(), newGains()
	for _, i := range c.byApp[a] {
		ch := &c.Changes[i]
		if ch.Effect() != model.Widens && !c.gives(ch) {
			continue
		}
		for _, t := range c.given(a, ch) {
			who := c.gaining(a, ch, t)
			all.add(i, t, who)
			if things[t].Sensitive {
				sensitive.add(i, t, who)
			}
			if held[t] == 0 {
				first.add(i, t, who)
			}
		}
	}
	if lim.NewHolders.Set {
		c.spreads(a, all, held)
	}
	hold := func(guard string, kind fact.Kind, g *gains, l model.Limit) {
		if !l.Set || len(g.who) <= l.Of(c.Accounts[a].Len()) {
			return
		}
		for _, i := range c.byApp[a] {
			if gives := g.by[i]; len(gives) > 0 {
				f := limited(kind, len(g.who), l, c.Accounts[a].Len())
				f.Thing = things[gives[len(gives)-1]].String()
				c.hold(i, guard, f)
			}
		}
	}
	hold(Sensitive, fact.NewHolder, sensitive, lim.Sensitive)
	hold(FirstHolder, fact.FirstHolder, first, lim.FirstHolder)
}

// gains are things that accounts of one application come to have.
type gains struct {
	by  map[int][]int32 // number of a change → what it gives
	who map[gain]bool
}

// A gain is what one account comes to have.
type gain struct {
	account string
	thing   int32
}

func newGains() *gains { return &gains{map[int][]int32{}, map[gain]bool{}} }

func (g *gains) add(change int, thing int32, accounts []string) {
	if len(accounts) > 0 {
		g.by[change] = append(g.by[change], thing)
	}
	for _, account := range accounts {
		g.who[gain{account, thing}] = true
	}
}

// gaining names the accounts that come to have a thing by a change, and had it not.
func (c *checker) gaining(a int, ch *diff.Change, thing int32) (out []string) {
	if !ch.Verb.OfThing() {
		return []string{ch.Key}
	}
	before, accounts := c.States.Before(a), c.Accounts[a]
	for _, at := range ch.Def.Through {
		if !before.Has(accounts.Held[at], thing) {
			out = append(out, accounts.Key.At(int(at)))
		}
	}
	return out
}

// spreads holds what gives a thing of which more accounts would be new holders than
// the limit allows, of those who have it.
func (c *checker) spreads(a int, all *gains, held []int) {
	lim, come := c.Limits[a].NewHolders, make([]int, len(held))
	for g := range all.who {
		come[g.thing]++
	}
	for _, i := range c.byApp[a] {
		for _, t := range all.by[i] {
			if come[t] > lim.Of(held[t]) {
				f := limited(fact.NewHolders, come[t], lim, held[t])
				f.Thing = c.Apps[a].Things[t].String()
				c.hold(i, Widening, f)
				break
			}
		}
	}
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
	things := c.had(ch)
	switch {
	case ch.Thing != diff.None:
		things = sets.Of([]int32{ch.Thing})
	case ch.Verb != model.Restore:
		return nil
	}
	had := uint32(0)
	if st := c.States.Of(ch); st != nil {
		had = c.States.Before(a).Full(st.Set)
	}
	return sets.Members(after.Without(after.Full(things), had))
}
