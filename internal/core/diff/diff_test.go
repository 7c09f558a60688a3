package diff_test

import (
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"pravet/internal/core/diff"
	"pravet/internal/core/draft"
	"pravet/internal/core/entitle"
	"pravet/internal/core/model"
	"pravet/internal/core/table"
)

// row is one account of an export.
type row struct {
	login, name string
	open        bool
	roles       []int32
}

// compare compares one person, ines.calder, who is due role 0, with rows.
func compare(rows []row, strays string) (*diff.Result, *model.Accounts, *model.People) {
	people := model.NewPeople()
	people.Add(
		people.File("p.csv"),
		2,
		[]int{people.Attribute("id"), people.Attribute("userName"), people.Attribute("displayName")},
		[]string{"E1", "ines.calder", "Ines Calder"},
	)
	people.Close()
	app := &model.App{
		ID:     "x",
		Match:  "userName",
		Strays: strays,
		Attrs:  []model.Attr{{Name: "userName", Person: "userName"}, {Name: "displayName", Person: "displayName"}},
		Things: []model.Thing{{Kind: model.Role, Name: "a"}, {Kind: model.Role, Name: "b"}},
	}
	app.Index()
	accounts := &model.Accounts{Attrs: []*table.Column{{}, {}}, Sets: model.NewSets()}
	accounts.Key = accounts.Attrs[0]
	for _, r := range rows {
		accounts.Attrs[0].Append(r.login)
		accounts.Attrs[1].Append(r.name)
		accounts.States = append(accounts.States, model.StateOf(r.open))
		accounts.Held = append(accounts.Held, accounts.Sets.Of(r.roles))
	}
	kit := &model.Kit{Name: "k", Everyone: true, Gives: []model.Give{{Things: []int32{0}}}}
	due := entitle.Compute(entitle.Input{
		People: people,
		Apps:   []*model.App{app},
		Graphs: []*model.Graph{model.WantedGraph(app, accounts)},
		Kits:   []*model.Kit{kit},
		Sets:   []*model.Sets{accounts.Sets},
		Today:  20000,
	})
	return diff.Compute(diff.Input{
		People:   people,
		Apps:     []*model.App{app},
		Accounts: []*model.Accounts{accounts},
		Due:      due,
		Stages:   []entitle.Stage{entitle.Here},
	}), accounts, people
}

// words writes changes without the numbers of rows.
func words(found *diff.Result, people *model.People) (out []string) {
	draft.Sort(found.Changes, people)
	for _, c := range found.Changes {
		out = append(
			out,
			fmt.Sprintf("%v %s thing %d attribute %d %q %q", c.Verb, c.Key, c.Thing, c.Attr, c.Before, c.After),
		)
	}
	return out
}

// TestOfTwoAccountsTheRightlyWrittenOneCounts.
func TestOfTwoAccountsTheRightlyWrittenOneCounts(t *testing.T) {
	right, other, shout := row{
		"ines.calder",
		"Ines Calder",
		true,
		[]int32{0},
	}, row{"Ines.Calder", "Old", false, nil}, row{"INES.CALDER", "Old", false, nil}
	for _, c := range []struct {
		rows   []row
		counts string
		pairs  int
	}{
		{[]row{right}, "ines.calder", 0},
		{[]row{right, other}, "ines.calder", 1},
		{[]row{other, right}, "ines.calder", 1},
		{[]row{other, shout}, "INES.CALDER", 1}, // neither is right: the one that sorts first
		{[]row{shout, other, right}, "ines.calder", 2},
	} {
		found, accounts, _ := compare(c.rows, "report")
		require.Equal(t, c.counts, accounts.Key.At(int(found.AccountOf[0][0])))
		require.Len(t, found.Accounts, c.pairs)
		if c.counts == "ines.calder" {
			require.Empty(t, found.Changes)
		}
	}
}

// TestRowsInAnyOrderAreComparedAlike, also rows that are written twice.
func TestRowsInAnyOrderAreComparedAlike(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var rows []row
		for range rapid.IntRange(0, 6).Draw(t, "rows") {
			r := row{
				login: rapid.SampledFrom([]string{"ines.calder", "Ines.Calder", "INES.CALDER", "stray", "Stray"}).
					Draw(t, "login"),
				name: rapid.SampledFrom([]string{"", "Ines Calder", "Old"}).
					Draw(t, "name"),
				open: rapid.Bool().Draw(t, "open"),
			}
			for th := range int32(2) {
				if rapid.Bool().Draw(t, "holds") {
					r.roles = append(r.roles, th)
				}
			}
			rows = append(rows, r)
		}
		strays := rapid.SampledFrom([]string{"report", "suspend", "remove"}).Draw(t, "strays")
		straight, _, people := compare(rows, strays)
		shuffled, _, others := compare(rapid.Permutation(slices.Clone(rows)).Draw(t, "order"), strays)
		require.Equal(t, words(straight, people), words(shuffled, others))
		require.Len(t, shuffled.Accounts, len(straight.Accounts))
	})
}
