package reach_test

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"pravet/internal/core/diff"
	"pravet/internal/core/graph"
	"pravet/internal/core/model"
	"pravet/internal/core/reach"
	"pravet/internal/core/table"
)

// roles is an application of six roles, each of which may include later ones.
func roles(t *rapid.T, name string) *model.App {
	app := &model.App{ID: "till", Match: "userName"}
	for i := range 6 {
		app.Things = append(
			app.Things,
			model.Thing{Kind: model.Role, Name: string(rune('a' + i)), Define: true, Seats: -1},
		)
	}
	app.Index()
	for i := range app.Things {
		for j := i + 1; j < len(app.Things); j++ {
			if rapid.IntRange(0, 3).Draw(t, name) == 0 {
				app.Things[i].Implies = append(app.Things[i].Implies, int32(j))
			}
		}
	}
	return app
}

// TestWhatAThingGivesInTheEnd is what a walk over all it includes finds.
func TestWhatAThingGivesInTheEnd(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		app := roles(t, "includes")
		sets := model.NewSets()
		g := graph.Catalog(app)
		r := reach.New(g, sets)
		var walk func(x int32, seen map[int32]bool)
		walk = func(x int32, seen map[int32]bool) {
			seen[x] = true
			for _, next := range app.Things[x].Implies {
				walk(next, seen)
			}
		}
		held := rapid.SliceOfNDistinct(rapid.Int32Range(0, 5), 0, 3, rapid.ID[int32]).Draw(t, "held")
		want := map[int32]bool{}
		for _, x := range held {
			walk(x, want)
		}
		set := sets.Of(held)
		for x := range int32(6) {
			require.Equal(t, want[x], r.Has(set, x))
			for y := range int32(6) {
				from := map[int32]bool{}
				walk(x, from)
				require.Equal(t, from[y], r.Brings(x, y))
				chain := g.Chain(x, y)
				require.Equal(t, from[y], chain != nil)
				for i := 1; i < len(chain); i++ {
					require.Contains(t, app.Things[chain[i-1]].Implies, chain[i])
				}
			}
		}
		require.Len(t, sets.Members(r.Full(set)), len(want))
		other := sets.Of(rapid.SliceOfN(rapid.Int32Range(0, 5), 0, 3).Draw(t, "other"))
		for x := range int32(6) {
			require.Equal(t, sets.Has(set, x) && !sets.Has(other, x), sets.Has(r.Without(set, other), x))
		}
	})
}

// TestDefinitionsBeforeBetweenAndAfter: what the application has, what is left
// while the plan takes away, and what the catalog has.
func TestDefinitionsBeforeBetweenAndAfter(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		app, other := roles(t, "includes"), roles(t, "exported")
		defs := &model.Definitions{Brings: true}
		for i := range other.Things {
			defs.Of = append(defs.Of, other.Defined(int32(i)))
		}
		accounts := &model.Accounts{Sets: model.NewSets(), Key: &table.Column{}, Definitions: defs}
		states := reach.Follow([]*model.App{app}, []*model.Accounts{accounts}, nil)
		for i := range app.Things {
			set := accounts.Sets.Of([]int32{int32(i)})
			for x := range int32(6) {
				if states.Narrowed(0).Has(set, x) {
					require.True(
						t,
						states.Before(0).Has(set, x) && states.App(0).Has(set, x),
						"what is left is in both",
					)
				}
				require.Equal(t, graph.Catalog(other).Chain(int32(i), x) != nil, states.Before(0).Has(set, x))
				require.Equal(t, graph.Catalog(app).Chain(int32(i), x) != nil, states.App(0).Has(set, x))
			}
		}
	})
}

// TestAnAccountIsFollowedThroughItsChanges.
func TestAnAccountIsFollowedThroughItsChanges(t *testing.T) {
	app := &model.App{
		ID:     "till",
		Match:  "userName",
		Things: []model.Thing{{Kind: model.Role, Name: "lead"}, {Kind: model.Role, Name: "seller"}},
	}
	app.Index()
	app.Things[0].Implies = []int32{1}
	accounts := &model.Accounts{Sets: model.NewSets(), Key: &table.Column{}}
	add := func(name string, open bool, held ...int32) {
		accounts.Key.Append(name)
		accounts.States, accounts.Held = append(
			accounts.States,
			model.StateOf(open),
		), append(
			accounts.Held,
			accounts.Sets.Of(held),
		)
	}
	add("ada", true, 0)
	add("bo", false, 1)
	add("cy", true, 0, 1)
	changes := []diff.Change{
		{
			Key:     "ada",
			Account: 0,
			Person:  0,
			Thing:   0,
			Attr:    diff.None,
			Verb:    model.Revoke,
		}, {Key: "bo", Account: 1, Person: 1, Thing: diff.None, Attr: diff.None, Verb: model.Restore},
		{
			Key:     "cy",
			Account: 2,
			Person:  2,
			Thing:   diff.None,
			Attr:    diff.None,
			Verb:    model.Remove,
		}, {Key: "di", Account: diff.None, Person: 3, Thing: diff.None, Attr: diff.None, Verb: model.Create},
		{Key: "di", Account: diff.None, Person: 3, Thing: 0, Attr: diff.None, Verb: model.Grant},
	}
	s := reach.Follow([]*model.App{app}, []*model.Accounts{accounts}, changes)
	require.Nil(t, s.Of(0, "nobody"))
	for name, want := range map[string][4]bool{"ada": {true, true, true, false}, "bo": {false, true, true, true}, "cy": {true, false, true, false}, "di": {false, true, false, true}} {
		st := s.Of(0, name)
		require.Equal(t, want, [4]bool{st.Open, st.OpenAfter, s.App(0).Has(st.Set, 1), s.App(0).Has(st.After, 1)}, name)
	}
	losers, more := s.Losing(0, 1)
	require.Equal(t, map[string]bool{"ada": true, "cy": true}, losers)
	require.Equal(t, 0, more, "two go and two come")
	require.Equal(t, 3, s.App(0).Holders(accounts, 1))
	require.Equal(t, 2, s.App(0).Active(accounts, 1))
}
