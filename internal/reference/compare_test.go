package reference

import (
	"context"
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"pravet/internal/core/access"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/prepare"
	"pravet/internal/source"
)

// TestWhatComparesDiffersInDrafts compares the files of a world with the same files after an edit, and drafts
// a plan by each: whoever gains or loses a thing by comparison has changes that differ in the two plans, and
// whoever is to get or to lose an account in one of them alone is told of by the comparison.
func TestWhatComparesDiffersInDrafts(t *testing.T) {
	differences := 0
	each(t, 60, func(t *testing.T, seed uint64) string {
		was, is := open(t, seed, func(*world) {}), open(t, seed, (*world).edited)
		defer was.close()
		defer is.close()
		list := access.Compare(was.desired(t), is.desired(t))
		differences += len(list)
		before, after := was.draft(t), is.draft(t)
		// Person, application → changes of one plan alone, and those of the account itself. What is held by
		// itself in one plan and along with something else in the other is the same access.
		differs, accounts := map[[2]string]bool{}, map[[2]string]bool{}
		said := ""
		for _, x := range []struct{ plan, other *plan.Plan }{{before, after}, {after, before}} {
			ids := map[string]bool{}
			for i := range x.other.Changes {
				ids[x.other.Changes[i].ID] = true
			}
			for i := range x.plan.Changes {
				if c := &x.plan.Changes[i]; !ids[c.ID] && c.Verb != model.Update { // a title is no access
					at := [2]string{c.Person, c.App}
					differs[at] = true
					accounts[at] = accounts[at] || c.Thing == nil
				}
			}
		}
		told := map[[2]string]bool{}
		for i := range list {
			d := &list[i]
			told[[2]string{d.Person, d.App}] = true
			if is.app(d.App).otherwise() {
				continue // a comparison knows the files alone, and here the application has groups within others
			}
			if d.Person != "" && d.Kind != "" && d.Effect != model.Keeps && !differs[[2]string{d.Person, d.App}] {
				said += fmt.Sprintf("told, and the plans are the same: %s %s %s %s/%s\n", d.Person, d.App, d.Effect, d.Kind, d.Thing)
			}
		}
		for x, itself := range accounts {
			if itself && x[0] != "" && !told[x] {
				said += fmt.Sprintf("the plans differ, and nothing is told: %s in %s\n", x[0], x[1])
			}
		}
		return said
	})
	require.NotZero(t, differences)
}

// otherwise reports whether an application has groups within groups as the catalog has not.
func (a *app) otherwise() bool {
	return slices.ContainsFunc(a.nested, func(n [2]string) bool { return !slices.Contains(a.thing(n[0]).brings, n[1]) })
}

// desired is what the files ask for.
func (b *bench) desired(t *testing.T) *access.View {
	tree, err := source.OpenTree(b.dir, nil)
	require.NoError(t, err)
	b.trees = append(b.trees, tree)
	_, v, err := prepare.At(context.Background(), tree, "", b.day)
	require.NoError(t, err)
	return v
}

// edited gives a world's kits other people, and takes things out of them.
func (w *world) edited() {
	for i := range w.kits {
		k := &w.kits[i]
		switch {
		case k.holder != "" && i%2 == 0:
			k.holder = w.people[(i+1)%len(w.people)].id
		case k.holder == "" && i%3 == 0:
			k.department = w.people[i%len(w.people)].department
		case i%3 == 1:
			for app, keys := range k.gives {
				if len(keys) > 1 {
					k.gives[app] = keys[1:]
				}
			}
		}
	}
}
