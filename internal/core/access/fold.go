package access

import (
	"cmp"
	"regexp"
	"slices"
	"strings"

	"pravet/internal/core/model"
)

// A Folded is alike differences of one cause: the same is gained or lost by several
// people.
type Folded struct {
	App     string       `json:"app"`
	Kind    string       `json:"kind"`
	Thing   string       `json:"thing"`
	Effect  model.Effect `json:"effect"`
	Through string       `json:"through"`
	Detail  string       `json:"detail,omitempty"`
	Because Reason       `json:"because"` // of the first; its place is a line of people where all have one of their own
	Apart   bool         `json:"apart"`   // each person's row is another place
	Names   []string     `json:"names"`   // of the first
	People  int          `json:"people"`
	// Sensitive says that they gain what the catalog marks so.
	Sensitive bool `json:"sensitive,omitempty"`

	first *Difference
	of    int // how many differences
}

// maxNamed is how many people a fold names.
const maxNamed = 3

// quoted is a value within a text.
var quoted = regexp.MustCompile(`"[^"]*"`)

// masked is a text of somebody in which what is that person's own stands for that of everybody: the name and the id.
func masked(text string, d *Difference) string {
	for _, own := range []string{d.Name, d.Person} {
		if own != "" {
			text = strings.ReplaceAll(text, own, "the person")
		}
	}
	return text
}

// Fold folds differences, those of the most people first. Of what is alike but for values of each person's own, as names of
// accounts, the values are left out. O(differences · log differences).
func Fold(list []Difference) []Folded {
	out := fold(list, masked)
	single := map[string]int{} // what would be alike without values → how many folds of one person
	bare := func(text string, d *Difference) string { return quoted.ReplaceAllString(masked(text, d), `"…"`) }
	mark := func(f *Folded) string {
		return strings.Join([]string{
			f.App, f.Kind, f.Thing, f.Through, f.Effect.String(), quoted.ReplaceAllString(f.Detail, ""), quoted.ReplaceAllString(f.Because.Says, ""),
		}, "\x00")
	}
	for i := range out {
		if out[i].People == 1 {
			single[mark(&out[i])]++
		}
	}
	alike := map[string]bool{}
	for i := range out {
		if out[i].People == 1 && single[mark(&out[i])] > 1 {
			alike[mark(&out[i])] = true
		}
	}
	if len(alike) == 0 {
		return own(out)
	}
	return own(fold(list, func(text string, d *Difference) string {
		one := fold([]Difference{*d}, masked)
		if alike[mark(&one[0])] {
			return bare(text, d)
		}
		return masked(text, d)
	}))
}

// own gives folds of a single difference its own texts back.
func own(list []Folded) []Folded {
	for i := range list {
		if f := &list[i]; f.of == 1 {
			f.Because.Says, f.Detail = f.first.Because.Says, f.first.Detail
		}
	}
	return list
}

// fold folds differences whose texts are alike, as told tells them.
func fold(list []Difference, told func(text string, d *Difference) string) []Folded {
	type key struct {
		app, kind, thing, through, detail, says string
		effect                                  model.Effect
	}
	at := map[key]int{}
	out := []Folded{}
	for i := range list {
		d := &list[i]
		says, detail := told(d.Because.Says, d), told(d.Detail, d)
		k := key{d.App, d.Kind, d.Thing, d.Through, detail, says, d.Effect}
		n, ok := at[k]
		if !ok {
			n = len(out)
			at[k] = n
			out = append(out, Folded{
				App: d.App, Kind: d.Kind, Thing: d.Thing, Effect: d.Effect, Through: d.Through, Detail: detail,
				Sensitive: d.Sensitive, Because: Reason{says, d.Because.Place}, Names: []string{}, first: d,
			})
		}
		f := &out[n]
		f.of++
		f.Apart = f.Apart || f.Because.Place != d.Because.Place
		if d.Person != "" {
			f.People++
			if len(f.Names) < maxNamed {
				f.Names = append(f.Names, d.Name)
			}
		}
	}
	slices.SortStableFunc(out, func(x, y Folded) int { return cmp.Compare(y.People, x.People) })
	return out
}
