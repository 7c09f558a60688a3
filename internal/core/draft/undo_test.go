package draft_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"pravet/internal/core/draft"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/core/table"
	"pravet/internal/core/words"
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
	}{
		"an update": {
			did:    plan.Change{Verb: model.Update, Account: "ada", Attribute: "title", Before: plan.Text("Bosun"), After: plan.Text("Mate")},
			undoes: "update ada Mate>Bosun",
		},
		"an update that somebody has changed since": {
			did:  plan.Change{Verb: model.Update, Account: "ada", Attribute: "title", Before: plan.Text("Bosun"), After: plan.Text("Cook")},
			says: `not undone: update ada, title; somebody has changed title to "Mate" meanwhile, where the plan has "Cook"`,
		},
		"a value that was given": {
			did:    plan.Change{Verb: model.Update, Account: "ada", Attribute: "title", After: plan.Text("Mate")},
			undoes: "update ada Mate>",
		},
		"a grant": {did: plan.Change{Verb: model.Grant, Account: "ada", Thing: role}, undoes: "revoke ada"},
		"a grant that was taken since": {
			did:  plan.Change{Verb: model.Grant, Account: "cy", Thing: role},
			says: "not undone: grant cy, role seller; somebody has taken it away meanwhile",
		},
		"a revocation":       {did: plan.Change{Verb: model.Revoke, Account: "cy", Thing: role}, undoes: "grant cy"},
		"a suspension":       {did: plan.Change{Verb: model.Suspend, Account: "bo"}, undoes: "restore bo"},
		"one that was ended": {did: plan.Change{Verb: model.Suspend, Account: "ada"}, says: "not undone: suspend ada; somebody has opened the account meanwhile"},
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
			did:  plan.Change{Verb: model.HandOver, Account: "bo", After: plan.Text("ada")},
			says: "not undone: hand over bo; what was handed over is among what the other owns; hand it back manually",
		},
	} {
		t.Run(name, func(t *testing.T) {
			app, accounts := till()
			c.did.App = app.ID
			c.did.ID = plan.ChangeID(&c.did)
			changes, left := draft.Undo(draft.Undoing{
				UndoneRun: draft.UndoneRun{ID: "run-7", Plan: &plan.Plan{Changes: []plan.Change{c.did}}, Done: []string{c.did.ID}},
				Apps:      []*model.App{app}, Accounts: []*model.Accounts{accounts},
				PersonOf: [][]int32{{-1, -1, -1, -1}}, Same: []map[int32]int32{nil},
			})
			if c.undoes == "" {
				require.Empty(t, changes)
			} else {
				require.Len(t, changes, 1)
				x := changes[0]
				is := x.Verb.String() + " " + x.Key
				if x.Verb == model.Update {
					is += " " + x.Before + ">" + x.After
				}
				require.Equal(t, c.undoes, is)
				require.Equal(t, c.did.Verb, x.Def.Undoes)
			}
			if c.says == "" {
				require.Empty(t, left)
			} else {
				require.Equal(t, c.says, words.Of(&left[0].Fact))
			}
		})
	}
}

// TestARenamedAccountIsFoundUnderItsNewName, also for what came before the rename, and an account that
// was both made and opened is suspended once.
func TestARenamedAccountIsFoundUnderItsNewName(t *testing.T) {
	app, accounts := till()
	role := &plan.Thing{Kind: model.Role, Name: "seller"}
	did := []plan.Change{
		{ID: "make", App: "till", Verb: model.Create, Account: "eva"},
		{ID: "open", App: "till", Verb: model.Restore, Account: "eva"},
		{ID: "give", App: "till", Verb: model.Grant, Account: "eva", Thing: role},
		{
			ID: "name", App: "till", Verb: model.Update, Account: "eva", Attribute: "userName",
			Before: plan.Text("eva"), After: plan.Text("ada"),
		},
	}
	changes, _ := draft.Undo(draft.Undoing{
		UndoneRun: draft.UndoneRun{ID: "run-7", Plan: &plan.Plan{Changes: did}, Done: []string{"make", "open", "give", "name"}},
		Apps:      []*model.App{app}, Accounts: []*model.Accounts{accounts},
		PersonOf: [][]int32{{-1, -1, -1, -1}}, Same: []map[int32]int32{nil},
	})
	require.Len(t, changes, 3)
	by := map[model.Verb]string{}
	for _, c := range changes {
		by[c.Verb] = c.Key
		require.Equal(t, changes[0].Slot, c.Slot)
	}
	require.Equal(t, map[model.Verb]string{model.Suspend: "ada", model.Revoke: "ada", model.Update: "ada"}, by)
}
