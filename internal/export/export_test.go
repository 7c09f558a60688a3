package export_test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/require"

	"pravet/internal/core/model"
	"pravet/internal/export"
	"pravet/internal/source"
)

func app() *model.App {
	a := &model.App{
		ID:    "tickets",
		Match: "userName",
		Attrs: []model.Attr{{Name: "userName"}, {Name: "email"}, {Name: "manager"}},
	}
	a.Things = []model.Thing{
		{Kind: model.Role, Name: "seller"},
		{Kind: model.Role, Name: "lead"},
		{Kind: model.Group, Name: "bridge"},
		{Kind: model.License, Name: "seat"},
	}
	a.Index()
	return a
}

func csvSpec() *export.Spec {
	return &export.Spec{Format: "csv", Delimiter: ',', Paths: []model.Name{{Text: "e"}}, Columns: []export.Column{
		{
			Attr: "userName",
			Name: "Login",
		}, {Attr: "email", Name: "Mail"}, {Attr: "active", Name: "State", Worded: true, True: "Open", False: "Blocked"},
		{
			Attr:  "groups",
			Name:  "Teams",
			Split: ";",
		}, {Attr: "roles", Name: "Roles", Split: ";"}, {Attr: "licenses", Name: "Seats"},
	}}
}

func scimSpec(files ...string) *export.Spec {
	s := &export.Spec{Format: "scim"}
	for _, f := range files {
		s.Paths = append(s.Paths, model.Name{Text: f})
	}
	return s
}

// tree is a folder for a test.
func tree(t testing.TB, dir string) *source.Tree {
	tree, err := source.OpenTree(dir, nil)
	require.NoError(t, err)
	t.Cleanup(func() { tree.Close() })
	return tree
}

// read reads an export of the files' contents, in order, as accounts in words.
func read(t testing.TB, spec *export.Spec, contents ...string) ([]string, *model.Accounts, error) {
	dir := t.TempDir()
	for i, c := range contents {
		require.NoError(t, os.WriteFile(filepath.Join(dir, spec.Paths[i].Text), []byte(c), 0o644))
	}
	a := app()
	accounts, _, err := export.Read(context.Background(), tree(t, dir), spec, a)
	if err != nil {
		return nil, nil, err
	}
	var out []string
	for i := range accounts.Len() {
		var held []string
		for _, th := range accounts.Sets.Members(accounts.Held[i]) {
			held = append(held, a.Things[th].Name)
		}
		state := "open"
		if !accounts.Open(i) {
			state = "blocked"
		}
		out = append(
			out,
			fmt.Sprintf("%s %s %s %s", accounts.Key.At(i), state, accounts.Attr(1, i), strings.Join(held, "+")),
		)
	}
	return out, accounts, nil
}

func TestCSVIsReadThroughTheApplicationsColumns(t *testing.T) {
	got, accounts, err := read(t, csvSpec(), "\ufeffState,Login,Mail,Other,Teams,Roles,Seats\r\n"+
		"Open,maren,m@x,\"a,\nb\",bridge, seller ; lead ,seat\r\n\r\nBlocked,søren,,,,seller;chef;,\r\nOpen,,,,,,\r\n")
	require.NoError(t, err)
	require.Equal(t, []string{"maren open m@x seat+bridge+lead+seller", "søren blocked  seller"}, got)
	require.Len(t, accounts.Unnamed, 1)
	require.Equal(t, map[model.UnmanagedThing]int{{Kind: model.Role, Name: "chef"}: 1}, accounts.Unmanaged)
	require.Equal(t, 5, accounts.Pos(1).Line)
}

// TestAnEmptyWordIsAWord: some applications leave a cell empty for blocked.
func TestAnEmptyWordIsAWord(t *testing.T) {
	spec := csvSpec()
	spec.Columns[2].False = ""
	got, _, err := read(t, spec, "Login,Mail,State,Teams,Roles,Seats\nmaren,,Open,,,\nines,,,,,\n")
	require.NoError(t, err)
	require.Equal(t, []string{"maren open  ", "ines blocked  "}, got)
	_, _, err = read(t, spec, "Login,Mail,State,Teams,Roles,Seats\nmaren,,Blocked,,,\n")
	require.ErrorContains(t, err, `State is neither "Open" nor "" here`)
}

