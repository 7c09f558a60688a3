package propose_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"pravet/internal/amend"
	"pravet/internal/core/access"
	"pravet/internal/core/day"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/desired"
	"pravet/internal/ledger"
	"pravet/internal/prepare"
	"pravet/internal/propose"
	"pravet/internal/source"
)

var today = func() day.Day { d, _ := day.Parse("2026-11-24"); return d }()

func list(t *rapid.T, of ...string) string {
	return strings.Join(rapid.SliceOfNDistinct(rapid.SampledFrom(of), 0, 3, rapid.ID[string]).Draw(t, "list"), ";")
}

// world writes people who hold things, some by rules, some by name, some as nothing says.
func world(t *rapid.T, dir string) {
	write := func(name, text string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	write("pravet.yaml", "organization: Marrowick Ferries\n")
	people, rows, held := "id,userName,department,title,starts,away\n", "Login,State,Roles,Teams\n", ""
	for i := range rapid.IntRange(3, 30).Draw(t, "people") {
		department := rapid.SampledFrom([]string{"Deck", "Desk"}).Draw(t, "department")
		people += fmt.Sprintf("E%d,u%d,%s,%s,%s,%s\n", i, i, department, rapid.SampledFrom([]string{"Mate", "Clerk", ""}).Draw(t, "title"),
			rapid.SampledFrom([]string{"2020-01-01", "2020-01-01", "2020-01-01", "2027-01-01"}).Draw(t, "starts"),
			rapid.SampledFrom([]string{"", "", "", "true"}).Draw(t, "away"))
		roles := list(t, "clerk", "lead", "boss")
		if department == "Deck" && rapid.IntRange(0, 5).Draw(t, "most") > 0 {
			roles = strings.Trim(roles+";sail", ";")
		}
		if rapid.IntRange(0, 9).Draw(t, "account") > 0 {
			rows += fmt.Sprintf("u%d,%s,%s,%s\n", i, rapid.SampledFrom([]string{"open", "open", "open", "shut"}).Draw(t, "state"), roles, list(t, "north", "south"))
		}
		if rapid.IntRange(0, 3).Draw(t, "by name") == 0 {
			held += fmt.Sprintf("      - {person: E%d, because: x}\n", i)
		}
	}
	write("people/all.csv", people)
	write("exports/app.csv", rows)
	write("apps/app.yaml", "app: app\nexport: {format: csv, path: exports/app.csv, columns: {userName: Login, active: {column: State, true: open, false: shut}, "+
		"roles: {column: Roles, split: \";\"}, groups: {column: Teams, split: \";\"}}}\nconnect: {by: files}\nmatch: userName\n"+
		"scope: title ne \"Mate\" or department eq \"Deck\"\nguards: {exportAge: P10Y}\ngroups:\n  north: {brings: {roles: [clerk]}}\n  south: {}\n"+
		"roles:\n  clerk: {}\n  lead: {includes: [clerk]}\n  boss: {sensitive: true}\n  sail: {}\n")
	kits := "kits:\n  desk:\n    for: department eq \"Desk\" and title eq \"Clerk\"\n    gives: {app: {groups: [south]}}\n"
	if held != "" {
		kits += "  leads:\n    gives: {app: {roles: [lead]}}\n    holders:\n" + held
	}
	write("kits/k.yaml", kits)
}

// drafted is the plan by the files of a folder, or as they would be.
func drafted(t require.TestingT, tree *source.Tree) *plan.Plan {
	s := prepare.Rules(context.Background(), tree)
	err := s.Read(context.Background(), nil)
	for _, p := range s.Errors() {
		require.NoError(t, p)
	}
	require.NoError(t, err)
	p, err := prepare.Draft(s, ledger.Nothing(), today, today, nil)
	require.NoError(t, err)
	return p
}

// Whatever people hold: by the rules that are found nobody gains anything that they do not hold
// today, and whoever would have lost something that a rule explains keeps it. Found once more,
// there is nothing left that a rule of the same kind explains.
func TestNobodyGainsByWhatIsFound(t *testing.T) {
	n := 0
	rapid.Check(t, func(rt *rapid.T) {
		n++
		dir := filepath.Join(t.TempDir(), fmt.Sprint(n))
		world(rt, dir)
		tree, err := source.OpenTree(dir, nil)
		require.NoError(rt, err)
		defer tree.Close()
		look := func(tree *source.Tree) (*desired.Repo, *access.View) {
			s := prepare.Rules(context.Background(), tree)
			v, _, err := s.Look(context.Background(), nil, today)
			require.NoError(rt, err)
			return s.Repo, v
		}
		repo, v := look(tree)
		sure := float64(rapid.IntRange(50, 100).Draw(rt, "sure")) / 100
		f := propose.Look(repo, v, sure, 2)
		if len(f.List) == 0 {
			return
		}
		a := amend.New(context.Background(), repo)
		require.NoError(rt, f.Write(a, "found", "lacks it"))
		files, err := a.Files()
		require.NoError(rt, err)
		contents, err := files.Contents()
		require.NoError(rt, err)

		widens := map[string]bool{}
		before := drafted(rt, tree)
		for i := range before.Changes {
			if before.Changes[i].Effect == model.Widens {
				widens[before.Changes[i].ID] = true
			}
		}
		after := drafted(rt, tree.With(contents))
		for i := range after.Changes {
			c := &after.Changes[i]
			require.True(rt, c.Effect != model.Widens || widens[c.ID], "%s %v of %s is new", c.Verb, c.Thing, c.Account)
		}
		require.LessOrEqual(rt, len(after.Changes), len(before.Changes))

		again, w := look(tree.With(contents))
		require.Less(rt, propose.Look(again, w, sure, 2).Held, f.Held)
	})
}
