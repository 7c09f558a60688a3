package undo_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/core/table"
	"pravet/internal/core/undo"
)

// till is an application with the accounts ada (open, seller), bo (blocked) and cy (open).
func till() (*model.App, *model.Accounts) {
	app := &model.App{ID: "till", Match: "userName", Attrs: []model.Attr{{Name: "userName"}, {Name: "title"}},
		Things: []model.Thing{{Kind: model.Role, Name: "seller", Seats: -1}}, Protect: []model.Name{{Text: "root"}}}
	app.Index()
	a := &model.Accounts{Attrs: []*table.Column{{}, {}}, Sets: model.NewSets()}
	a.Key = a.Attrs[0]
	for _, x := range []struct {
		name, title string
		open        bool
		held        []int32
	}{{"ada", "Mate", true, []int32{0}}, {"bo", "", false, nil}, {"cy", "", true, nil}, {"root", "", true, []int32{0}}} {
		a.Attrs[0].Append(x.name)
		a.Attrs[1].Append(x.title)
		a.States = append(a.States, model.StateOf(x.open))
		a.Held = append(a.Held, a.Sets.Of(x.held))
	}
	return app, a
}

// TestEachChangeIsUndoneOrNamed is a table of what a run did, and of what undoes it on the
// application as it is now.
func TestEachChangeIsUndoneOrNamed(t *testing.T) {
	role := &plan.Thing{Kind: model.Role, Name: "seller"}
	for name, c := range map[string]struct {
		did    plan.Change
		undoes string // verb, account and values
		says   string // of what is left
		held   string
	}{
		"an update": {
			did:    plan.Change{Verb: model.Update, Account: "ada", Attribute: "title", Before: "Bosun", After: "Mate"},
			undoes: "update ada Mate>Bosun",
		},
		"an update that somebody has changed since": {
			did:  plan.Change{Verb: model.Update, Account: "ada", Attribute: "title", Before: "Bosun", After: "Cook"},
			says: `not undone: update ada, title; somebody has changed it since, to "Mate"`,
		},
		"a value that was given": {
			did:    plan.Change{Verb: model.Update, Account: "ada", Attribute: "title", After: "Mate"},
			undoes: "update ada Mate><nil>",
		},
		"a grant": {did: plan.Change{Verb: model.Grant, Account: "ada", Thing: role}, undoes: "revoke ada"},
		"a grant that was taken since": {
			did:  plan.Change{Verb: model.Grant, Account: "cy", Thing: role},
			says: "not undone: grant cy, role seller; somebody has taken it away since",
		},
		"a revocation":       {did: plan.Change{Verb: model.Revoke, Account: "cy", Thing: role}, undoes: "grant cy"},
		"a suspension":       {did: plan.Change{Verb: model.Suspend, Account: "bo"}, undoes: "restore bo"},
		"one that was ended": {did: plan.Change{Verb: model.Suspend, Account: "ada"}, says: "not undone: suspend ada; somebody has opened the account since"},
		"a restoration":      {did: plan.Change{Verb: model.Restore, Account: "cy"}, undoes: "suspend cy"},
		"a new account": {
			did: plan.Change{Verb: model.Create, Account: "cy"}, undoes: "suspend cy",
			says: "not undone: create cy; the account stays, blocked: work may be in it by now",
		},
		"a removal": {
			did:  plan.Change{Verb: model.Remove, Account: "zed", ForGood: true},
			says: "not undone: remove zed; the application keeps no accounts that were removed",
		},
		"what was handed over": {
			did:  plan.Change{Verb: model.HandOver, Account: "bo", After: "ada"},
			says: "not undone: hand over bo; what was handed over is among what the other owns; hand it back by hand",
		},
		"an account that is protected by now": {
			did: plan.Change{Verb: model.Grant, Account: "root", Thing: role}, undoes: "revoke root", held: "protected",
		},
	} {
		t.Run(name, func(t *testing.T) {
			app, accounts := till()
			c.did.App = app.ID
			c.did.ID = plan.ChangeID(&c.did)
			all := model.Limit{Percent: 100, IsPct: true, Set: true}
			got := undo.Changes(undo.Input{
				Run: "run-7", Plan: &plan.Plan{ID: "m4n98ppw", Changes: []plan.Change{c.did}}, Done: []string{c.did.ID},
				Apps: []*model.App{app}, Accounts: []*model.Accounts{accounts},
				Limits: []model.Guards{{Suspensions: all, Narrowing: all}},
			})
			if c.undoes == "" {
				require.Empty(t, got.Changes)
			} else {
				require.Len(t, got.Changes, 1)
				x := got.Changes[0]
				is := x.Verb.String() + " " + x.Account
				if x.Verb == model.Update {
					is += " " + show(x.Before) + ">" + show(x.After)
				}
				require.Equal(t, c.undoes, is)
				require.Equal(t, "this undoes what run-7 did: "+c.did.Verb.String(), got.Reasons[x.Reasons[0]].Says)
				if c.held != "" {
					require.Equal(t, c.held, x.Holds[0].Guard)
				} else {
					require.Empty(t, x.Holds)
				}
			}
			if c.says == "" {
				require.Empty(t, got.Notices)
			} else {
				require.Equal(t, c.says, got.Notices[0].Says)
			}
		})
	}
}

func show(v any) string {
	if v == nil {
		return "<nil>"
	}
	s, _ := v.(string)
	return s
}

// TestWhatNeededSomethingIsUndoneFirst: a seat went from ada to cy; back it goes only once cy
// has given it up. And a rename is undone under the name that it gave.
func TestWhatNeededSomethingIsUndoneFirst(t *testing.T) {
	app, accounts := till()
	role := &plan.Thing{Kind: model.Role, Name: "seller"}
	p := &plan.Plan{ID: "m4n98ppw", Changes: []plan.Change{
		{ID: "take", App: "till", Verb: model.Revoke, Account: "cy", Thing: role},
		{ID: "give", App: "till", Verb: model.Grant, Account: "eva", Thing: role, Needs: []string{"take"}},
		{
			ID:        "name",
			App:       "till",
			Verb:      model.Update,
			Account:   "eva",
			Attribute: "userName",
			Before:    "eva",
			After:     "ada",
		},
	}}
	all := model.Limit{Percent: 100, IsPct: true, Set: true}
	got := undo.Changes(undo.Input{
		Run: "run-7", Plan: p, Done: []string{"take", "give", "name"}, Apps: []*model.App{app},
		Accounts: []*model.Accounts{accounts}, Limits: []model.Guards{{Suspensions: all, Narrowing: all}},
	})
	require.Len(t, got.Changes, 3)
	by := map[string]plan.Change{}
	for _, c := range got.Changes {
		by[c.Verb.String()] = c
		require.NotEqual(t, "eva", c.Account)
	}
	require.Equal(t, []string{by["revoke"].ID}, by["grant"].Needs)
	require.Equal(t, "eva", by["update"].After)
}
