package draft_test

import (
	"slices"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"pravet/internal/core/model"
	"pravet/internal/core/plan"
)

// drawDefinitions draws which groups and roles are Pravet's own, and how the
// application has them.
func drawDefinitions(t *rapid.T, w *world, a int) map[string]*model.Definition {
	if rapid.Bool().Draw(t, "undefined") {
		return nil
	}
	app, out := w.apps[a], map[string]*model.Definition{}
	rights := rapid.SliceOfNDistinct(rapid.SampledFrom([]string{"see", "sell", "set"}), 0, 2, rapid.ID[string])
	for i := range app.Things {
		app.Things[i].Define = app.Things[i].Kind != model.License && rapid.Bool().Draw(t, "define")
	}
	for i := len(app.Things) - 1; i >= 0; i-- { // what is brought along first
		th := &app.Things[i]
		if th.Kind == model.License {
			continue
		}
		is := &model.Definition{
			Kind:        th.Kind,
			Name:        th.Name,
			Title:       rapid.SampledFrom([]string{"", "Other"}).Draw(t, "title"),
			Permissions: rights.Draw(t, "has"),
		}
		slices.Sort(is.Permissions)
		if !th.Define {
			is.Brings = app.Defined(int32(i)).Brings
			is.Along = app.Defined(int32(i)).Along
			out[key(*th)] = is
			continue
		}
		th.Permissions = rights.Draw(t, "should have")
		brought := slices.ContainsFunc(
			app.Things,
			func(o model.Thing) bool { return slices.Contains(o.Implies, int32(i)) },
		)
		given := slices.ContainsFunc(w.kits, func(k *model.Kit) bool {
			return slices.ContainsFunc(
				k.Gives,
				func(g model.Give) bool { return g.App == a && slices.Contains(g.Things, int32(i)) },
			)
		})
		th.Retire = !given && !brought && rapid.Bool().Draw(t, "retire")
		// What the application itself brings along is there.
		theirs := slices.ContainsFunc(
			app.Things,
			func(o model.Thing) bool { return !o.Define && slices.Contains(o.Implies, int32(i)) },
		)
		if !theirs && rapid.IntRange(0, 3).Draw(t, "there") == 0 {
			continue
		}
		for j := i + 1; j < len(app.Things); j++ {
			there := app.Things[j].Kind == model.License || out[key(app.Things[j])] != nil
			if there && rapid.IntRange(0, 3).Draw(t, "brings") == 0 {
				is.Brings = append(is.Brings, app.Things[j].String())
			}
		}
		slices.Sort(is.Brings)
		is.Along = app.Numbers(is.Brings)
		out[key(*th)] = is
	}
	return out
}

// definitions are those that an export of an application shows.
func (w *world) definitions(a int) *model.Definitions {
	if w.defs[a] == nil {
		return nil
	}
	out := &model.Definitions{
		Of:          make([]*model.Definition, len(w.apps[a].Things)),
		Titles:      true,
		Permissions: true,
		Brings:      true,
	}
	for i, th := range w.apps[a].Things {
		out.Of[i] = w.defs[a][key(th)]
	}
	return out
}

// as is what brings what along in an application as its definitions are.
func (w *world) as(a int) *model.Graph {
	return model.ExportedGraph(w.apps[a], &model.Accounts{Definitions: w.definitions(a)})
}

// define carries out a change of a definition.
func (w *world) define(t require.TestingT, a int, c *plan.Change) {
	k := c.Thing.Kind.String() + "/" + c.Thing.Name
	kind := c.Thing.Kind
	is := w.defs[a][k]
	require.Equal(t, c.Verb != model.Define, is != nil, "%s %s", c.Verb, k)
	switch c.Verb {
	case model.Define:
		want := c.After.Definition()
		is = &model.Definition{
			Kind:        kind,
			Name:        c.Thing.Name,
			Title:       want.Title,
			Permissions: want.Permissions,
			Brings:      want.Brings,
			Along:       w.apps[a].Numbers(want.Brings),
		}
	case model.Retire:
		for name, acc := range w.state[a] {
			require.False(t, acc.held[k], "%s still holds %s", name, k)
		}
		delete(w.defs[a], k)
		return
	default:
		next := *is
		switch c.Attribute {
		case "title":
			next.Title = c.After.Text()
		case "permissions":
			require.True(t, slices.Equal(is.Permissions, c.Before.List()))
			next.Permissions = c.After.List()
		case "brings":
			require.True(t, slices.Equal(is.Brings, c.Before.List()))
			next.Brings = c.After.List()
			next.Along = w.apps[a].Numbers(next.Brings)
		}
		is = &next
	}
	w.defs[a][k] = is
}