func TestSCIMIsReadInEveryShape(t *testing.T) {
	user := `{"schemas":["urn:ietf:params:scim:schemas:core:2.0:User"],"id":"1","userName":"maren","emails":[{"value":"o@x"},{"value":"m@x","primary":true}],"roles":[{"value":"seller"},"lead"],"entitlements":[{"value":"seat"}],"groups":[{"value":"g1","display":"bridge"}]}`
	other := `{"schemas":["urn:ietf:params:scim:schemas:core:2.0:User"],"id":"2","userName":"ines","active":false}`
	group := `{"schemas":["urn:ietf:params:scim:schemas:core:2.0:Group"],"id":"g1","displayName":"bridge","members":[{"value":"2"},{"value":"9"}]}`
	page := func(total int, list ...string) string {
		return fmt.Sprintf(
			`{"schemas":["urn:ietf:params:scim:api:messages:2.0:ListResponse"],"totalResults":%d,"Resources":[%s]}`,
			total,
			strings.Join(list, ","),
		)
	}
	alone, both := []string{
		"maren open m@x seat+bridge+lead+seller",
	}, []string{"maren open m@x seat+lead+seller", "ines blocked  bridge"}
	for _, c := range []struct {
		name  string
		files []string
		want  []string
	}{
		{"one resource", []string{user}, alone},
		{"a list", []string{"[" + user + "]"}, alone},
		{"a page", []string{page(1, user)}, alone},
		{
			"pages after each other in one file", []string{page(2, user) + "\n" + page(2, other)},
			[]string{alone[0], "ines blocked  "},
		},
		{"users and groups together", []string{page(3, user, group, other)}, both},
		{"users and groups apart", []string{page(2, user, other), page(1, group)}, both},
		{"groups first, pages in files", []string{page(1, group), page(2, user), page(2, other)}, both},
		{"with a byte order mark", []string{"\ufeff" + user}, alone},
		{"no users", []string{page(0)}, nil},
	} {
		var names []string
		for i := range c.files {
			names = append(names, fmt.Sprint("f", i))
		}
		got, _, err := read(t, scimSpec(names...), c.files...)
		require.NoError(t, err, c.name)
		require.Equal(t, c.want, got, c.name)
	}
}

func TestSCIMAttributesAreWhereTheSchemasPutThem(t *testing.T) {
	_, accounts, err := read(
		t,
		scimSpec("e"),
		`{"userName":"maren","urn:ietf:params:scim:schemas:extension:enterprise:2.0:User":{"manager":{"value":"E1"}}}`,
	)
	require.NoError(t, err)
	require.Equal(t, "E1", accounts.Attr(2, 0))
}

// TestMemoryGrowsWithWhatIsKept reads a file of 60 MB that is mostly columns
// nobody asked for.
func TestMemoryGrowsWithWhatIsKept(t *testing.T) {
	var b strings.Builder
	b.WriteString("Login,Mail,State,Teams,Roles,Seats,Notes\n")
	for i := range 30_000 {
		fmt.Fprintf(&b, "user%d,,Open,,seller,,%s\n", i, strings.Repeat("n", 2000))
	}
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "e"), []byte(b.String()), 0o644))
	b.Reset()
	var before, after runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	accounts, _, err := export.Read(context.Background(), tree(t, dir), csvSpec(), app())
	require.NoError(t, err)
	runtime.GC()
	runtime.ReadMemStats(&after)
	require.Equal(t, 30_000, accounts.Len())
	require.Less(t, int64(after.HeapAlloc)-int64(before.HeapAlloc), int64(8<<20))
}

// mustHavePlace fails when an error is no problem with a place in the file.
func mustHavePlace(t *testing.T, err error) {
	var p *source.Problem
	if !errors.As(err, &p) || p.Pos.File == "" || p.Says == "" {
		t.Fatalf("%v has no place", err)
	}
}

