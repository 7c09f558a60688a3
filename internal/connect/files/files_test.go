package files_test

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"pravet/internal/connect"
	"pravet/internal/connect/files"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/export"
	"pravet/internal/source"
)

// tickets is an application whose users live in a CSV file.
func tickets(delimiter rune, split string) (*model.App, *export.Spec) {
	app := &model.App{ID: "tickets", Match: "userName", Attrs: []model.Attr{{Name: "userName"}, {Name: "displayName"}}}
	for _, name := range []string{"seller", "lead", "auditor"} {
		app.Things = append(app.Things, model.Thing{Kind: model.Role, Name: name})
	}
	app.Index()
	return app, &export.Spec{
		Format:    "csv",
		Delimiter: delimiter,
		Paths:     []model.Name{{Text: "t.csv"}},
		Columns: []export.Column{
			{Attr: "userName", Name: "Login"}, {Attr: "displayName", Name: "Name"},
			{
				Attr:   "active",
				Name:   "State",
				Worded: true,
				True:   "Open",
				False:  "Blocked",
			}, {Attr: "roles", Name: "Roles", Split: split},
		},
	}
}

func change(verb model.Verb, account string) *plan.Change {
	return &plan.Change{ID: verb.String(), Verb: verb, Account: account}
}

func role(verb model.Verb, account, name string) *plan.Change {
	c := change(verb, account)
	c.Thing = &plan.Thing{Kind: model.Role, Name: name}
	return c
}

func update(account, attr string, after string) *plan.Change {
	c := change(model.Update, account)
	c.Attribute, c.After = attr, plan.Text(after)
	return c
}

func create(account string, attrs map[string]string) *plan.Change {
	c := change(model.Create, account)
	c.After = plan.Fields(attrs)
	return c
}

// at is an application whose files are in a folder.
func at(t require.TestingT, dir string, spec *export.Spec, app *model.App) *files.Files {
	tree, err := source.OpenTree(dir, nil)
	require.NoError(t, err)
	return &files.Files{Tree: tree, Spec: spec, App: app}
}

// carryOut prepares a step and commits it, as carry does; between is called in
// between.
func carryOut(f *files.Files, changes []*plan.Change, between func()) error {
	ctx := context.Background()
	mark, err := f.Mark(ctx)
	if err != nil {
		return err
	}
	step, err := f.Prepare(ctx, mark, changes)
	if err != nil {
		return err
	}
	between()
	if err := step.Commit(context.Background(), func(*plan.Change, error) {}); err != nil {
		return err
	}
	now, err := f.Mark(ctx)
	if err == nil && now != step.After() {
		err = errors.New("the mark is not the one that was foretold")
	}
	return err
}

// apply carries changes out on a file with a content and returns what it
// holds afterwards.
func apply(t *testing.T, app *model.App, spec *export.Spec, content string, changes ...*plan.Change) (string, error) {
	t.Helper()
	dir := t.TempDir()
	file := filepath.Join(dir, spec.Paths[0].Text)
	require.NoError(t, os.WriteFile(file, []byte(content), 0o640))
	f := at(t, dir, spec, app)
	err := carryOut(f, changes, func() {
		now, err := os.ReadFile(file)
		require.NoError(t, err)
		require.Equal(t, content, string(now), "nothing is replaced before it is said")
	})
	after, readErr := os.ReadFile(file)
	require.NoError(t, readErr)
	info, statErr := os.Stat(file)
	require.NoError(t, statErr)
	require.Equal(t, os.FileMode(0o640), info.Mode().Perm())
	entries, dirErr := os.ReadDir(dir)
	require.NoError(t, dirErr)
	require.Len(t, entries, 1, "nothing is left beside the file")
	return string(after), err
}

