package desired

import (
	"fmt"

	"pravet/internal/core/day"
	"pravet/internal/core/entitle"
	"pravet/internal/core/model"
)

// setting is where a kit sets an attribute in an application; ok is false where
// it does not.
func setting(k *model.Kit, app int, attr string) (s model.Setting, ok bool) {
	for _, g := range k.Gives {
		for _, s := range g.Set {
			if g.App == app && s.Attr == attr {
				return s, true
			}
		}
	}
	return model.Setting{}, false
}

// clash reports two kits that set an attribute differently, at both places.
func (r *Repo) clash(app int, a, b *model.Kit, attr, who string) {
	x, _ := setting(a, app, attr)
	y, _ := setting(b, app, attr)
	says := "kit %s sets %s to %q here, and kit %s sets it to %q in %s; %s"
	hint := "let one of them set it, or see that nobody has both"
	r.fail(x.Pos, "two-values", fmt.Sprintf(says, a.Name, attr, x.Value, b.Name, y.Value, y.Pos, who), hint)
	r.fail(y.Pos, "two-values", fmt.Sprintf(says, b.Name, attr, y.Value, a.Name, x.Value, x.Pos, who), hint)
}

// clashesAlong reports kits that always come together and set an attribute
// differently.
func (r *Repo) clashesAlong() {
	for _, k := range r.Kits {
		all := []*model.Kit{k}
		for _, n := range k.All {
			all = append(all, r.Kits[n])
		}
		for i, a := range all {
			for _, b := range all[i+1:] {
				for _, g := range a.Gives {
					for _, s := range g.Set {
						if other, ok := setting(b, g.App, s.Attr); ok && other.Value != s.Value {
							r.clash(g.App, a, b, s.Attr, "both come with kit "+k.Name)
						}
					}
				}
			}
		}
	}
}

// Clashes reports kits that set an attribute differently and that someone has
// both of, on a day. O(people + classes · kits).
func (r *Repo) Clashes(today day.Day) {
	var sets []*model.Sets
	var graphs []*model.Graph
	for _, app := range r.Apps {
		sets, graphs = append(sets, model.NewSets()), append(graphs, model.CatalogGraph(app))
	}
	due := entitle.Compute(
		entitle.Input{People: r.People, Apps: r.Apps, Graphs: graphs, Kits: r.Kits, Sets: sets, Today: today},
	)
	people, first := make([]int, len(due.Classes)), make([]int, len(due.Classes))
	stages := entitle.StagesOf(r.People, today)
	for p, c := range due.Of {
		if stages[p] != entitle.Here {
			continue // nothing is set for who is not here
		}
		if people[c] == 0 {
			first[c] = p
		}
		people[c]++
	}
	type pair struct {
		app, a, b int
		attr      string
	}
	counts, example := map[pair]int{}, map[pair]int{}
	var order []pair
	for c := range due.Classes {
		for app := range due.Classes[c].Apps {
			for _, s := range due.Classes[c].Apps[app].Set {
				if s.Clash < 0 || people[c] == 0 || !due.Classes[c].Apps[app].InScope {
					continue
				}
				key := pair{app, s.Kit, s.Clash, s.Attr}
				if counts[key] == 0 {
					order, example[key] = append(order, key), first[c]
				}
				counts[key] += people[c]
			}
		}
	}
	for _, key := range order {
		who := fmt.Sprintf(
			"%s both, among them %s",
			model.Count(counts[key], "person has", "people have"),
			r.People.Get(example[key], "id"),
		)
		r.clash(key.app, r.Kits[key.a], r.Kits[key.b], key.attr, who)
	}
}