func FuzzCSV(f *testing.F) {
	for _, s := range []string{"Login,Mail,State,Teams,Roles,Seats\nmaren,m@x,Open,bridge,seller;lead,seat\n", "\ufeffLogin,Mail,State,Teams,Roles,Seats\r\n\"a\"\"b\",,Blocked,,,\r\n",
		"Login\n", "Login,Mail,State,Teams,Roles,Seats\n\"x", "Login,Mail,State,Teams,Roles,Seats\na,b\n", "\xff\xfe", "Login,Mail,State,Teams,Roles,Seats\n\n\n,,Open,,,\n"} {
		f.Add([]byte(s))
	}
	dir := f.TempDir()
	f.Fuzz(func(t *testing.T, data []byte) {
		accounts, err := fuzzRead(t, dir, csvSpec(), data)
		if err != nil {
			mustHavePlace(t, err)
			return
		}
		for i := range accounts.Len() {
			if accounts.Key.At(i) == "" || !utf8.ValidString(accounts.Key.At(i)) || accounts.Pos(i).Line < 2 {
				t.Fatalf("account %d: %q at %v", i, accounts.Key.At(i), accounts.Pos(i))
			}
		}
	})
}

func fuzzRead(t *testing.T, dir string, spec *export.Spec, data []byte) (*model.Accounts, error) {
	if err := os.WriteFile(filepath.Join(dir, spec.Paths[0].Text), data, 0o644); err != nil {
		t.Fatal(err)
	}
	accounts, _, err := export.Read(context.Background(), tree(t, dir), spec, app())
	return accounts, err
}

func FuzzSCIM(f *testing.F) {
	for _, s := range []string{`{"userName":"a","active":"True","roles":["seller"]}`, `[{"id":"1","userName":"a"},{"displayName":"bridge","members":[{"value":"1"}]}]`,
		`{"schemas":["urn:ietf:params:scim:api:messages:2.0:ListResponse"],"totalResults":1,"Resources":[{"userName":"a","emails":[{"value":"x"}]}]}{}`,
		`[[[[`, `{"Resources":{}}`, `{"totalResults":-1,"Resources":[]}`, `[{"userName":1e999}]`, `[{"userName":"\ud800"}]`} {
		f.Add([]byte(s))
	}
	dir := f.TempDir()
	f.Fuzz(func(t *testing.T, data []byte) {
		accounts, err := fuzzRead(t, dir, scimSpec("e"), data)
		if err != nil {
			mustHavePlace(t, err)
			return
		}
		if accounts.Key.Len() != accounts.Len() || len(accounts.Held) != accounts.Len() {
			t.Fatalf("%d accounts, %d names, %d sets", accounts.Len(), accounts.Key.Len(), len(accounts.Held))
		}
	})
}

// BenchmarkCSV measures reading 100,000 accounts.
func BenchmarkCSV(b *testing.B) {
	var text strings.Builder
	text.WriteString("Login,Mail,State,Teams,Roles,Seats\n")
	for i := range 100_000 {
		fmt.Fprintf(&text, "user.%06d,user.%06d@x.example,Open,bridge,seller;lead,seat\n", i, i)
	}
	dir := b.TempDir()
	require.NoError(b, os.WriteFile(filepath.Join(dir, "e"), []byte(text.String()), 0o644))
	b.SetBytes(int64(text.Len()))
	for b.Loop() {
		_, _, err := export.Read(context.Background(), tree(b, dir), csvSpec(), app())
		require.NoError(b, err)
	}
}

