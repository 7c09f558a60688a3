package desired

import (
	"fmt"

	"pravet/internal/core/day"
	"pravet/internal/core/entitle"
	"pravet/internal/core/model"
)

// once is something that a kit gives and that an account can have only one of: the value of an attribute, or a thing of
// a kind of which everybody has exactly one.
type once struct {
	what, value string
	pos         model.Pos
}

// once lists what a kit gives in an application that an account can have only one of.
func (r *Repo) once(k *model.Kit, app int) (out []once) {
	for _, g := range k.Gives {
		if g.App != app {
			continue
		}
		for _, s := range g.Set {
			out = append(out, once{s.Attr, s.Value, s.Pos})
		}
		for i, t := range g.Things {
			if thing := &r.Apps[app].Things[t]; r.Apps[app].One[thing.Kind] {
				out = append(out, once{thing.Kind.Plural(), thing.Name, g.Pos[i]})
			}
		}
	}
	return out
}

// clash reports two kits that give different ones, at both places, if they do.
func (r *Repo) clash(app int, a, b *model.Kit, what, who string) {
	says := "kit %s sets %s to %q here, and kit %s sets it to %q in %s; %s"
	hint := "let one of them set it, or see that nobody has both"
	for _, x := range r.once(a, app) {
		for _, y := range r.once(b, app) {
			if x.what != what || y.what != what || x.value == y.value {
				continue
			}
			r.fail(x.pos, "two-values", fmt.Sprintf(says, a.Name, what, x.value, b.Name, y.value, y.pos, who), hint)
			r.fail(y.pos, "two-values", fmt.Sprintf(says, b.Name, what, y.value, a.Name, x.value, x.pos, who), hint)
		}
	}
}

// clashesAlong reports kits that always come together and give differently what an account can have only one of: where
// two of them meet first. O(kits + links · what there can be one of).
func (r *Repo) clashesAlong() {
	type slot struct {
		app  int
		what string
	}
	type given struct {
		value string
		kit   int32
	}
	has := make([]map[slot]given, len(r.Kits)) // of each kit, with all that come with it
	for _, k := range model.InOrder(r.Kits) {
		kit := r.Kits[k]
		mine := map[slot]given{}
		add := func(s slot, g given) {
			was, ok := mine[s]
			if !ok {
				mine[s] = g
			} else if was.value != g.value {
				r.clash(s.app, r.Kits[was.kit], r.Kits[g.kit], s.what, "both come with kit "+kit.Name)
			}
		}
		for app := range r.Apps {
			for _, x := range r.once(kit, app) {
				add(slot{app, x.what}, given{x.value, k})
			}
		}
		for _, n := range kit.Along {
			for s, g := range has[n] {
				add(s, g)
			}
		}
		if has[k] = mine; len(mine) == 0 {
			has[k] = nil
		}
	}
}

// Clashes reports kits that give differently what an account can have only one of and that someone has both of, on a
// day. O(people + classes · kits).
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
		what      string
	}
	counts, example := map[pair]int{}, map[pair]int{}
	var order []pair
	for c := range due.Classes {
		for app := range due.Classes[c].Apps {
			d := &due.Classes[c].Apps[app]
			if people[c] == 0 || !d.InScope {
				continue
			}
			for _, x := range d.Clashes(r.Apps[app]) {
				key := pair{app, x.Kit, x.Other, x.What}
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
		r.clash(key.app, r.Kits[key.a], r.Kits[key.b], key.what, who)
	}
}
