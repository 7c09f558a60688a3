package guard

import (
	"pravet/internal/core/diff"
	"pravet/internal/core/fact"
	"pravet/internal/core/model"
)

// impossible holds what the application cannot express, as its export shows: a
// second name in a column that takes one, an account where none can be added. No
// decision lifts it. O(changes).
func (c *checker) impossible(a int) {
	accounts := c.Accounts[a]
	for _, i := range c.byApp[a] {
		ch := &c.Changes[i]
		if ch.Verb == model.Create && accounts.Closed != "" {
			c.hold(i, Impossible, fact.Fact{Kind: fact.NoRoom, Because: accounts.Closed})
		}
		if ch.Thing == diff.None || ch.Verb.OfThing() || ch.Effect() != model.Widens {
			continue
		}
		kind := c.Apps[a].Things[ch.Thing].Kind
		if !accounts.Single[kind] {
			continue
		}
		after := 0
		for _, t := range accounts.Sets.Members(c.States.Of(ch).After) {
			if c.Apps[a].Things[t].Kind == kind {
				after++
			}
		}
		if ch.Account != diff.None && accounts.Taken[kind][ch.Account] {
			after++ // of something outside the catalog
		}
		if after > 1 {
			c.hold(i, Impossible, fact.Fact{Kind: fact.OneName, Account: ch.Key, Count: after, Thing: kind.Plural()})
			continue
		}
		c.gather()
		for _, k := range c.losing[account{a, ch.Slot}] {
			if lost := c.Changes[k].Thing; lost != diff.None && c.Apps[a].Things[lost].Kind == kind && k < i {
				c.out.Needs[i] = append(c.out.Needs[i], k) // the cell must be free first
			}
		}
	}
}
