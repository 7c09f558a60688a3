package guard

import (
	"slices"

	"pravet/internal/core/diff"
	"pravet/internal/core/fact"
	"pravet/internal/core/model"
)

// The guards of this file.
const (
	Impossible = "impossible"
)

var possibleFamily = family{
	guards: []Guard{
		{
			Name: Impossible, Lift: Never,
			Raises: []fact.Kind{fact.NoRoom, fact.OneName, fact.NoMatchValue, fact.NoName, fact.NoLetter, fact.TooLong, fact.StillDue, fact.Refused, fact.LastMember},
			Holds: "what the application cannot express: a second name in a column that takes one, an account " +
				"where none can be added, or one that would not be found again, as the person has no value " +
				"of `match`",
		},
	},
	each: (*checker).impossible, late: (*checker).room,
}

// impossible holds what the application cannot express, as its export shows: a
// second name in a column that takes one, an account where none can be added. No
// decision lifts it. O(changes).
func (c *checker) impossible(a int) {
	accounts := c.Accounts[a]
	c.lastMembers(a)
	for _, i := range c.byApp[a] {
		ch := &c.Changes[i]
		if says := c.unwritable(a, ch); says != nil {
			c.hold(i, Impossible, *says)
		}
		if c.makes(ch) && accounts.Closed != "" {
			c.hold(i, Impossible, fact.Fact{Kind: fact.NoRoom, Because: accounts.Closed})
		}
		if ch.Account != diff.None && accounts.Stuck && accounts.Nameless[ch.Account] {
			c.hold(i, Impossible, fact.Fact{Kind: fact.NoName, Account: ch.Key, Attribute: c.Apps[a].Match})
		}
		if ch.Thing == diff.None || ch.Verb.OfThing() || ch.Effect() != model.Widens {
			continue
		}
		kind := c.Apps[a].Things[ch.Thing].Kind
		if !accounts.Single[kind] || c.Apps[a].One[kind] {
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
			lost := c.Changes[k].Thing
			switch {
			case lost == diff.None || c.Apps[a].Things[lost].Kind != kind:
			case k < i:
				c.out.Needs[i] = append(c.out.Needs[i], k) // the cell must be free first
			default: // and it is not, as what it holds waits for a successor
				c.hold(i, Impossible, fact.Fact{Kind: fact.OneName, Account: ch.Key, Count: 2, Thing: kind.Plural()})
			}
		}
	}
}

// lastMembers holds, of each thing that needs a member, the last change that would leave it without one. Who comes to
// it in the same plan comes only afterwards.
func (c *checker) lastMembers(a int) {
	accounts := c.Accounts[a]
	if len(accounts.Needy) == 0 {
		return
	}
	left := map[int32]int{}
	for t := range accounts.Needy {
		for i := range accounts.Held {
			if accounts.Sets.Has(accounts.Has(i), t) {
				left[t]++
			}
		}
	}
	for _, i := range c.byApp[a] {
		ch := &c.Changes[i]
		if ch.Thing == diff.None || !accounts.Needy[ch.Thing] || ch.Verb.OfThing() || !ch.Verb.Deed().Loses {
			continue
		}
		if left[ch.Thing]--; left[ch.Thing] <= 0 {
			c.hold(i, Impossible, fact.Fact{
				Kind: fact.LastMember, Account: ch.Key, Thing: c.Apps[a].Things[ch.Thing].String(),
			})
		}
	}
}

// unwritable is what a change would write that the application cannot hold: a letter that has no place in
// the encoding of its file, or a name that is too long. It is nil where everything fits.
func (c *checker) unwritable(a int, ch *diff.Change) *fact.Fact {
	app, accounts := c.Apps[a], c.Accounts[a]
	var values []string
	switch {
	case ch.Verb == model.Update:
		values = []string{ch.After}
		if app.Attrs[ch.Attr].Name != app.Match {
			break
		}
		fallthrough
	case c.makes(ch):
		name := ch.Key
		if ch.Verb == model.Update {
			name = ch.After
		}
		if most := app.LongestName(); len(name) > most {
			return &fact.Fact{
				Kind: fact.TooLong, Person: c.who(ch), Attribute: app.Match, Count: len(name), Allowed: most,
			}
		}
		values = append(values, name)
		if ch.Verb == model.Update || ch.Person == diff.None {
			break
		}
		due := &c.Due.Classes[c.Due.Of[ch.Person]].Apps[a]
		for n := range app.Attrs {
			v, _, _ := diff.Wanted(app, n, c.People.Column(app.Attrs[n].Person), int(ch.Person), due)
			values = append(values, v)
		}
	case ch.Thing != diff.None:
		values = []string{app.Things[ch.Thing].Name}
	}
	if accounts.Unwritable == nil {
		return nil
	}
	for _, v := range values {
		if letter := accounts.Unwritable(v); letter != "" {
			return &fact.Fact{Kind: fact.NoLetter, Person: c.who(ch), Value: v, Other: letter}
		}
	}
	return nil
}

// who names the person of a change, or the account of nobody.
func (c *checker) who(ch *diff.Change) string {
	if ch.Person == diff.None {
		return ch.Key
	}
	return c.personName(ch.Person)
}

// room holds what makes room in a cell for a name that does not come: it is due
// still, along with that one.
func (c *checker) room(a int) {
	for _, i := range c.byApp[a] {
		ch := &c.Changes[i]
		if ch.Why != diff.MakesRoom {
			continue
		}
		c.gather()
		kind := c.Apps[a].Things[ch.Thing].Kind
		comes := slices.ContainsFunc(c.widening[account{a, ch.Slot}], func(k int) bool {
			t := c.Changes[k].Thing
			return t != diff.None && c.Apps[a].Things[t].Kind == kind && len(c.out.Holds[k]) == 0
		})
		if !comes {
			c.hold(i, Impossible, fact.Fact{Kind: fact.StillDue, Thing: c.Apps[a].Things[ch.Thing].String()})
		}
	}
}
