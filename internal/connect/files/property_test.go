package files_test

import (
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/export"
)

// A user is an account as a property knows it.
type user struct {
	login, name string
	open        bool
	roles       []string
	gone        bool
}

// drawChanges draws changes that make sense on some users, and carries them
// out on the users as an application would.
func drawChanges(t *rapid.T, users []user) (changes []*plan.Change, after []user) {
	after = slices.Clone(users)
	for i := range after {
		u := &after[i]
		u.roles = slices.Clone(u.roles)
		switch rapid.IntRange(0, 6).Draw(t, "change") {
		case 0:
			changes = append(
				changes,
				change(map[bool]model.Verb{true: model.Suspend, false: model.Restore}[u.open], u.login),
			)
			u.open = !u.open
		case 1:
			u.name = rapid.SampledFrom([]string{"", "New", "New, \"N\"", "two\nlines", "  led by spaces", "Søren"}).
				Draw(t, "name")
			changes = append(changes, update(u.login, "displayName", u.name))
		case 2:
			if len(u.roles) > 0 {
				changes = append(changes, role(model.Revoke, u.login, u.roles[0]))
				u.roles = u.roles[1:]
			}
		case 3:
			if !slices.Contains(u.roles, "auditor") {
				changes = append(changes, role(model.Grant, u.login, "auditor"))
				u.roles = append(u.roles, "auditor")
			}
		case 4:
			changes = append(changes, change(model.Remove, u.login))
			u.gone = true
		}
	}
	for i := range rapid.IntRange(0, 2).Draw(t, "new") {
		u := user{login: fmt.Sprint("new", i), name: "New User", open: true, roles: []string{"seller"}}
		changes = append(
			changes,
			create(u.login, map[string]string{"userName": u.login, "displayName": u.name}),
			role(model.Grant, u.login, "seller"),
		)
		after = append(after, u)
	}
	return changes, after
}

// words writes users as the readers of exports see them.
func words(users []user) (out []string) {
	for _, u := range users {
		if !u.gone {
			roles := slices.Sorted(slices.Values(u.roles))
			out = append(out, fmt.Sprintf("%s|%s|%v|%v", u.login, u.name, u.open, roles))
		}
	}
	slices.Sort(out)
	return out
}

// readBack reads an export as users in words.
func readBack(t *rapid.T, dir string, spec *export.Spec, app *model.App) (out []string) {
	f := at(t, dir, spec, app)
	defer f.Tree.Close()
	accounts, _, err := export.Read(context.Background(), f.Tree, spec, app)
	require.NoError(t, err)
	for i := range accounts.Len() {
		roles := []string{}
		for _, th := range accounts.Sets.Members(accounts.Held[i]) {
			roles = append(roles, app.Things[th].Name)
		}
		slices.Sort(roles)
		out = append(out, fmt.Sprintf("%s|%s|%v|%v", accounts.Key.At(i), accounts.Attr(1, i), accounts.Open(i), roles))
	}
	slices.Sort(out)
	return out
}

func drawUsers(t *rapid.T) (users []user) {
	for i := range rapid.IntRange(0, 6).Draw(t, "users") {
		u := user{
			login: fmt.Sprint("user", i),
			name:  rapid.SampledFrom([]string{"", "A", "B, \"b\"", "C\nc", "Ø"}).Draw(t, "name"),
			open:  rapid.Bool().Draw(t, "open"),
		}
		for _, r := range []string{"seller", "lead", "auditor"} {
			if rapid.Bool().Draw(t, "holds") {
				u.roles = append(u.roles, r)
			}
		}
		users = append(users, u)
	}
	return users
}

// TestAnyCSVIsChangedAsMeantAndNowhereElse draws files in any of the ways in
// which CSV is written.
func TestAnyCSVIsChangedAsMeantAndNowhereElse(t *testing.T) {
	dir := t.TempDir()
	rapid.Check(t, func(t *rapid.T) {
		users := drawUsers(t)
		comma := rapid.SampledFrom([]rune{',', ';', '\t'}).Draw(t, "delimiter")
		end := rapid.SampledFrom([]string{"\n", "\r\n"}).Draw(t, "line end")
		app, spec := tickets(comma, "/")
		field := func(v string) string {
			if strings.ContainsAny(v, "\",;\t\n") || rapid.IntRange(0, 3).Draw(t, "quote") == 0 {
				return `"` + strings.ReplaceAll(v, `"`, `""`) + `"`
			}
			return v
		}
		header := rapid.Permutation([]string{"Login", "Name", "State", "Roles", "Note", "Other"}).Draw(t, "columns")
		lines := []string{strings.Join(header, string(comma))}
		for i, u := range users {
			cells := map[string]string{
				"Login": u.login,
				"Name":  u.name,
				"State": "Blocked",
				"Roles": strings.Join(u.roles, "/"),
				"Note":  fmt.Sprint("note, ", i),
				"Other": "",
			}
			if u.open {
				cells["State"] = "Open"
			}
			var row []string
			for _, h := range header {
				row = append(row, field(cells[h]))
			}
			lines = append(lines, strings.Join(row, string(comma)))
		}
		content := strings.Join(lines, end)
		if rapid.Bool().Draw(t, "ended") {
			content += end
		}
		if rapid.Bool().Draw(t, "mark") {
			content = "\ufeff" + content
		}
		file := filepath.Join(dir, "t.csv")
		require.NoError(t, os.WriteFile(file, []byte(content), 0o644))
		require.Equal(t, words(users), readBack(t, dir, spec, app))

		touched, now := changed(t, dir, file, spec, app, users)
		for i, u := range users {
			if !touched[u.login] {
				require.Contains(t, string(now), lines[i+1], "a row that no change is about")
			}
		}
		rd := csv.NewReader(strings.NewReader(strings.TrimPrefix(string(now), "\ufeff")))
		rd.Comma = comma
		rows, err := rd.ReadAll()
		require.NoError(t, err)
		note, login := slices.Index(header, "Note"), slices.Index(header, "Login")
		for _, row := range rows[1:] {
			if i := slices.IndexFunc(users, func(u user) bool { return u.login == row[login] }); i >= 0 {
				require.Equal(t, fmt.Sprint("note, ", i), row[note], "a column that is not Pravet's")
			}
		}
	})
}

