package model_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"pravet/internal/core/day"
	"pravet/internal/core/model"
)

// shop is an application with four roles; the first two are Pravet's own, and
// the second is to be retired.
func shop() *model.App {
	app := &model.App{ID: "shop", Match: "userName", Things: []model.Thing{
		{Kind: model.Role, Name: "lead", Title: "Leads", Define: true, Permissions: []string{"b", "a"}, Implies: []int32{3}},
		{Kind: model.Role, Name: "night", Define: true, Retire: true}, {Kind: model.Role, Name: "other", Implies: []int32{3}}, {Kind: model.Role, Name: "seller"},
	}}
	app.Index()
	return app
}

func TestADefinitionIsWhatTheCatalogSays(t *testing.T) {
	app := shop()
	require.Equal(t, &model.Definition{Kind: model.Role, Name: "lead", Title: "Leads", Permissions: []string{"a", "b"}, Brings: []string{"role seller"}}, app.Defined(0))
	require.Equal(t, []int32{0, 3}, app.Numbers([]string{"role seller", "role lead", "group seller", "role unknown", "seller"}))
	require.Equal(t, "shop/role/lead", app.Address(0).String())
	require.Equal(t, []int32{0, 3}, app.Chain(0, 3))
	require.Equal(t, []int32{0}, app.Chain(0, 0))
	require.Nil(t, app.Chain(3, 0))
}

// TestAnApplicationAsItsDefinitionsAre is a table of what the lead role brings
// before the plan, in between and after it.
func TestAnApplicationAsItsDefinitionsAre(t *testing.T) {
	role := func(name string, brings ...string) *model.Definition {
		return &model.Definition{Kind: model.Role, Name: name, Brings: brings}
	}
	for name, c := range map[string]struct {
		of                      []*model.Definition
		shown                   bool
		lead, night, once, left []int32
	}{
		"as it should be":  {[]*model.Definition{role("lead", "role seller"), nil, role("other"), role("seller")}, true, []int32{3}, nil, nil, []int32{3}},
		"another one":      {[]*model.Definition{role("lead", "role other"), role("night", "role seller"), nil, nil}, true, []int32{2}, []int32{3}, []int32{3}, nil},
		"more":             {[]*model.Definition{role("lead", "role other", "role seller"), nil, nil, nil}, true, []int32{2, 3}, nil, nil, []int32{3}},
		"none yet":         {[]*model.Definition{nil, nil, nil, nil}, true, nil, nil, nil, nil},
		"what is not ours": {[]*model.Definition{role("lead", "role unknown"), nil, nil, nil}, true, nil, nil, nil, nil},
		"not shown":        {[]*model.Definition{role("lead"), nil, nil, nil}, false, []int32{3}, nil, nil, []int32{3}},
	} {
		app := shop()
		defs := &model.Definitions{Of: c.of, Brings: c.shown}
		before, once := app.As(defs), app.Once(defs)
		require.Equal(t, c.lead, before.Things[0].Implies, name)
		require.Equal(t, c.night, before.Things[1].Implies, name)
		require.Equal(t, []int32{3}, before.Things[2].Implies, "%s: what is not Pravet's own is as the catalog has it", name)
		require.Equal(t, c.once, once.Things[1].Implies, "%s: what is to be retired brings what it does as long as it is there", name)
		require.Equal(t, []int32{3}, once.Things[0].Implies, name)
		left := model.Common(before, once).Things[0].Implies
		require.Equal(t, c.left, append([]int32(nil), left...), name)
		require.Equal(t, []int32{3}, app.Things[0].Implies, "the catalog itself is not touched")
	}
}

// TestWhatAnExportShowsIsNotAllHeldDirectly: of kinds that are shown with all that
// comes along, what another shown thing brings is not counted.
func TestWhatAnExportShowsIsNotAllHeldDirectly(t *testing.T) {
	app := shop()
	sets := model.NewSets()
	shown := sets.Of([]int32{0, 2, 3})
	require.Equal(t, shown, app.Direct(sets, shown), "direct is what is meant")
	app.Effective[model.Role] = true
	require.Equal(t, []int32{0, 2}, sets.Members(app.Direct(sets, shown)))
	require.Equal(t, []int32{3}, sets.Members(app.Direct(sets, sets.Of([]int32{3}))))
	app.Effective = [model.Kinds]bool{model.Group: true}
	require.Equal(t, shown, app.Direct(sets, shown), "only of the kinds that are so shown")
}

func TestAnExceptionCountsOnItsLastDay(t *testing.T) {
	x := model.Exception{Until: 20000}
	require.True(t, x.On(19999) && x.On(20000))
	require.False(t, x.On(20001))
	require.True(t, (&model.Exception{Until: day.None}).On(30000))
}
