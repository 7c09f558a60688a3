package model

import "slices"

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
	Brings      []string // what it brings along, as "role seller", sorted
	Line        int
}

// Defined lists a thing of the catalog as it should be defined.
func (a *App) Defined(thing int32) *Definition {
	t := &a.Things[thing]
	d := &Definition{Kind: t.Kind, Name: t.Name, Title: t.Title, Permissions: slices.Sorted(slices.Values(t.Permissions))}
	for _, b := range t.Implies {
		d.Brings = append(d.Brings, a.Things[b].String())
	}
	slices.Sort(d.Brings)
	return d
}

// Without returns what of a short list is not in another.
func Without[T comparable](list, others []T) []T {
	return slices.DeleteFunc(slices.Clone(list), func(x T) bool { return slices.Contains(others, x) })
}

// Numbers finds the things of a list of "role seller"; what is not in the catalog
// is left out.
func (a *App) Numbers(list []string) (out []int32) {
	for n := range a.Things {
		if slices.Contains(list, a.Things[n].String()) {
			out = append(out, int32(n))
		}
	}
	return out
}

// As returns the application as it is by its exported definitions: what its own
// definitions do not say is as in the catalog. It is the application itself
// where nothing differs.
func (a *App) As(defs *Definitions) *App {
	if defs == nil || !defs.Brings {
		return a
	}
	out, differs := *a, false
	out.Things = slices.Clone(a.Things)
	for t, d := range defs.Of {
		if !a.Things[t].Define {
			continue
		}
		var brings []int32
		if d != nil {
			brings = a.Numbers(d.Brings)
		}
		if !slices.Equal(slices.Sorted(slices.Values(a.Things[t].Implies)), brings) {
			out.Things[t].Implies, differs = brings, true
		}
	}
	if !differs {
		return a
	}
	return &out
}

// Once returns the application as it is once its definitions are as the catalog
// has them: what is to be retired brings along what it does, as long as it is
// there.
func (a *App) Once(defs *Definitions) *App {
	if defs == nil || !defs.Brings || !slices.ContainsFunc(a.Things, func(t Thing) bool { return t.Retire }) {
		return a
	}
	out := *a
	out.Things = slices.Clone(a.Things)
	for t := range out.Things {
		if d := defs.Of[t]; d != nil && out.Things[t].Retire {
			out.Things[t].Implies = a.Numbers(d.Brings)
		}
	}
	return &out
}

// Common returns an application whose things bring along no more than they do
// in both, as it is between what its redefinitions take and what they give.
func Common(a, b *App) *App {
	if a == b {
		return a
	}
	out := *a
	out.Things = slices.Clone(a.Things)
	for t := range out.Things {
		out.Things[t].Implies = Without(a.Things[t].Implies, Without(a.Things[t].Implies, b.Things[t].Implies))
	}
	return &out
}
