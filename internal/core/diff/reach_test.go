package diff_test

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"pravet/internal/core/diff"
	"pravet/internal/core/model"
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
		g := model.CatalogGraph(app)
		r := diff.New(g, sets)
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
		var changes []diff.Change // of each definition in two steps, as plans have them
		for i := range app.Things {
			is, want := other.Things[i].Implies, app.Things[i].Implies
			for _, step := range []struct {
				sense diff.Sense
				moved []int32
			}{{diff.Less, model.Without(is, want)}, {diff.More, model.Without(want, is)}} {
				if len(step.moved) > 0 {
					changes = append(changes, diff.Change{
						Thing: int32(i),
						Slot:  diff.None,
						Verb:  model.Redefine,
						Sense: step.sense,
						Def:   &diff.Definition{Field: diff.Brings, Moved: step.moved},
					})
				}
			}
		}
		follow := func(changes []diff.Change) *diff.States {
			return diff.Follow([]*model.App{app}, []*model.Accounts{accounts}, nil, changes)
		}
		states, left := follow(changes), follow(nil)
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
				require.Equal(t, model.CatalogGraph(other).Chain(int32(i), x) != nil, states.Before(0).Has(set, x))
				require.Equal(t, model.CatalogGraph(app).Chain(int32(i), x) != nil, states.App(0).Has(set, x))
				require.Equal(t, left.Before(0).Has(set, x), left.App(0).Has(set, x), "nothing is redefined")
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
		), append(accounts.Held, accounts.Sets.Of(held))
	}
	add("ada", true, 0)
	add("bo", false, 1)
	add("cy", true, 0, 1)
	add("eve", true, 0)
	of := func(verb model.Verb, slot, account, thing int32) diff.Change {
		return diff.Change{Slot: slot, Account: account, Person: slot, Thing: thing, Attr: diff.None, Verb: verb}
	}
	changes := []diff.Change{
		of(model.Revoke, 0, 0, 0),
		of(model.Restore, 1, 1, diff.None),
		of(model.Remove, 2, 2, diff.None),
		of(model.Create, 3, diff.None, diff.None),
		of(model.Grant, 3, diff.None, 0),
	}
	s := diff.Follow([]*model.App{app}, []*model.Accounts{accounts}, nil, changes)
	require.Nil(t, s.At(0, 3), "nothing is done to eve")
	require.Equal(t, s.Of(&changes[2]), s.At(0, 2))
	for i, want := range [][4]bool{
		{true, true, true, false},  // ada
		{false, true, true, true},  // bo
		{true, false, true, false}, // cy
		{false, true, false, true}, // di, who is new
	} {
		st := s.Of(&changes[i])
		require.Equal(t, want, [4]bool{st.Open, st.OpenAfter, s.App(0).Has(st.Set, 1), s.App(0).Has(st.After, 1)}, i)
	}
	losers, more := s.Losing(0, 1)
	require.Equal(t, map[int32]bool{0: true, 2: true}, losers)
	require.Equal(t, 0, more, "two go and two come")
	require.Equal(t, 4, s.App(0).Holders(accounts, 1))
	require.Equal(t, 3, s.App(0).Active(accounts, 1))

	// Two rows of one name are changed as one.
	add("ADA", true, 0)
	s = diff.Follow([]*model.App{app}, []*model.Accounts{accounts}, []map[int32]int32{{4: 0}}, changes)
	require.Equal(t, s.Of(&changes[0]), s.At(0, 4))
}
