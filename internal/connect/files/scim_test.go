package files_test

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/require"

	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/export"
)

// berths is an application whose users live in SCIM JSON.
func berths() (*model.App, *export.Spec) {
	app := &model.App{
		ID:    "berths",
		Match: "userName",
		Attrs: []model.Attr{{Name: "userName"}, {Name: "displayName"}, {Name: "email"}, {Name: "home"}},
	}
	app.Things = []model.Thing{
		{Kind: model.Role, Name: "viewer"},
		{Kind: model.Role, Name: "planner"},
		{Kind: model.Group, Name: "bridge"},
		{Kind: model.License, Name: "seat"},
	}
	app.Index()
	return app, &export.Spec{
		Format:  "scim",
		Paths:   []model.Name{{Text: "b.json"}},
		Columns: []export.Column{{Attr: "home", Name: "urn:x.y:ext:2.0:User:home"}},
	}
}

func group(verb model.Verb, account, name string) *plan.Change {
	c := change(verb, account)
	c.Thing = &plan.Thing{Kind: model.Group, Name: name}
	return c
}

func TestSCIMKeepsEveryByteItDoesNotOwn(t *testing.T) {
	for _, c := range []struct {
		name, before, after string
		changes             []*plan.Change
	}{
		{"values of one user", `[ {"userName":"a", "x": {"y":[1, 2]},"active" : true},{"userName":"b"} ]`,
			`[ {"userName":"a", "x": {"y":[1, 2]},"active" : false},{"userName":"b","displayName":"B"} ]`,
			[]*plan.Change{change(model.Suspend, "a"), update("b", "displayName", "B")}},
		{"the primary of several addresses", `[{"userName":"a","emails":[{"value":"x@x"},{"value":"y@y","primary":true,"type":"work"}]}]`,
			`[{"userName":"a","emails":[{"value":"x@x"},{"value":"new@y","primary":true,"type":"work"}]}]`, []*plan.Change{update("a", "email", "new@y")}},
		{"an extension", `[{"userName":"a","urn:x.y:ext:2.0:User":{"home":"sea","other":1}}]`, `[{"userName":"a","urn:x.y:ext:2.0:User":{"home":"land","other":1}}]`,
			[]*plan.Change{update("a", "home", "land")}},
		{
			"a value is taken away", `[{"userName":"a","displayName":"A","z":1}]`, `[{"userName":"a","z":1}]`,
			[]*plan.Change{update("a", "displayName", "")},
		},
		{"roles, as they are laid out", "[{\"userName\":\"a\",\n  \"roles\": [\n    {\"value\": \"viewer\", \"display\": \"V\"},\n    {\"value\": \"other\"}\n  ]}]",
			"[{\"userName\":\"a\",\n  \"roles\": [\n    {\"value\": \"viewer\", \"display\": \"V\"},\n    {\"value\": \"other\"},\n    {\"value\": \"planner\"}\n  ]}]", []*plan.Change{role(model.Grant, "a", "planner")}},
		{
			"a role goes", `[{"userName":"a","roles":[{"value":"viewer"},{"value":"planner"}]}]`,
			`[{"userName":"a","roles":[{"value":"planner"}]}]`, []*plan.Change{role(model.Revoke, "a", "viewer")},
		},
		{
			"groups of users, where no group is listed", `[{"userName":"a"}]`,
			`[{"userName":"a","groups":[{"display":"bridge","value":"bridge"}]}]`,
			[]*plan.Change{group(model.Join, "a", "bridge")},
		},
		{"members of groups, on several lines", "[{\"id\":\"1\",\"userName\":\"a\"},\n {\"displayName\":\"bridge\",\"members\":[\n  {\n    \"value\": \"7\"\n  }\n ]}]",
			"[{\"id\":\"1\",\"userName\":\"a\"},\n {\"displayName\":\"bridge\",\"members\":[\n  {\n    \"value\": \"7\"\n  },\n  {\n    \"value\": \"1\"\n  }\n ]}]", []*plan.Change{group(model.Join, "a", "bridge")}},
		{"a member leaves", `[{"id":"1","userName":"a"},{"displayName":"bridge","members":[{"value":"1"},{"value":"2"}]}]`,
			`[{"id":"1","userName":"a"},{"displayName":"bridge","members":[{"value":"2"}]}]`, []*plan.Change{group(model.Leave, "a", "bridge")}},
		{"a user goes, with its memberships and " +
			"counts",
			`{"totalResults": 3, "itemsPerPage":3,"Resources":[{"id":"1","userName":"a"}, {"id":"2","userName":"b"}, {"displayName":"bridge","members":[{"value":"1"}]}]}`,
			`{"totalResults": 2, "itemsPerPage":2,"Resources":[{"id":"2","userName":"b"}, {"displayName":"bridge","members":[]}]}`, []*plan.Change{change(model.Remove, "a")}},
		{"pages of one list count together, and another list by itself",
			`{"totalResults":2,"startIndex":1,"Resources":[{"id":"1","userName":"a"}]}{"totalResults":2,"startIndex":2,"Resources":[{"id":"2","userName":"b"}]}` +
				`{"totalResults":2,"Resources":[{"displayName":"bridge","members":[]},{"displayName":"deck","members":[]}]}`,
			`{"totalResults":1,"startIndex":1,"Resources":[]}{"totalResults":1,"startIndex":2,"Resources":[{"id":"2","userName":"b"}]}` +
				`{"totalResults":2,"Resources":[{"displayName":"bridge","members":[]},{"displayName":"deck","members":[]}]}`,
			[]*plan.Change{change(model.Remove, "a")}},
		{"the last page is empty",
			`{"totalResults":1,"startIndex":1,"itemsPerPage":1,"Resources":[{"userName":"a"}]}{"totalResults":1,"startIndex":2,"itemsPerPage":0,"Resources":[]}`,
			`{"totalResults":1,"startIndex":1,"itemsPerPage":1,"Resources":[{"userName":"a","active":false}]}{"totalResults":1,"startIndex":2,"itemsPerPage":0,"Resources":[]}`,
			[]*plan.Change{change(model.Suspend, "a")}},
		{"the last page is empty, and a user comes",
			`{"totalResults":1,"startIndex":1,"itemsPerPage":1,"Resources":[{"userName":"a"}]}{"totalResults":1,"startIndex":2,"itemsPerPage":0,"Resources":[]}`,
			`{"totalResults":2,"startIndex":1,"itemsPerPage":2,"Resources":[{"userName":"a"},{"schemas":["urn:ietf:params:scim:schemas:core:2.0:User"],"id":"c","userName":"c","active":true}]}{"totalResults":2,"startIndex":2,"itemsPerPage":0,"Resources":[]}`,
			[]*plan.Change{create("c", map[string]string{"userName": "c"})}},
		{"a last page without the list",
			`{"totalResults":1,"startIndex":1,"Resources":[{"userName":"a"}]}{"schemas":["urn:ietf:params:scim:api:messages:2.0:ListResponse"],"totalResults":1}`,
			`{"totalResults":1,"startIndex":1,"Resources":[{"userName":"a","active":false}]}{"schemas":["urn:ietf:params:scim:api:messages:2.0:ListResponse"],"totalResults":1}`,
			[]*plan.Change{change(model.Suspend, "a")}},
		{"the last user goes", `[{"userName":"a"}]`, `[]`, []*plan.Change{change(model.Remove, "a")}},
		{"a user comes into an empty list", `{"Resources":[]}`, `{"Resources":[{"schemas":["urn:ietf:params:scim:schemas:core:2.0:User"],"id":"c","userName":"c","active":true}]}`,
			[]*plan.Change{create("c", map[string]string{"userName": "c"})}},
		{"pages one after the other", "{\"Resources\":[{\"userName\":\"a\"}]}\n{\"Resources\":[{\"userName\":\"b\",\"active\":\"False\"}]}\n", "{\"Resources\":[{\"userName\":\"a\"}]}\n{\"Resources\":[{\"userName\":\"b\",\"active\":true}]}\n",
			[]*plan.Change{change(model.Restore, "b")}},
		{
			"a byte order mark", "\ufeff[{\"userName\":\"a\"}]", "\ufeff[{\"userName\":\"a\",\"active\":false}]",
			[]*plan.Change{change(model.Suspend, "a")},
		},
		{
			"one user alone", ` {"userName":"a","active":false} `, ` {"userName":"a","active":true} `,
			[]*plan.Change{change(model.Restore, "a")},
		},
	} {
		t.Run(c.name, func(t *testing.T) {
			app, spec := berths()
			got, err := apply(t, app, spec, c.before, c.changes...)
			require.NoError(t, err)
			require.Equal(t, c.after, got)
		})
	}
}

