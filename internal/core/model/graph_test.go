package model_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"pravet/internal/core/model"
)

// TestAnApplicationAsItsDefinitionsAre is a table of what the lead role brings
// before the plan, in between and after it.
func TestAnApplicationAsItsDefinitionsAre(t *testing.T) {
	role := func(name string, brings ...string) *model.Definition {
		return &model.Definition{Kind: model.Role, Name: name, Brings: brings, Along: shop().Numbers(brings)}
	}
	for name, c := range map[string]struct {
		of                      []*model.Definition
		shown                   bool
		lead, night, once, left []int32
	}{
		"as it should be": {
			[]*model.Definition{role("lead", "role seller"), nil, role("other"), role("seller")}, true, []int32{3},
			nil, nil, []int32{3},
		},
		"another one": {
			[]*model.Definition{role("lead", "role other"), role("night", "role seller"), nil, nil}, true, []int32{2},
			[]int32{3}, []int32{3}, nil,
		},
		"more": {
			[]*model.Definition{role("lead", "role other", "role seller"), nil, nil, nil}, true, []int32{2, 3}, nil,
			nil, []int32{3},
		},
		"none yet": {[]*model.Definition{nil, nil, nil, nil}, true, nil, nil, nil, nil},
		"what is not ours": {
			[]*model.Definition{role("lead", "role unknown"), nil, nil, nil}, true, nil, nil, nil, nil,
		},
		"not shown": {[]*model.Definition{role("lead"), nil, nil, nil}, false, []int32{3}, nil, nil, []int32{3}},
	} {
		app := shop()
		accounts := &model.Accounts{Definitions: &model.Definitions{Of: c.of, Brings: c.shown}}
		before, wanted := model.ExportedGraph(app, accounts), model.WantedGraph(app, accounts)
		require.Equal(t, c.lead, before.Brings(0), name)
		require.Equal(t, c.night, before.Brings(1), name)
		require.Equal(t, []int32{3}, before.Brings(2), "%s: what is not Pravet's own is as the catalog has it", name)
		require.Equal(
			t,
			c.once,
			wanted.Brings(1),
			"%s: what is to be retired brings what it does as long as it is there",
			name,
		)
		require.Equal(t, []int32{3}, wanted.Brings(0), name)
		left := model.SharedGraph(before, wanted).Brings(0)
		require.Equal(t, c.left, append([]int32(nil), left...), name)
		require.Equal(t, []int32{3}, app.Things[0].Implies, "the catalog itself is not touched")
	}
}

// TestWhatAnExportShowsIsNotAllHeldDirectly: of kinds that are shown with all that
// comes along, what another shown thing brings is not counted.
func TestWhatAnExportShowsIsNotAllHeldDirectly(t *testing.T) {
	app := shop()
	sets := model.NewSets()
	shown, g := sets.Of([]int32{0, 2, 3}), model.CatalogGraph(app)
	require.Equal(t, shown, g.Direct(app, sets, shown), "direct is what is meant")
	app.Effective[model.Role] = true
	require.Equal(t, []int32{0, 2}, sets.Members(g.Direct(app, sets, shown)))
	require.Equal(t, []int32{3}, sets.Members(g.Direct(app, sets, sets.Of([]int32{3}))))
	app.Effective = [model.Kinds]bool{model.Group: true}
	require.Equal(t, shown, g.Direct(app, sets, shown), "only of the kinds that are so shown")
}

// TestAlongIsAllThatComesAlong, to any depth, also when things bring each
// other along in a circle.
func TestAlongIsAllThatComesAlong(t *testing.T) {
	app := &model.App{}
	for _, name := range []string{"a", "b", "c", "d", "e"} {
		app.Things = append(app.Things, model.Thing{Kind: model.Role, Name: name})
	}
	app.Index()
	app.Things[0].Implies = []int32{1, 2}
	app.Things[2].Implies = []int32{3}
	app.Things[3].Implies = []int32{2}
	for _, c := range []struct{ things, want []int32 }{
		{nil, nil},
		{[]int32{4}, nil},
		{[]int32{0}, []int32{1, 2, 3}},
		{[]int32{1}, nil},
		{[]int32{2}, []int32{2, 3}},
		{[]int32{0, 4}, []int32{1, 2, 3}},
	} {
		require.Equal(t, c.want, model.CatalogGraph(app).Along(c.things...), "%v", c.things)
	}
}

// TestGroupsWithinGroupsAreTheApplicationsToSay: what the catalog says of groups
// that bring groups gives way to how they are nested, and nothing else does.
func TestGroupsWithinGroupsAreTheApplicationsToSay(t *testing.T) {
	app := &model.App{ID: "graphShop", Things: []model.Thing{
		{
			Kind:    model.Group,
			Name:    "crew",
			Implies: []int32{1, 3},
		}, {Kind: model.Group, Name: "ship"}, {Kind: model.Group, Name: "shore"}, {Kind: model.Role, Name: "seller"},
	}}
	app.Index()
	require.Equal(
		t,
		[]int32{1, 3},
		model.WantedGraph(app, &model.Accounts{}).Brings(0),
		"an export without groups of their own says nothing of it",
	)
	nested := &model.Accounts{Nested: [][]int32{nil, {2}, nil, nil}}
	for _, g := range []*model.Graph{model.WantedGraph(app, nested), model.ExportedGraph(app, nested)} {
		require.Equal(t, []int32{3}, g.Brings(0), "missing in the application")
		require.Equal(t, []int32{2}, g.Along(1), "made by hand in the application")
		require.Equal(t, []int32{1, 2}, g.Chain(1, 2))
		require.Nil(t, g.Chain(0, 1))
	}
	require.Equal(t, []int32{0}, model.CatalogGraph(app).Chain(0, 0))
	require.Equal(t, []int{1, 0, 0, 0}, model.CatalogGraph(app).Depths())
	require.True(t, model.CatalogGraph(app).Equal(model.CatalogGraph(app)))
	require.False(t, model.CatalogGraph(app).Equal(model.WantedGraph(app, nested)))
}
