package guard

import (
	"pravet/internal/core/diff"
	"pravet/internal/core/fact"
	"pravet/internal/core/model"
)

// The guards of this file.
const (
	Opening    = "opening"
	Unanswered = "unanswered"
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

// asked holds what somebody must say by name: that an account is opened, where the
// application has that done by hand, and that people are invited once more who did not
// answer any invitation. O(changes).
func (c *checker) asked(a int) {
	app := c.Apps[a]
	if !app.ByHand && app.Invites == nil {
		return
	}
	for _, i := range c.byApp[a] {
		ch := &c.Changes[i]
		switch {
		case ch.Verb == model.Restore && app.ByHand:
			c.hold(i, Opening, fact.Fact{Kind: fact.OpensByHand, Account: ch.Key, App: app.ID})
		case ch.Verb == model.Invite && ch.Account == diff.None && c.Leaving != nil && c.Leaving.Unanswered(a, ch.Key):
			c.hold(i, Unanswered, fact.Fact{
				Kind: fact.NotAnswered, Person: c.personName(ch.Person), Count: app.Invites.Again + 1,
			})
		}
	}
}