func TestSCIMNewUsersAreLaidOutAsTheOthers(t *testing.T) {
	app, spec := berths()
	before := "{\n  \"totalResults\": 1,\n  \"Resources\": [\n    {\n      \"id\": \"1\",\n      \"userName\": \"a\"\n    }\n  ]\n}\n"
	got, err := apply(
		t,
		app,
		spec,
		before,
		create("b", map[string]string{"userName": "b", "email": "b@x"}),
		role(model.Grant, "b", "viewer"),
	)
	require.NoError(t, err)
	var v any
	require.NoError(t, json.Unmarshal([]byte(got), &v))
	again, err := json.MarshalIndent(v, "", "  ")
	require.NoError(t, err)
	var want any
	require.NoError(t, json.Unmarshal(again, &want))
	require.Equal(t, want, v)
	require.Contains(
		t,
		got,
		"\n"+
			"    },\n"+
			"    {\n"+
			"      \"schemas\": [\n"+
			"        \"urn:ietf:params:scim:schemas:core:2.0:User\"\n"+
			"      ],\n"+
			"      \"id\": \"b\",",
	)
	require.Contains(t, got, "\"totalResults\": 2")
}

func TestSCIMIsLeftAloneWhenItCannotBeDone(t *testing.T) {
	app, spec := berths()
	for _, c := range []struct {
		says, content string
		change        *plan.Change
	}{
		{"is not there any more", `[{"userName":"a"}]`, change(model.Suspend, "b")},
		{"no list of users to add to", `{"userName":"a"}`, create("b", map[string]string{"userName": "b"})},
		{"has no group", `[{"userName":"a"},{"displayName":"other","members":[]}]`, group(model.Join, "a", "bridge")},
		{"it ends in the middle", `[{"userName":"a"`, change(model.Suspend, "a")},
	} {
		got, err := apply(t, app, spec, c.content, c.change)
		require.ErrorContains(t, err, c.says)
		require.Equal(t, c.content, got)
	}
}