// changed draws changes of users, carries them out on a file, and checks that
// the users are then as they should be, and that to carry the same out again
// changes nothing more. It returns the accounts that changes are about, and the file's content.
func changed(t *rapid.T, dir, file string, spec *export.Spec, app *model.App, users []user) (map[string]bool, []byte) {
	changes, after := drawChanges(t, users)
	f := at(t, dir, spec, app)
	defer f.Tree.Close()
	apply := func(changes []*plan.Change) []byte {
		require.NoError(t, carryOut(f, changes, func() {}))
		require.Equal(t, words(after), readBack(t, dir, spec, app))
		content, err := os.ReadFile(file)
		require.NoError(t, err)
		return content
	}
	now := apply(changes)
	require.Equal(t, string(now), string(apply(onlyRepeatable(changes))))
	touched := map[string]bool{}
	for _, c := range changes {
		touched[c.Account] = true
	}
	return touched, now
}

// onlyRepeatable leaves out what cannot follow a removal.
func onlyRepeatable(changes []*plan.Change) (out []*plan.Change) {
	removed := map[string]bool{}
	for _, c := range changes {
		removed[c.Account] = removed[c.Account] || c.Verb == model.Remove
	}
	for _, c := range changes {
		if !removed[c.Account] || c.Verb == model.Remove {
			out = append(out, c)
		}
	}
	return out
}

// TestAnySCIMIsChangedAsMeantAndNowhereElse draws lists and pages, compact and
// laid out on lines.
func TestAnySCIMIsChangedAsMeantAndNowhereElse(t *testing.T) {
	dir := t.TempDir()
	rapid.Check(t, func(t *rapid.T) {
		users := drawUsers(t)
		app, spec := berths()
		app.Things = nil
		for _, name := range []string{"seller", "lead", "auditor"} {
			app.Things = append(app.Things, model.Thing{Kind: model.Role, Name: name})
		}
		app.Index()
		var list []any
		for i, u := range users {
			r := map[string]any{
				"id":       fmt.Sprint("id", i),
				"userName": u.login,
				"active":   u.open,
				"theirs":   map[string]any{"n": i, "list": []any{1, "two"}},
			}
			if u.name != "" {
				r["displayName"] = u.name
			}
			if u.open && rapid.Bool().Draw(t, "says nothing") {
				delete(r, "active")
			}
			for _, role := range u.roles {
				var v any = map[string]any{"value": role}
				roles, _ := r["roles"].([]any)
				r["roles"] = append(roles, v)
			}
			list = append(list, r)
		}
		if list == nil {
			list = []any{}
		}
		var doc any = list
		page := rapid.Bool().Draw(t, "page")
		if page {
			doc = map[string]any{"totalResults": len(list), "itemsPerPage": len(list), "Resources": list}
		}
		content, err := json.Marshal(doc)
		if rapid.Bool().Draw(t, "on lines") {
			content, err = json.MarshalIndent(doc, "", "  ")
		}
		require.NoError(t, err)
		file := filepath.Join(dir, "b.json")
		require.NoError(t, os.WriteFile(file, content, 0o644))
		require.Equal(t, words(users), readBack(t, dir, spec, app))

		touched, now := changed(t, dir, file, spec, app, users)
		if len(touched) == 0 {
			require.Equal(t, string(content), string(now))
		}
		var got []map[string]any
		if page {
			var p struct {
				TotalResults int
				Resources    []map[string]any
			}
			require.NoError(t, json.Unmarshal(now, &p))
			require.Equal(t, len(p.Resources), p.TotalResults)
			got = p.Resources
		} else {
			require.NoError(t, json.Unmarshal(now, &got))
		}
		for _, r := range got {
			if i := slices.IndexFunc(users, func(u user) bool { return u.login == r["userName"] }); i >= 0 {
				require.Equal(
					t,
					map[string]any{"n": float64(i), "list": []any{1.0, "two"}},
					r["theirs"],
					"what is not Pravet's",
				)
			}
		}
	})
}
