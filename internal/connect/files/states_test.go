package files_test

import (
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/export"
)

// TestSCIMShowsAndTakesStatesByWords: an application that has a word for each state, in an
// attribute of its own, and groups that name its users.
func TestSCIMShowsAndTakesStatesByWords(t *testing.T) {
	const urn = "urn:marrowick:User"
	app := &model.App{ID: "berths", Match: "userName", Attrs: []model.Attr{
		{Name: "userName", Person: "userName"}, {Name: model.Sent, Observed: true}, {Name: model.Owned, Observed: true},
	}, Things: []model.Thing{
		{Kind: model.Group, Name: "deck"}, {Kind: model.Role, Name: "planner"}, {Kind: model.Role, Name: "boss"},
	}, OwnedSplit: ";"}
	app.Index()
	spec := &export.Spec{Format: "scim", Paths: []model.Name{{Text: "b.json"}}, Columns: []export.Column{
		{Attr: "status", Name: urn + ":state", States: map[model.State]string{
			model.Open: "live", model.Blocked: "off", model.Invited: "asked", model.Removed: "gone",
		}},
		{Attr: model.Sent, Name: urn + ":sent"}, {Attr: model.Owned, Name: urn + ":owns"},
	}}
	user := func(name, state, active, more string) string {
		return `{"schemas":["urn:ietf:params:scim:schemas:core:2.0:User"],"id":"` + name + `","userName":"` + name +
			`","active":` + active + `,"` + urn + `":{"state":"` + state + `"` + more + `}}`
	}
	dir := t.TempDir()
	file := filepath.Join(dir, "b.json")
	require.NoError(t, os.WriteFile(file, []byte(`[`+user("ada", "live", "true", "")+`,`+
		user("bo", "gone", "false", `,"owns":"old"`)+`,`+user("cy", "asked", "false", `,"sent":"1"`)+`,`+
		user("dee", "off", "false", `,"owns":"x;y"`)+
		`,{"schemas":["urn:ietf:params:scim:schemas:core:2.0:Group"],"id":"deck","displayName":"deck","members":[{"value":"bo"}]}]`,
	), 0o644))
	f := at(t, dir, spec, app)
	read := func() *model.Accounts {
		s, err := f.Read(context.Background())
		require.NoError(t, err)
		return s.Accounts
	}
	states := func() (out map[string]string) {
		a := read()
		out = map[string]string{}
		for i, s := range a.States {
			out[a.Key.At(i)] = s.String()
		}
		return out
	}
	require.Equal(t, map[string]string{"ada": "open", "bo": "removed", "cy": "invited", "dee": "blocked"}, states())
	require.Zero(t, read().Held[1], "who is removed holds nothing")
	require.NotZero(t, read().Has(1))

	again, hand := change(model.Invite, "cy"), change(model.HandOver, "dee")
	again.Attribute, again.Before, again.After = model.Sent, plan.Text("1"), plan.Text("2")
	hand.Attribute, hand.Before, hand.After = model.Owned, plan.List([]string{"x", "y"}), plan.Text("ada")
	invite := create("eve", map[string]string{"userName": "eve", model.Sent: "1"})
	invite.Verb = model.Invite
	require.NoError(t, carryOut(f, []*plan.Change{
		hand, create("bo", map[string]string{"userName": "bo"}), again, invite, change(model.Suspend, "ada"),
	}, func() {}))
	require.Equal(t, map[string]string{
		"ada": "blocked", "bo": "open", "cy": "invited", "dee": "blocked", "eve": "invited",
	}, states())
	a := read()
	for i := range a.States {
		switch a.Key.At(i) {
		case "ada":
			require.Equal(t, "x;y", a.Attr(2, i))
		case "bo": // made anew: nothing of the old one stays, not even who was in the group
			require.Zero(t, a.Held[i])
			require.Empty(t, a.Attr(2, i))
		case "cy":
			require.Equal(t, "2", a.Attr(1, i))
		case "dee":
			require.Empty(t, a.Attr(2, i))
		}
	}
	require.NoError(t, carryOut(f, []*plan.Change{
		change(model.Remove, "dee"), change(model.Withdraw, "cy"), change(model.Restore, "ada"),
	}, func() {}))
	require.Equal(t, map[string]string{"ada": "open", "bo": "open", "dee": "removed", "eve": "invited"}, states())
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	require.True(t, json.Valid(text))

	// A word that is none is refused with its place.
	require.NoError(t, os.WriteFile(file, []byte(`[`+user("ada", "alive", "true", "")+`]`), 0o644))
	_, err = f.Read(context.Background())
	require.ErrorContains(t, err, `is "alive" and none of "live", "off", "asked", "gone"`)
}
