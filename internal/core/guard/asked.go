package guard

import (
	"pravet/internal/core/day"
	"pravet/internal/core/diff"
	"pravet/internal/core/entitle"
	"pravet/internal/core/fact"
	"pravet/internal/core/model"
)

// The guards of this file.
const (
	Opening    = "opening"
	Unanswered = "unanswered"
	Ended      = "ended"
)

var askedFamily = family{
	guards: []Guard{
		{
			Name: Opening, Lift: ForPlan, Asks: true,
			Raises: []fact.Kind{fact.OpensByHand},
			Holds: "the opening of an account, where the application `opens: by hand`, until it is accepted " +
				"individually",
			Limit: "`opens` of the application",
		},
		{
			Name: Ended, Lift: ForPlan, Asks: true,
			Raises: []fact.Kind{fact.EndedBy},
			Holds: "a new account, or the restoring of a removed one, for somebody whose last account a path took to " +
				"its end (idle, matching a filter), until it is accepted individually",
		},
		{
			Name: Unanswered, Lift: ForPlan, Asks: true,
			Raises: []fact.Kind{fact.NotAnswered},
			Holds:  "another invitation of somebody who answered none, until it is accepted individually",
			Limit:  "`again` of the invitation",
		},
	},
	each: (*checker).asked,
}

// makes reports whether a change makes an account, or invites somebody to one.
func (c *checker) makes(ch *diff.Change) bool {
	return ch.Verb == model.Create || ch.Verb == model.Invite && ch.Account == diff.None
}

// ended is how the last account of somebody who is to get one came to its end, nil where nothing is known
// of that.
func (c *checker) ended(a int, ch *diff.Change) *entitle.End {
	if ch.Why == diff.IsUndone || ch.Person == diff.None ||
		!c.makes(ch) && (ch.Verb != model.Restore || c.Accounts[a].States[ch.Account] != model.Removed) {
		return nil
	}
	return c.Leaving.Ended(a, int(ch.Account), int(ch.Person), ch.Key)
}

// asked holds what somebody must say by name: that an account is opened, where the
// application has that done by hand, and that people are invited once more who did not
// answer any invitation. O(changes).
func (c *checker) asked(a int) {
	app := c.Apps[a]
	for _, i := range c.byApp[a] {
		ch := &c.Changes[i]
		if end := c.ended(a, ch); end != nil {
			on := ""
			if end.On != day.None {
				on = end.On.String()
			}
			c.hold(i, Ended, fact.Fact{
				Kind: fact.EndedBy, Person: c.personName(ch.Person), Other: end.Path.Name, On: on,
				Place: end.Path.Pos.String(),
			})
		}
		switch {
		case ch.Verb == model.Restore && app.ByHand && (ch.Person == diff.None || app.OpenedByHand(c.of(ch), c.Today)):
			c.hold(i, Opening, fact.Fact{Kind: fact.OpensByHand, Account: ch.Key, App: app.ID})
		case ch.Verb == model.Invite && ch.Account == diff.None && c.Leaving != nil && c.Leaving.Unanswered(a, ch.Key):
			c.hold(i, Unanswered, fact.Fact{
				Kind: fact.NotAnswered, Person: c.personName(ch.Person), Count: app.Invites.Again + 1,
			})
		}
	}
}

// of gives the attributes of the person of a change.
func (c *checker) of(ch *diff.Change) func(attr string) string {
	return func(attr string) string { return c.People.Get(int(ch.Person), attr) }
}
