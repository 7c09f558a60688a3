package plan_test

import (
	"reflect"
	"testing"

	"github.com/stretchr/testify/require"

	"pravet/internal/core/fact"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
)

// grant is a plan of one change, which a decision is about.
func grant() *plan.Plan {
	return &plan.Plan{
		Reasons: []plan.Reason{
			{File: "kits/a.yaml", Line: 3, Says: "kit desk: everyone"},
			{File: "kits/a.yaml", Line: 9, Says: "kit lead: everyone"},
		},
		Changes: []plan.Change{{
			Account: "ada", App: "till", Person: "1", Verb: model.Grant, Effect: model.Widens,
			Thing: &plan.Thing{Kind: model.Role, Name: "clerk"}, Also: []plan.Thing{{Kind: model.Role, Name: "view"}},
			Reasons: []int{0}, ID: "x", Needs: []string{"y"},
			Holds: []plan.Hold{{Guard: "seats", Says: "none left", Facts: fact.Fact{Kind: fact.NoSeat, Count: 1}}},
		}},
	}
}

// others are changes that differ from grant's in one member each.
var others = map[string]func(c *plan.Change){
	"Account":   func(c *plan.Change) { c.Account = "bo" },
	"After":     func(c *plan.Change) { c.After = plan.Text("x") },
	"Also":      func(c *plan.Change) { c.Also = nil },
	"App":       func(c *plan.Change) { c.App = "quay" },
	"Attribute": func(c *plan.Change) { c.Attribute = "title" },
	"Before":    func(c *plan.Change) { c.Before = plan.Text("x") },
	"Blocked":   func(c *plan.Change) { c.Blocked = true },
	"Effect":    func(c *plan.Change) { c.Effect = model.Keeps },
	"First":     func(c *plan.Change) { c.First = true },
	"ForGood":   func(c *plan.Change) { c.ForGood = true },
	"Person":    func(c *plan.Change) { c.Person = "2" },
	"Reach":     func(c *plan.Change) { c.Reach = &plan.Reach{Accounts: 1} },
	"Reasons":   func(c *plan.Change) { c.Reasons = []int{1} },
	"Second":    func(c *plan.Change) { c.Second = true },
	"Stays":     func(c *plan.Change) { c.Stays = true },
	"Thing":     func(c *plan.Change) { c.Thing = &plan.Thing{Kind: model.Role, Name: "clerk", Sensitive: true} },
	"Until":     func(c *plan.Change) { c.Until = "2026-12-31" },
	"Verb":      func(c *plan.Change) { c.Verb = model.Revoke },
}

// TestADecisionIsAboutAllThatItsReaderWasShown: whichever member of a change is another one, an acceptance of it
// does not count any more; where a cause stands in its file, what a change needs, and its id say nothing.
func TestADecisionIsAboutAllThatItsReaderWasShown(t *testing.T) {
	p := grant()
	then := p.Meaning(&p.Changes[0])
	unsaid := map[string]bool{"ID": true, "Needs": true, "Holds": true}
	of := reflect.TypeFor[plan.Change]()
	for i := range of.NumField() {
		name := of.Field(i).Name
		other, met := others[name]
		require.Equal(t, !unsaid[name], met, "%s: say here whether a decision is about it", name)
		if !met {
			continue
		}
		p := grant()
		other(&p.Changes[0])
		require.False(t, plan.SameMeaning(then, p.Meaning(&p.Changes[0])), name)
	}
	p = grant()
	p.Reasons[0].Line, p.Changes[0].ID, p.Changes[0].Needs = 77, "z", nil
	require.True(t, plan.SameMeaning(then, p.Meaning(&p.Changes[0])))
	p.Reasons[0].Says = "kit desk: somebody else"
	require.False(t, plan.SameMeaning(then, p.Meaning(&p.Changes[0])))
}

