package carry

import (
	"testing"

	"github.com/stretchr/testify/require"

	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/core/table"
)

// TestSettledIsWhatTheApplicationShows is a table of every verb on an account
// that is as it should be, and on ones that are not.
func TestSettledIsWhatTheApplicationShows(t *testing.T) {
	app := &model.App{ID: "tickets", Match: "userName", Attrs: []model.Attr{{Name: "userName"}, {Name: "title"}},
		Things: []model.Thing{
			{Kind: model.Role, Name: "seller"},
			{Kind: model.Group, Name: "desk"},
			{Kind: model.License, Name: "seat"},
		}}
	app.Index()
	accounts := &model.Accounts{Attrs: []*table.Column{{}, {}}, Sets: model.NewSets()}
	accounts.Key = accounts.Attrs[0]
	add := func(name, title string, open bool, things ...int32) {
		accounts.Attrs[0].Append(name)
		accounts.Attrs[1].Append(title)
		accounts.States = append(accounts.States, model.StateOf(open))
		accounts.Held = append(accounts.Held, accounts.Sets.Of(things))
	}
	seller, desk, seat := app.Thing(
		model.Role,
		"seller",
	), app.Thing(model.Group, "desk"), app.Thing(model.License, "seat")
	add("full", "Mate", true, seller, desk, seat)
	add("empty", "", false)
	seen := newReadBack(app, accounts)
	thing := func(kind model.Kind, name string) *plan.Thing { return &plan.Thing{Kind: kind, Name: name} }
	attrs := func(title string) plan.Value {
		return plan.Fields(map[string]string{"userName": "full", "title": title})
	}
	for _, c := range []struct {
		change plan.Change
		says   string // "" when it is settled
	}{
		{plan.Change{Verb: model.Suspend, Account: "empty"}, ""},
		{plan.Change{Verb: model.Suspend, Account: "full"}, "the account is still open"},
		{plan.Change{Verb: model.Restore, Account: "full"}, ""},
		{plan.Change{Verb: model.Restore, Account: "empty"}, "the account is still blocked"},
		{plan.Change{Verb: model.Remove, Account: "gone"}, ""},
		{plan.Change{Verb: model.Remove, Account: "full"}, "the account is still there"},
		{plan.Change{Verb: model.Create, Account: "full", After: attrs("Mate")}, ""},
		{
			plan.Change{Verb: model.Create, Account: "full", After: attrs("Captain")},
			`title is "Mate" and not "Captain"`,
		},
		{
			plan.Change{Verb: model.Create, Account: "empty", After: plan.Fields(nil)},
			"the account is there, and blocked",
		},
		{plan.Change{Verb: model.Create, Account: "gone"}, "the account is not there"},
		{plan.Change{Verb: model.Update, Account: "full", Attribute: "title", After: plan.Text("Mate")}, ""},
		{
			plan.Change{Verb: model.Update, Account: "full", Attribute: "title", After: plan.Value{}},
			`title is "Mate" and not ""`,
		},
		{plan.Change{Verb: model.Update, Account: "empty", Attribute: "title", After: plan.Value{}}, ""},
		{plan.Change{Verb: model.Grant, Account: "full", Thing: thing(model.Role, "seller")}, ""},
		{
			plan.Change{Verb: model.Grant, Account: "empty", Thing: thing(model.Role, "seller")},
			"the account does not have role seller",
		},
		{plan.Change{Verb: model.Join, Account: "full", Thing: thing(model.Group, "desk")}, ""},
		{
			plan.Change{Verb: model.Assign, Account: "empty", Thing: thing(model.License, "seat")},
			"the account does not have license seat",
		},
		{
			plan.Change{Verb: model.Revoke, Account: "full", Thing: thing(model.Role, "seller")},
			"the account still has role seller",
		},
		{plan.Change{Verb: model.Leave, Account: "empty", Thing: thing(model.Group, "desk")}, ""},
		{
			plan.Change{Verb: model.Release, Account: "full", Thing: thing(model.License, "seat")},
			"the account still has license seat",
		},
		{
			plan.Change{Verb: model.Grant, Account: "full", Thing: thing(model.Role, "unknown")},
			"the account does not have role unknown",
		},
	} {
		ok, says := seen.settled(&c.change)
		require.Equal(t, c.says, says, "%s %s", c.change.Verb, c.change.Account)
		require.Equal(t, c.says == "", ok)
	}
}