func TestCSVKeepsEveryByteItDoesNotOwn(t *testing.T) {
	for _, c := range []struct {
		name, before, after string
		delimiter           rune
		split               string
		changes             []*plan.Change
	}{
		{
			"nothing to do", "Login,Name,State,Roles\na,A,Open,seller\n", "Login,Name,State,Roles\na,A,Open,seller\n", ',', ";",
			[]*plan.Change{role(model.Grant, "a", "seller")},
		},
		{"one field", "Login,Name,State,Roles,Shoe size\na,A,Open,,38\nb,B,Open,,41\n", "Login,Name,State,Roles,Shoe size\na,A,Blocked,,38\nb,B,Open,,41\n", ',', ";",
			[]*plan.Change{change(model.Suspend, "a")}},
		{"mark, line ends, quotes, no last line " +
			"end", "\ufeffLogin;Name;Note;State;Roles\r\na;\"A; a\";\"two\r\nlines\";Open;\"seller\"\r\n\r\nb;B;x;Open;",
			"\ufeffLogin;Name;Note;State;Roles\r\n" +
				"a;\"A; \"\"a\"\"\";\"two\r\n" +
				"lines\";Open;\"seller,lead\"\r\n" +
				"\r\n" +
				"b;B;x;Blocked;auditor",
			';', ",",
			[]*plan.Change{update("a", "displayName", `A; "a"`), role(model.Grant, "a", "lead"), change(model.Suspend, "b"), role(model.Grant, "b", "auditor")}},
		{"lists keep their order and their " +
			"spaces", "Login,Name,State,Roles\na,A,Open,\"auditor, chef, seller\"\n",
			"Login,Name,State,Roles\na,A,Open,\"chef, seller, lead\"\n", ',', ",",
			[]*plan.Change{role(model.Revoke, "a", "auditor"), role(model.Grant, "a", "lead")}},
		{
			"the last name goes", "Login,Name,State,Roles\na,A,Open,seller\n", "Login,Name,State,Roles\na,A,Open,\n", ',', ";",
			[]*plan.Change{role(model.Revoke, "a", "seller")},
		},
		{
			"a value is taken away", "Login,Name,State,Roles\na,\"A\",Open,\n", "Login,Name,State,Roles\na,\"\",Open,\n", ',',
			";", []*plan.Change{update("a", "displayName", "")},
		},
		{"new rows at the end", "Roles,Login,State,Other,Name\r\n,a,Open,x,A", "Roles,Login,State,Other,Name\r\n,a,Open,x,A\r\nseller;lead,b,Open,,\"B, b\"\r\n,c,Open,,\r\n", ',', ";",
			[]*plan.Change{
				create("b", map[string]string{"userName": "b", "displayName": "B, b"}), role(model.Grant, "b", "seller"),
				role(model.Grant, "b", "lead"), create("c", map[string]string{"userName": "c"}),
			}},
		{
			"a row goes", "Login,Name,State,Roles\na,A,Open,\nb,\"B\nb\",Open,\nc,C,Open,\n",
			"Login,Name,State,Roles\na,A,Open,\nc,C,Open,\n", ',', ";", []*plan.Change{change(model.Remove, "b")},
		},
		{
			"what is gone already stays gone", "Login,Name,State,Roles\na,A,Open,\n", "Login,Name,State,Roles\na,A,Open,\n",
			',', ";", []*plan.Change{change(model.Remove, "b")},
		},
		{"what is there already is not made " +
			"twice", "Login,Name,State,Roles\na,A,Open,\n", "Login,Name,State,Roles\na,A,Open,seller\n", ',', ";",
			[]*plan.Change{create("a", map[string]string{"userName": "a", "displayName": "A"}), role(model.Grant, "a", "seller")}},
		{
			"blank lines at the end", "Login,Name,State,Roles\na,A,Open,\n\n\n", "Login,Name,State,Roles\na,A,Blocked,\n\n\n",
			',', ";", []*plan.Change{change(model.Suspend, "a")},
		},
	} {
		t.Run(c.name, func(t *testing.T) {
			app, spec := tickets(c.delimiter, c.split)
			got, err := apply(t, app, spec, c.before, c.changes...)
			require.NoError(t, err)
			require.Equal(t, c.after, got)
		})
	}
}

func TestCSVIsLeftAloneWhenItCannotBeDone(t *testing.T) {
	app, spec := tickets(',', "")
	for _, c := range []struct {
		says    string
		content string
		changes []*plan.Change
	}{
		{"is not there any more", "Login,Name,State,Roles\na,A,Open,\n", []*plan.Change{change(model.Suspend, "b")}},
		{"holds one name only", "Login,Name,State,Roles\na,A,Open,seller\n", []*plan.Change{role(model.Grant, "a", "lead")}},
		{"the header has no column", "Login,Name,State\na,A,Open\n", []*plan.Change{change(model.Suspend, "a")}},
	} {
		got, err := apply(t, app, spec, c.content, c.changes...)
		require.ErrorContains(t, err, c.says)
		require.Equal(t, c.content, got)
	}
	// Nor when someone else writes the file at the last moment.
	dir := t.TempDir()
	file := filepath.Join(dir, "t.csv")
	require.NoError(t, os.WriteFile(file, []byte("Login,Name,State,Roles\na,A,Open,\n"), 0o600))
	f := at(t, dir, spec, app)
	err := carryOut(
		f,
		[]*plan.Change{change(model.Suspend, "a")},
		func() { require.NoError(t, os.WriteFile(file, []byte("theirs"), 0o600)) },
	)
	require.ErrorContains(t, err, "was changed by someone else just now")
	theirs, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Equal(t, "theirs", string(theirs))

	// Nor when the step is given up, or the application is not as it is known.
	content := "Login,Name,State,Roles\na,A,Open,\n"
	require.NoError(t, os.WriteFile(file, []byte(content), 0o600))
	mark, err := f.Mark(context.Background())
	require.NoError(t, err)
	step, err := f.Prepare(context.Background(), mark, []*plan.Change{change(model.Suspend, "a")})
	require.NoError(t, err)
	step.Drop()
	var moved *connect.MovedError
	_, err = f.Prepare(context.Background(), "sha256:other", []*plan.Change{change(model.Suspend, "a")})
	require.ErrorAs(t, err, &moved)
	ended, end := context.WithCancel(context.Background())
	end()
	_, err = f.Prepare(ended, mark, []*plan.Change{change(model.Suspend, "a")})
	require.ErrorIs(t, err, context.Canceled)
	after, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Equal(t, content, string(after))
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	require.Len(t, left, 1)
}

