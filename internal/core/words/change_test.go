package words_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/core/words"
)

// TestWhatAChangeDoesAndMeansInWords is a table of changes as they are read.
func TestWhatAChangeDoesAndMeansInWords(t *testing.T) {
	role := &plan.Thing{Kind: model.Role, Name: "lead"}
	also := []plan.Thing{{Kind: model.Role, Name: "seller"}, {Kind: model.License, Name: "seat"}}
	list := func(names ...string) []string { return names }
	for _, c := range []struct {
		change      plan.Change
		what, means string
	}{
		{
			plan.Change{Verb: model.Grant, Thing: role, Effect: model.Widens, Also: also}, "grant role lead",
			"also role seller, license seat",
		},
		{
			plan.Change{Verb: model.Grant, Thing: role, Effect: model.Widens, Stays: true}, "grant role lead",
			"it was there already, brought along by something else",
		},
		{
			plan.Change{Verb: model.Revoke, Thing: role, Effect: model.Narrows, Also: also}, "revoke role lead",
			"with it goes role seller, license seat",
		},
		{
			plan.Change{Verb: model.Revoke, Thing: role, Effect: model.Narrows, Also: also[:1], Stays: true},
			"revoke role lead", "with it goes role seller; it stays, brought along by something else",
		},
		{plan.Change{Verb: model.Revoke, Thing: role, Effect: model.Keeps, Stays: true}, "revoke role lead", ""},
		{
			plan.Change{Verb: model.Suspend, Effect: model.Narrows, Also: also}, "suspend account",
			"out of reach: role seller, license seat",
		},
		{
			plan.Change{Verb: model.Restore, Effect: model.Widens, Also: also[:1]}, "restore account",
			"in reach again: role seller",
		},
		{
			plan.Change{Verb: model.Remove, Effect: model.Narrows, Also: also[:1]}, "remove account",
			"gone with it: role seller",
		},
		{plan.Change{Verb: model.Create, Account: "ada", Effect: model.Widens}, "create account ada", ""},
		{
			plan.Change{Verb: model.Update, Attribute: "title", Before: plan.Text("Mate"), Effect: model.Keeps},
			`update title from "Mate" to no value`, "",
		},
		{plan.Change{Verb: model.Define, Thing: role, Effect: model.Keeps}, "define role lead", ""},
		{plan.Change{Verb: model.Retire, Thing: role, Effect: model.Keeps}, "retire role lead", ""},
		{
			plan.Change{
				Verb: model.Redefine, Thing: role, Attribute: "title", Before: plan.Text("Old"), After: plan.Text("New"), Effect: model.Keeps,
				Reach: &plan.Reach{},
			},
			`redefine role lead: title from "Old" to "New"`, "",
		},
		{plan.Change{
			Verb: model.Redefine, Thing: role, Attribute: "permissions", Before: plan.List(list("a", "b", "c")), After: plan.List(list("b")),
			Effect: model.Narrows, Reach: &plan.Reach{Accounts: 2, People: list("E1", "E2")},
		},
			"redefine role lead: remove permissions a, c", "2 accounts lose by it: E1, E2"},
		{plan.Change{
			Verb: model.Redefine, Thing: role, Attribute: "brings", Before: plan.List(nil), After: plan.List(list("role seller")),
			Effect: model.Widens,
			Reach:  &plan.Reach{Accounts: 12, People: list("1", "2", "3", "4", "5", "6", "7", "8", "9", "a", "b", "c")},
		},
			"redefine role lead: it also brings role seller", "12 accounts gain by it: 1, 2, 3, 4, 5, 6, 7, 8 and 4 more"},
		{plan.Change{
			Verb: model.Redefine, Thing: role, Attribute: "brings", Before: plan.List(list("role seller")), After: plan.List(nil),
			Effect: model.Keeps, Reach: &plan.Reach{},
		},
			"redefine role lead: it no longer brings role seller", "no open account has it, so nobody gains or loses anything"},
	} {
		require.Equal(t, c.what, words.What(&c.change))
		require.Equal(t, c.means, words.Means(&c.change), c.what)
	}
	p := &plan.Plan{People: map[string]string{"E1": "Ada"}}
	require.Equal(
		t,
		"till: define role lead",
		words.Sentence(p, &plan.Change{App: "till", Verb: model.Define, Thing: role}),
	)
	require.Equal(
		t,
		"till: grant role lead for Ada (E1)",
		words.Sentence(p, &plan.Change{App: "till", Verb: model.Grant, Thing: role, Person: "E1", Account: "ada"}),
	)
	require.Equal(
		t,
		"till: remove account for root, nobody's account",
		words.Sentence(p, &plan.Change{App: "till", Verb: model.Remove, Account: "root"}),
	)
}
