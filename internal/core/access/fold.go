package access

import (
	"cmp"
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
}

// maxNamed is how many people a fold names.
const maxNamed = 3

// Fold folds differences, those of the most people first. O(differences).
func Fold(list []Difference) []Folded {
	type key struct {
		app, kind, thing, through, detail, says string
		effect                                  model.Effect
	}
	at := map[key]int{}
	out := []Folded{}
	for i := range list {
		d := &list[i]
		says := d.Because.Says
		if d.Name != "" {
			says = strings.ReplaceAll(says, d.Name, "the person")
		}
		k := key{d.App, d.Kind, d.Thing, d.Through, d.Detail, says, d.Effect}
		n, ok := at[k]
		if !ok {
			n = len(out)
			at[k] = n
			out = append(out, Folded{
				App: d.App, Kind: d.Kind, Thing: d.Thing, Effect: d.Effect, Through: d.Through, Detail: d.Detail,
				Sensitive: d.Sensitive, Because: Reason{says, d.Because.Place}, Names: []string{},
			})
		}
		f := &out[n]
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
