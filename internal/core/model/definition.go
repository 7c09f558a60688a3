package model

import (
	"slices"
	"strings"
)

// Definitions are the groups and roles that an application says it has, with
// what each of them is.
type Definitions struct {
	Of          []*Definition // by the number of the thing; nil where the application lacks it
	Others      []*Definition // what is not in the catalog
	Permissions bool          // whether the export shows them
	Titles      bool
	Brings      bool
	File        string
}

// A Definition is a group or a role as an application has it.
type Definition struct {
	Kind        Kind
	Name        string
	Title       string
	Permissions []string // sorted
	Brings      []string // what it brings along, as "role seller", sorted: for showing
	Along       []int32  // those of them that the catalog lists, by number
	Line        int
}

// Defined lists a thing of the catalog as it should be defined.
func (a *App) Defined(thing int32) *Definition {
	t := &a.Things[thing]
	d := &Definition{
		Kind:        t.Kind,
		Name:        t.Name,
		Title:       t.Title,
		Permissions: slices.Sorted(slices.Values(t.Permissions)),
	}
	for _, b := range t.Implies {
		d.Brings = append(d.Brings, a.Things[b].String())
	}
	slices.Sort(d.Brings)
	d.Along = t.Implies
	return d
}

// Without returns what of a short list is not in another.
func Without[T comparable](list, others []T) []T {
	return slices.DeleteFunc(slices.Clone(list), func(x T) bool { return slices.Contains(others, x) })
}

// Numbers finds the things of a list of "role seller"; what is not in the catalog
// is left out.
func (a *App) Numbers(list []string) (out []int32) {
	for _, text := range list {
		word, name, _ := strings.Cut(text, " ")
		if kind, ok := ParseKind(word); ok {
			if t := a.Thing(kind, name); t >= 0 {
				out = append(out, t)
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}
