package draft_test

import (
	"maps"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"pravet/internal/core/access"
	"pravet/internal/core/model"
)

// view is what is due in a world, without its exports.
func (w *world) view(t require.TestingT) *access.View {
	return access.Look(access.Input{
		People:   w.roster(t, nil),
		Apps:     w.apps,
		Kits:     w.kits,
		Accounts: make([]*model.Accounts, len(w.apps)),
		Today:    today,
	})
}

// actives is what each person may use: application/kind/name, and the account as
// application/account.
func (w *world) actives() map[string]map[string]bool {
	out := map[string]map[string]bool{}
	for _, p := range w.people {
		out[p.id] = map[string]bool{}
		for a, app := range w.apps {
			if acc, ok := w.state[a][p.name]; ok && acc.open {
				out[p.id][app.ID+"/account/"] = true
				held := numbers(app, acc.held)
				for _, t := range append(model.CatalogGraph(app).Along(held...), held...) {
					out[p.id][app.ID+"/"+key(app.Things[t])] = true
				}
			}
		}
	}
	return out
}

// TestCompareAgreesWithTwoDrafts: what a comparison of two desired states says
// that people gain and lose is what they can use after a plan for the first was
// carried out, and then one for the second.
func TestCompareAgreesWithTwoDrafts(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		w := drawWorld(t, false)
		for _, app := range w.apps { // what an export does not show is no matter here
			app.Effective = [model.Kinds]bool{}
			for i := range app.Things {
				app.Things[i].Define = false
			}
		}
		w.defs = make([]map[string]*model.Definition, len(w.apps))
		bring := func() map[string]map[string]bool {
			p := w.draft(t, nil)
			for i := range p.Changes {
				w.apply(t, &p.Changes[i])
			}
			return w.actives()
		}
		first, before := bring(), w.view(t)
		for i := range w.people { // another revision: people move, come and go, kits change
			if rapid.IntRange(0, 2).Draw(t, "moves") == 0 {
				w.people[i].department = rapid.SampledFrom(departments).Draw(t, "to")
			}
			if rapid.IntRange(0, 3).Draw(t, "away") == 0 {
				w.people[i].away = rapid.SampledFrom([]string{"", "true"}).Draw(t, "is")
			}
			if rapid.IntRange(0, 4).Draw(t, "goes") == 0 {
				w.people[i].ends = (today - 1).String()
			}
		}
		w.kits = slices.DeleteFunc(
			slices.Clone(w.kits),
			func(*model.Kit) bool { return rapid.IntRange(0, 3).Draw(t, "gone") == 0 },
		)
		w.kits = append(w.kits, drawKit(t, w, 9))
		differences := access.Compare(before, w.view(t))
		second := bring()
		told := map[string]map[string]bool{}
		for id := range first {
			told[id] = maps.Clone(first[id])
		}
		for _, d := range differences {
			thing := d.App + "/" + d.Kind + "/" + d.Thing
			require.Equal(t, d.Effect == model.Narrows, told[d.Person][thing], "%+v", d)
			require.NotEmpty(t, d.Because.Says, "%+v", d)
			if d.Effect == model.Widens {
				told[d.Person][thing] = true
			} else {
				delete(told[d.Person], thing)
			}
		}
		require.Equal(t, second, told)
	})
}
