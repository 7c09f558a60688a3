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
		{
			Kind:        model.Role,
			Name:        "lead",
			Title:       "Leads",
			Define:      true,
			Permissions: []string{"b", "a"},
			Implies:     []int32{3},
		},
		{
			Kind:   model.Role,
			Name:   "night",
			Define: true,
			Retire: true,
		}, {Kind: model.Role, Name: "other", Implies: []int32{3}}, {Kind: model.Role, Name: "seller"},
	}}
	app.Index()
	return app
}

func TestADefinitionIsWhatTheCatalogSays(t *testing.T) {
	app := shop()
	require.Equal(
		t,
		&model.Definition{
			Kind:        model.Role,
			Name:        "lead",
			Title:       "Leads",
			Permissions: []string{"a", "b"},
			Brings:      []string{"role seller"},
			Along:       []int32{3},
		},
		app.Defined(0),
	)
	require.Equal(
		t,
		[]int32{0, 3},
		app.Numbers([]string{"role seller", "role lead", "group seller", "role unknown", "seller"}),
	)
	require.Equal(t, "shop/role/lead", app.Address(0).String())
}

func TestAnExceptionCountsOnItsLastDay(t *testing.T) {
	x := model.Exception{Until: 20000}
	require.True(t, x.On(19999) && x.On(20000))
	require.False(t, x.On(20001))
	require.True(t, (&model.Exception{Until: day.None}).On(30000))
}
