package adopt_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"pravet/examples/marrowick"
	"pravet/examples/quarter"
	"pravet/internal/adopt"
	"pravet/internal/amend"
	"pravet/internal/core/day"
	"pravet/internal/core/plan"
	"pravet/internal/desired"
	"pravet/internal/ledger"
	"pravet/internal/prepare"
	"pravet/internal/source"
)

var today = func() day.Day { d, _ := day.Parse("2026-11-24"); return d }()

// repository reads a folder, which must pass.
func repository(t require.TestingT, dir string) *desired.Repo {
	tree, err := source.OpenTree(dir, nil)
	require.NoError(t, err)
	repo := desired.Rules(context.Background(), tree)
	repo.ReadPeople()
	for _, p := range repo.Problems.Sorted() {
		require.NotEqual(t, source.Error, p.Severity, p.Error())
	}
	return repo
}

// adopted takes an application over, writes the files, and drafts by them.
func adopted(
	t require.TestingT,
	dir, id, export string,
	yes func(*adopt.Guess) bool,
) (*adopt.Application, *plan.Plan, *prepare.State) {
	ctx := context.Background()
	repo := repository(t, dir)
	a, err := adopt.Take(ctx, repo, adopt.Options{ID: id, Export: export, Today: today, Yes: yes})
	require.NoError(t, err)
	am := amend.New(ctx, repo)
	require.NoError(t, a.Write(am))
	files, err := am.Files()
	require.NoError(t, err)
	require.NoError(t, files.Write())
	s := prepare.Of(repository(t, dir))
	s = prepare.Rules(ctx, s.Repo.Tree)
	require.NoError(t, s.Read(ctx, []string{id}))
	p, err := prepare.Draft(s, ledger.Nothing(), today, today, nil)
	require.NoError(t, err)
	return a, p, s
}

// bare leaves of a demo repository its people and exports.
func bare(t *testing.T, dir string) {
	for _, gone := range []string{"apps", "kits", "paths", "standing.yaml"} {
		require.NoError(t, os.RemoveAll(filepath.Join(dir, gone)))
	}
	require.NoError(
		t,
		os.WriteFile(filepath.Join(dir, "pravet.yaml"), []byte("organization: Marrowick Ferries\n"), 0o644),
	)
}

func TestEachDemoApplicationIsTakenOverAsItIs(t *testing.T) {
	for _, x := range []struct{ id, export string }{
		{"berths", "exports/berths.json"}, {"tickets", "exports/tickets.csv"}, {"rosters", "exports/rosters.csv"},
		{"slips", "exports/slips.csv"},
	} {
		t.Run(x.id, func(t *testing.T) {
			dir := t.TempDir()
			require.NoError(t, marrowick.Write(dir, false))
			bare(t, dir)
			a, p, s := adopted(t, dir, x.id, x.export, nil)
			assert.Empty(t, p.Changes)
			assert.Empty(t, s.Exports[0].Accounts.Unmanaged, "all that is held is in the catalog")
			assert.NotEmpty(t, a.Kits)
		})
	}
	t.Run("quarter", func(t *testing.T) {
		dir := t.TempDir()
		require.NoError(t, quarter.Write(dir))
		exports, err := filepath.Glob(filepath.Join(dir, "exports", "*.csv"))
		require.NoError(t, err)
		require.NotEmpty(t, exports)
		bare(t, dir)
		for i, export := range exports {
			_, p, _ := adopted(t, dir, fmt.Sprint("app", i), "exports/"+filepath.Base(export), nil)
			assert.Empty(t, p.Changes, export)
		}
	})
}