// TestDefinitionsKeepEveryByteTheyDoNotOwn: rows are defined, redefined and
// retired by kind and name; columns that nobody names stay as they are.
func TestDefinitionsKeepEveryByteTheyDoNotOwn(t *testing.T) {
	app, spec := tickets(',', ";")
	spec.Definitions = &export.Spec{
		Format:    "csv",
		Delimiter: ';',
		Paths:     []model.Name{{Text: "roles.csv"}},
		Columns: []export.Column{
			{
				Attr: "kind",
				Name: "Kind",
			}, {Attr: "name", Name: "Name"}, {Attr: "title", Name: "Title"}, {Attr: "permissions", Name: "May", Split: ","}, {Attr: "roles", Name: "With", Split: ","},
		},
	}
	of := func(verb model.Verb, kind model.Kind, name, attr string, before, after plan.Value) *plan.Change {
		return &plan.Change{
			App:       "tickets",
			Verb:      verb,
			Thing:     &plan.Thing{Kind: kind, Name: name},
			Attribute: attr,
			Before:    before,
			After:     after,
		}
	}
	list := func(names ...string) plan.Value { return plan.List(names) }
	define := plan.Defined(&model.Definition{
		Title: "New one", Permissions: []string{"a", "b"}, Brings: []string{"role seller"},
	})
	none := plan.Value{}
	for name, c := range map[string]struct {
		before, want, says string
		changes            []*plan.Change
	}{
		"title": {
			"Kind;Name;Note;Title;May;With\nrole;seller;\"a;b\";Old;x;\n",
			"Kind;Name;Note;Title;May;With\nrole;seller;\"a;b\";New;x;\n", "",
			[]*plan.Change{of(model.Redefine, model.Role, "seller", "title", plan.Text("Old"), plan.Text("New"))},
		},
		"permissions": {
			"Kind;Name;Note;Title;May;With\r\nRole;seller;n;;x,y;\r\ngroup;seller;n;;x;\r\n",
			"Kind;Name;Note;Title;May;With\r\nRole;seller;n;;y;\r\ngroup;seller;n;;x;\r\n", "",
			[]*plan.Change{of(model.Redefine, model.Role, "seller", "permissions", list("x", "y"), list("y"))},
		},
		"brings": {
			"Kind;Name;Title;May;With\nrole;lead;;;\n", "Kind;Name;Title;May;With\nrole;lead;;;a,b\n", "",
			[]*plan.Change{of(model.Redefine, model.Role, "lead", "brings", list(), list("role a", "role b"))},
		},
		"define": {
			"Kind;Name;Note;Title;May;With\nrole;seller;n;;;",
			"Kind;Name;Note;Title;May;With\nrole;seller;n;;;\nrole;lead;;New one;a,b;seller\n", "",
			[]*plan.Change{of(model.Define, model.Role, "lead", "", none, define)},
		},
		"retire": {
			"Kind;Name;Title;May;With\nrole;seller;;;\ngroup;seller;;;\n", "Kind;Name;Title;May;With\ngroup;seller;;;\n", "",
			[]*plan.Change{of(model.Retire, model.Role, "seller", "", none, none)},
		},
		"gone": {
			"Kind;Name;Title;May;With\n", "", "is not there any more",
			[]*plan.Change{of(model.Redefine, model.Role, "seller", "title", plan.Text("Old"), plan.Text("New"))},
		},
		"retired": {
			"Kind;Name;Title;May;With\n", "Kind;Name;Title;May;With\n", "",
			[]*plan.Change{of(model.Retire, model.Role, "seller", "", none, none)},
		},
		"unwritable": {
			"Kind;Name;Title;May;With\nrole;seller;;;\n", "", "cannot hold",
			[]*plan.Change{of(model.Redefine, model.Role, "seller", "permissions", list(), list("a,b"))},
		},
		"no column": {
			"Kind;Name;May;With\nrole;seller;;\n", "", "the header has no column \"Title\"",
			[]*plan.Change{of(model.Redefine, model.Role, "seller", "title", plan.Text("Old"), plan.Text("New"))},
		},
	} {
		dir := t.TempDir()
		accounts := "Login,Name,State,Roles\na,A,Open,\n"
		require.NoError(t, os.WriteFile(filepath.Join(dir, "tickets.csv"), []byte(accounts), 0o644))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "roles.csv"), []byte(c.before), 0o644))
		spec.Paths = []model.Name{{Text: "tickets.csv"}}
		err := carryOut(at(t, dir, spec, app), c.changes, func() {})
		after, readErr := os.ReadFile(filepath.Join(dir, "roles.csv"))
		require.NoError(t, readErr)
		if c.says != "" {
			require.ErrorContains(t, err, c.says, name)
			require.Equal(t, c.before, string(after), name)
			continue
		}
		require.NoError(t, err, name)
		require.Equal(t, c.want, string(after), name)
		left, err := os.ReadFile(filepath.Join(dir, "tickets.csv"))
		require.NoError(t, err)
		require.Equal(t, accounts, string(left))
	}
}