// TestSettledDefinitionsAreWhatTheApplicationShows is the table for changes of
// definitions.
func TestSettledDefinitionsAreWhatTheApplicationShows(t *testing.T) {
	app := &model.App{
		ID:     "till",
		Match:  "userName",
		Things: []model.Thing{{Kind: model.Role, Name: "lead"}, {Kind: model.Role, Name: "gone"}},
	}
	app.Index()
	lead := app.Thing(model.Role, "lead")
	defs := &model.Definitions{Of: make([]*model.Definition, 2), Titles: true, Permissions: true, Brings: true}
	defs.Of[lead] = &model.Definition{
		Kind:        model.Role,
		Name:        "lead",
		Title:       "Leads",
		Permissions: []string{"a", "b"},
		Brings:      []string{"role seller"},
	}
	accounts := &model.Accounts{Sets: model.NewSets(), Key: &table.Column{}, Definitions: defs}
	seen := newReadBack(app, accounts)
	of := func(verb model.Verb, name, attr string, after plan.Value) *plan.Change {
		thing := &plan.Thing{Kind: model.Role, Name: name}
		return &plan.Change{Verb: verb, Thing: thing, Attribute: attr, After: after}
	}
	from := func(before []string, c *plan.Change) *plan.Change { c.Before = plan.List(before); return c }
	list := func(names ...string) []string { return names }
	lists := func(names ...string) plan.Value { return plan.List(names) }
	whole := func(title string, permissions, brings []string) plan.Value {
		return plan.Defined(&model.Definition{Title: title, Permissions: permissions, Brings: brings})
	}
	for _, c := range []struct {
		change *plan.Change
		says   string
	}{
		{of(model.Define, "lead", "", whole("Leads", list("a", "b"), list("role seller"))), ""},
		{
			of(model.Define, "lead", "", whole("Led", list("a", "b"), list("role seller"))),
			`its title is "Leads" and not "Led"`,
		},
		{of(model.Define, "lead", "", whole("Leads", list("a"), list("role seller"))), `its permissions are ["a" "b"]`},
		{of(model.Define, "lead", "", whole("Leads", list("a", "b"), list())), `it brings ["role seller"] along`},
		{of(model.Define, "gone", "", whole("", nil, nil)), "the definition is not there"},
		{of(model.Define, "lead", "", plan.Value{}), "the plan does not say what it should be"},
		{of(model.Redefine, "lead", "title", plan.Text("Leads")), ""},
		{of(model.Redefine, "lead", "permissions", lists("a", "b")), ""},
		{
			from(list("a", "b"), of(model.Redefine, "lead", "permissions", lists("b"))),
			`its permissions are still ["a" "b"]`,
		},
		{from(list("a"), of(model.Redefine, "lead", "permissions", lists("a", "c"))), `its permissions do not have ["c"]`},
		// The first of two steps is done also when the second is.
		{from(list("a", "z"), of(model.Redefine, "lead", "permissions", lists("a"))), ""},
		{from(list("a"), of(model.Redefine, "lead", "permissions", lists("a", "b"))), ""},
		{of(model.Redefine, "lead", "brings", lists("role seller")), ""},
		{of(model.Redefine, "gone", "brings", lists()), "the definition is not there"},
		{of(model.Retire, "gone", "", plan.Value{}), ""},
		{of(model.Retire, "lead", "", plan.Value{}), "the definition is still there"},
		{of(model.Retire, "unknown", "", plan.Value{}), "the export shows no definitions"},
	} {
		ok, says := seen.settled(c.change)
		require.Equal(t, c.says == "", ok, "%+v: %s", c.change, says)
		if !ok {
			require.Equal(t, c.says, says)
		}
	}
	defs.Titles, defs.Permissions, defs.Brings = false, false, false
	ok, _ := seen.settled(of(model.Define, "lead", "", whole("Other", list("x"), list("role x"))))
	require.True(t, ok, "what the export does not show cannot be asked")
}

// TestWhatWasGivenIsHeldByItself also where an export shows what comes along: a
// group brings the role, and when somebody leaves it the role stays.
func TestWhatWasGivenIsHeldByItself(t *testing.T) {
	app := &model.App{ID: "till", Match: "userName", Things: []model.Thing{
		{Kind: model.Group, Name: "desk", Implies: []int32{1}},
		{Kind: model.Role, Name: "seller"},
	}}
	app.Index()
	desk, seller := app.Thing(model.Group, "desk"), app.Thing(model.Role, "seller")
	grant := &plan.Change{Verb: model.Grant, Account: "ada", Thing: &plan.Thing{Kind: model.Role, Name: "seller"}}
	for _, effective := range []bool{true, false} {
		app.Effective[model.Role] = effective
		accounts := &model.Accounts{Sets: model.NewSets(), Key: &table.Column{}, States: []model.State{model.Open}}
		accounts.Key.Append("ada")
		accounts.Held = []uint32{accounts.Sets.Of([]int32{desk})}
		newReadBack(app, accounts).keep(grant)
		require.Equal(t, effective, accounts.Sets.Has(accounts.Held[0], seller))
	}
}