// TestWhatHoldsMayGoAndNotCome: a hold that is over takes nothing from an acceptance; a new one, or the same
// guard for another fact, does.
func TestWhatHoldsMayGoAndNotCome(t *testing.T) {
	p := grant()
	c := &p.Changes[0]
	held := p.Meaning(c)
	c.Holds = nil
	free := p.Meaning(c)
	require.True(t, plan.SameMeaning(held, free))
	require.False(t, plan.SameMeaning(free, held))
	c.Holds = []plan.Hold{{Guard: "seats", Facts: fact.Fact{Kind: fact.NoSeat, Count: 2}}}
	require.False(t, plan.SameMeaning(held, p.Meaning(c)))
	c.Holds = []plan.Hold{{Guard: "seats", Says: "worded anew", Facts: fact.Fact{Kind: fact.NoSeat, Count: 1}}}
	require.True(t, plan.SameMeaning(held, p.Meaning(c)))
}

// TestAnIdFollowsThePerson through a new spelling of the account, and not to another person or account.
func TestAnIdFollowsThePerson(t *testing.T) {
	id := func(change func(c *plan.Change)) string {
		c := grant().Changes[0]
		change(&c)
		return plan.ChangeID(&c)
	}
	is := id(func(*plan.Change) {})
	require.Len(t, is, 12)
	require.Equal(t, is, id(others["Account"]), "renamed")
	require.Equal(t, is, id(others["Also"]), "what comes along is no part of it")
	for _, name := range []string{"App", "Blocked", "Person", "Second", "Verb"} {
		require.NotEqual(t, is, id(others[name]), name)
	}
	nobody := func(account string) string {
		return id(func(c *plan.Change) { c.Person, c.Account = "", account })
	}
	require.NotEqual(t, nobody("kiosk"), nobody("kiosk2"))
	c := grant().Changes[0]
	was := plan.FormerID(&c)
	require.NotEqual(t, is, was)
	c.Account = "bo"
	require.NotEqual(t, was, plan.FormerID(&c), "it went by the account once")
}

// TestWhatAChangeDoesIsTheSameElsewhere: in another environment it starts from something else, by another cause,
// held by other guards, and does the same; what comes along with it is part of what it does.
func TestWhatAChangeDoesIsTheSameElsewhere(t *testing.T) {
	c := grant().Changes[0]
	does, touches := c.Does(), c.Touches()
	for name, other := range others {
		x := grant().Changes[0]
		other(&x)
		switch name {
		case "After", "Also", "App", "Attribute", "Blocked", "Person", "Second", "Verb":
			require.NotEqual(t, does, x.Does(), name)
		default:
			require.Equal(t, does, x.Does(), name)
		}
		switch name {
		case "App", "Attribute", "Person", "Second":
			require.NotEqual(t, touches, x.Touches(), name)
		default: // whoever revokes it touches the same
			require.Equal(t, touches, x.Touches(), name)
		}
	}
}

// TestAValueIsReadAsItWasWritten: a text, a list, fields, a definition and nothing.
func TestAValueIsReadAsItWasWritten(t *testing.T) {
	for _, v := range []plan.Value{
		{}, plan.Text("plain"), plan.Text("\"quoted\" \\ and\nbroken, ł and \u2028"), plan.List([]string{"a", "b"}),
		plan.Fields(map[string]string{"title": "Clerk"}),
		plan.Defined(&model.Definition{Title: "Leads", Permissions: []string{"p"}, Brings: []string{"role x"}}),
	} {
		data, err := v.MarshalJSON()
		require.NoError(t, err)
		var is plan.Value
		require.NoError(t, is.UnmarshalJSON(data), "%s", data)
		require.Equal(t, v.String(), is.String(), "%s", data)
		again, err := is.MarshalJSON()
		require.NoError(t, err)
		require.Equal(t, string(data), string(again))
	}
	for _, wrong := range []string{"", "7", "true", `["a", 1]`} {
		var v plan.Value
		require.Error(t, v.UnmarshalJSON([]byte(wrong)), wrong)
	}
}