// TestDefinitionsAreReadByKindAndName, and what is wrong has its line.
func TestDefinitionsAreReadByKindAndName(t *testing.T) {
	app := &model.App{
		ID:    "till",
		Match: "userName",
		Things: []model.Thing{
			{Kind: model.Role, Name: "lead", Define: true},
			{Kind: model.Group, Name: "lead", Define: true},
		},
	}
	app.Index()
	read := func(text string, columns ...export.Column) (*model.Definitions, error) {
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(dir, "a.csv"), []byte("Login\n"), 0o644))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "d.csv"), []byte(text), 0o644))
		accounts, _, err := export.Read(
			context.Background(),
			tree(t, dir),
			&export.Spec{
				Format:    "csv",
				Delimiter: ',',
				Paths:     []model.Name{{Text: "a.csv"}},
				Columns:   []export.Column{{Attr: "userName", Name: "Login"}},
				Definitions: &export.Spec{
					Format:    "csv",
					Delimiter: ',',
					Paths:     []model.Name{{Text: "d.csv"}},
					Columns:   columns,
				},
			},
			app,
		)
		if err != nil {
			return nil, err
		}
		return accounts.Definitions, nil
	}
	all := []export.Column{
		{Attr: "kind", Name: "K"},
		{Attr: "name", Name: "N"},
		{Attr: "permissions", Name: "P", Split: ";"},
		{Attr: "roles", Name: "R", Split: ";"},
	}
	got, err := read("K,N,P,R,Note\nRole,lead,b; a;b,seller,x\ngroup,lead,,,\nrole,other,,lead,\n", all...)
	require.NoError(t, err)
	require.Equal(
		t,
		&model.Definition{
			Kind:        model.Role,
			Name:        "lead",
			Permissions: []string{"a", "b"},
			Brings:      []string{"role seller"},
			Line:        2,
		},
		got.Of[app.Thing(model.Role, "lead")],
	)
	require.Equal(t, 3, got.Of[app.Thing(model.Group, "lead")].Line)
	require.Equal(t, "other", got.Others[0].Name)
	require.True(t, got.Permissions && got.Brings && !got.Titles)
	got, err = read("N\nlead\n", export.Column{Attr: "name", Name: "N"})
	require.NoError(t, err)
	require.NotNil(t, got.Of[app.Thing(model.Role, "lead")], "without a column of kinds, all are roles")
	require.Nil(t, got.Of[app.Thing(model.Group, "lead")])
	for text, says := range map[string]string{
		"":        "d.csv:1: the export is empty",
		"K,N,P\n": `d.csv:1: the header has no column "R"`,
		"K,N,P,R\nrole,lead\n": "d.csv:2:1: the row has 2 fields and the header has 4|d.csv:2: the row " +
			"has 2 fields and the header has 4",
		"K,N,P,R\nlicense,seat,,\n":     `d.csv:2: K is "license" here, and group or role is expected`,
		"K,N,P,R\nrole,,,\n":            "d.csv:2: the definition has no name",
		"K,N,P,R\nrole,a,,\nROLE,a,,\n": "d.csv:3: the role a is defined in line 2 already",
		"K,N,P,R\nrole,\"a,,\n":         "d.csv:2:11: a quote stands where none is expected",
		"K,N,P,R\nrole,a\x00,,\n":       "NUL byte",
		"K,N,P,R\nrole,\xff,,\n":        "not UTF-8",
	} {
		_, err := read(text, all...)
		require.Error(t, err, text)
		ok := false
		for _, want := range strings.Split(says, "|") {
			ok = ok || strings.Contains(err.Error(), want)
		}
		require.True(t, ok, "%q: %v", text, err)
	}
}

// FuzzDefinitions: any file of definitions is read or refused with a place.
func FuzzDefinitions(f *testing.F) {
	for _, seed := range []string{"K,N,P\nrole,a,x;y\n", "K,N,P\ngroup,a,\n\n", "N\n", "K;N\n\"", "K,N,P\nrole,a,x\nrole,a,y\n"} {
		f.Add([]byte(seed))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		app := &model.App{
			ID:     "till",
			Match:  "userName",
			Things: []model.Thing{{Kind: model.Role, Name: "a", Define: true}},
		}
		app.Index()
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(dir, "a.csv"), []byte("Login\n"), 0o644))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "d.csv"), data, 0o644))
		spec := &export.Spec{
			Format:    "csv",
			Delimiter: ',',
			Paths:     []model.Name{{Text: "a.csv"}},
			Columns:   []export.Column{{Attr: "userName", Name: "Login"}},
			Definitions: &export.Spec{
				Format:    "csv",
				Delimiter: ',',
				Paths:     []model.Name{{Text: "d.csv"}},
				Columns: []export.Column{
					{Attr: "kind", Name: "K"},
					{Attr: "name", Name: "N"},
					{Attr: "permissions", Name: "P", Split: ";"},
				},
			},
		}
		accounts, _, err := export.Read(context.Background(), tree(t, dir), spec, app)
		if err != nil {
			var p *source.Problem
			require.ErrorAs(t, err, &p)
			require.Equal(t, "d.csv", p.Pos.File)
			require.NotZero(t, p.Pos.Line)
			return
		}
		for _, d := range append(accounts.Definitions.Others, accounts.Definitions.Of...) {
			if d != nil {
				require.True(t, d.Name != "" && slices.IsSorted(d.Permissions))
			}
		}
	})
}