// world writes made-up people and an export of chaos.
func world(t *rapid.T, dir string) (names []string) {
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "people"), 0o755))
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "exports"), 0o755))
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "kits"), 0o755))
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "apps"), 0o755))
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	write("pravet.yaml", "organization: Marrowick Ferries\n")
	n := rapid.IntRange(1, 25).Draw(t, "people")
	people := "id,userName,displayName,email,department,starts,ends,away,formerly\n"
	given, family := []string{"Ada", "Bo", "Søren", "Dag"}, []string{"Holt", "Ørsted", "Lind", "Crane"}
	for i := range n {
		name := rapid.SampledFrom(given).Draw(t, "given") + " " + rapid.SampledFrom(family).Draw(t, "family")
		user := fmt.Sprintf("%s%d", strings.ToLower(strings.ReplaceAll(name, " ", ".")), i)
		names = append(names, user)
		people += fmt.Sprintf("E%d,%s,%s,%s@m.example,%s,%s,%s,%s,%s\n", i, user, name, user,
			rapid.SampledFrom([]string{"Deck", "Desk"}).Draw(t, "department"),
			rapid.SampledFrom([]string{"2020-01-01", "2027-01-01"}).Draw(t, "starts"),
			rapid.SampledFrom([]string{"", "", "", "2027-06-01"}).Draw(t, "ends"),
			rapid.SampledFrom([]string{"", "", "", "true"}).Draw(t, "away"),
			rapid.SampledFrom([]string{"", "", fmt.Sprint("old", i)}).Draw(t, "formerly"))
	}
	write("people/all.csv", people)
	write("kits/k.yaml", "kits:\n  deck:\n    for: department eq \"Deck\"\n    gives: {other: {roles: [r]}}\n")
	write(
		"apps/other.yaml",
		"app: other\nexport: {format: csv, path: exports/other.csv, columns: {userName: U, roles: R, active: {column: A, true: y, false: n}}}\n"+
			"connect: {by: files}\nmatch: userName\nroles:\n  r: {}\n",
	)
	write("exports/other.csv", "U,R,A\n")

	sep := rapid.SampledFrom([]string{";", "|"}).Draw(t, "separator")
	rows := "Login,Name,Mail,State,Roles,Teams,Last seen\n"
	seen := map[string]bool{}
	for range rapid.IntRange(1, 40).Draw(t, "accounts") {
		who := rapid.IntRange(0, n-1).Draw(t, "who")
		login := rapid.SampledFrom([]string{
			names[who], names[who], names[who], strings.ToUpper(names[who][:1]) + names[who][1:],
			fmt.Sprint("old", who), fmt.Sprint("stray", who), names[who] + "x",
		}).Draw(t, "login")
		if seen[strings.ToLower(login)] {
			continue
		}
		seen[strings.ToLower(login)] = true
		list := func(of ...string) string {
			return strings.Join(
				rapid.SliceOfNDistinct(rapid.SampledFrom(of), 0, 3, rapid.ID[string]).Draw(t, "list"),
				sep,
			)
		}
		rows += fmt.Sprintf(
			"%s,%s,%s,%s,%s,%s,2026-01-01\n",
			login,
			rapid.SampledFrom([]string{"", "Ada Holt", "Bo Lind"}).Draw(t, "name"),
			rapid.SampledFrom([]string{"", names[who] + "@m.example", "else@m.example"}).Draw(t, "mail"),
			rapid.SampledFrom([]string{"Open", "Open", "Blocked"}).Draw(t, "state"),
			list("clerk", "lead", "administrator", "clerk two"),
			list("north", "south", "east"),
		)
	}
	write("exports/new.csv", rows)
	return names
}

// Whatever an application holds, a draft after it was taken over has no change, everything that
// was held is in the catalog, and nobody got anything.
func TestADraftAfterAdoptionIsEmpty(t *testing.T) {
	n := 0
	check := func(rt *rapid.T) {
		n++
		dir := filepath.Join(t.TempDir(), fmt.Sprint(n))
		world(rt, dir)
		above := rapid.SampledFrom([]int{101, 80, 50}).Draw(rt, "above")
		_, p, s := adopted(rt, dir, "new", "exports/new.csv", func(g *adopt.Guess) bool { return g.Score >= above })
		require.Empty(rt, p.Changes)
		for a, app := range s.Repo.Apps {
			if app.ID == "new" {
				require.Empty(rt, s.Exports[a].Accounts.Unmanaged)
			}
		}
		require.GreaterOrEqual(rt, len(p.Exports), 1)
	}
	for range 2 { // 200 worlds
		rapid.Check(t, check)
	}
}
