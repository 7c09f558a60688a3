package access

import (
	"cmp"
	"slices"

	"pravet/internal/core/entitle"
	"pravet/internal/core/fact"
	"pravet/internal/core/guard"
	"pravet/internal/core/model"
)

// A Warning is what the files ask for that deserves a look before any plan: a pair of
// things that are kept apart, more seats than were bought, or something sensitive for
// more people than before.
type Warning struct {
	Pos  model.Pos // of the separation, the license, or what gives the sensitive thing
	Fact fact.Fact
}

// Deciding warns where the files say otherwise who decides about changes, or how that is proved.
func Deciding(before, after *View) (out []Warning) {
	in := func(list, other []string, kind fact.Kind) {
		for _, text := range list {
			if !slices.Contains(other, text) {
				out = append(out, Warning{Pos: model.Pos{File: "pravet.yaml"}, Fact: fact.Fact{Kind: kind, Value: text}})
			}
		}
	}
	in(before.Deciding, after.Deciding, fact.DecidesNoMore)
	in(after.Deciding, before.Deciding, fact.DecidesNow)
	return out
}

// Implied warns of what the files imply by themselves and no plan will give; no
// application is looked at. Who may have both by an exception is left out. O(people).
func (v *View) Implied() (out []Warning) {
	for i := range v.Separations {
		sep := &v.Separations[i]
		f := fact.Fact{Kind: fact.ApartInFiles, Other: sep.Name}
		both := map[uint32]bool{} // class → its people would have both
		for class := range v.Due.Classes {
			due := v.Due.Classes[class].Apps
			both[uint32(class)] = len(sep.Break(func(t model.AppThing) bool {
				d := &due[t.App]
				return d.Account() && v.Sets[t.App].Has(d.Reach, t.Thing)
			})) > 1
		}
		for p, class := range v.Due.Of {
			id := v.People.Get(p, "id")
			if !both[class] || v.Stages[p] != entitle.Here ||
				model.Excepted(v.Exceptions, sep.Name, id, v.Today) != nil {
				continue
			}
			if f.Count++; len(f.Names) < maxNamed {
				f.Names = append(f.Names, v.name(p)+" ("+id+")")
			}
		}
		if f.Count > 0 {
			out = append(out, Warning{sep.Pos, f})
		}
	}
	licenses := v.Licenses()
	needed := v.needed(v.Due, v.Stages, licenses)
	for i, l := range licenses {
		thing := &v.Apps[l.App].Things[l.Thing]
		if thing.Seats >= 0 && needed[i] > thing.Seats {
			out = append(out, Warning{thing.Pos, fact.Fact{
				Kind: fact.SeatsInFiles, Thing: thing.String(), App: v.Apps[l.App].ID, Count: needed[i], Whole: thing.Seats,
			}})
		}
	}
	return out
}

// Gained warns of what is sensitive and given to people who were not due it before, by
// what gives it. O(differences · log differences).
func Gained(list []Difference) []Warning {
	type key struct {
		app, kind, thing string
		place            Place
	}
	at := map[key]*Warning{}
	var keys []key
	for i := range list {
		d := &list[i]
		if !d.Sensitive || d.Effect != model.Widens || d.Person == "" {
			continue
		}
		k := key{d.App, d.Kind, d.Thing, d.Because.Place}
		w := at[k]
		if w == nil {
			w = &Warning{
				Pos: model.Pos{File: d.Because.File, Line: d.Because.Line},
				Fact: fact.Fact{
					Kind:    fact.SensitiveGained,
					Thing:   d.Kind + " " + d.Thing,
					App:     d.App,
					Because: d.Because.Says,
				},
			}
			at[k] = w
			keys = append(keys, k)
		}
		if w.Fact.Count++; len(w.Fact.Names) < maxNamed {
			w.Fact.Names = append(w.Fact.Names, d.Name+" ("+d.Person+")")
		}
	}
	out := make([]Warning, 0, len(keys))
	for _, k := range keys {
		out = append(out, *at[k])
	}
	slices.SortStableFunc(out, func(x, y Warning) int {
		return cmp.Or(cmp.Compare(x.Pos.File, y.Pos.File), cmp.Compare(x.Pos.Line, y.Pos.Line))
	})
	return out
}

// Outside warns of outsiders who are here and have no last day, one too far ahead, or
// nobody who answers for them. O(people).
func (v *View) Outside(o *model.Outsiders) (out []Warning) {
	if o == nil || o.For == nil {
		return nil
	}
	for p := range v.People.Len() {
		get := func(attr string) string { return v.People.Get(p, attr) }
		if v.Stages[p] == entitle.Gone || !o.Are(get, v.Today) {
			continue
		}
		who := v.name(p) + " (" + get("id") + ")"
		if f := guard.Outside(o, v.People, v.Stages, v.Today, who, get); f != nil {
			out = append(out, Warning{v.People.Pos(p), *f})
		}
	}
	return out
}
