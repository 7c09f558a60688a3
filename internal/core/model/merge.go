package model

import (
	"maps"
	"slices"

	"pravet/internal/core/table"
)

// Merge returns accounts as they are once some of them were read anew: those that are
// named are as in part, or gone where part does not have them; all others are as before. It
// costs O(accounts).
func (a *Accounts) Merge(app *App, part *Accounts, names []string) *Accounts {
	out := *a
	out.Sets, out.Line = NewSets(), nil
	out.Attrs, out.Key = make([]*table.Column, len(a.Attrs)), nil
	out.States, out.Held, out.Had = make([]State, 0, a.Len()), make([]uint32, 0, a.Len()), nil
	for n := range a.Attrs {
		if a.Attrs[n] != nil || part.Attrs[n] != nil {
			out.Attrs[n] = &table.Column{}
		}
	}
	if n := app.Attr(app.Match); n >= 0 {
		out.Key = out.Attrs[n]
	}
	own := out.Key == nil || len(a.Nameless)+len(part.Nameless) > 0
	out.Nameless, out.Stuck = nil, a.Stuck || part.Stuck
	out.With = nil
	out.Also, out.Partial, out.Needy = nil, maps.Clone(a.Partial), a.Needy
	for t, why := range part.Partial {
		if out.Partial == nil {
			out.Partial = map[int32]string{}
		}
		out.Partial[t] = why
	}
	if own {
		out.Key = &table.Column{}
	}
	copied := map[*Accounts]map[uint32]uint32{a: {}, part: {}}
	set := func(from *Accounts, number uint32) uint32 {
		is, ok := copied[from][number]
		if !ok {
			is = out.Sets.Of(from.Sets.Members(number))
			copied[from][number] = is
		}
		return is
	}
	add := func(from *Accounts, i int) {
		for n, c := range out.Attrs {
			if c != nil {
				c.Append(from.Attr(n, i))
			}
		}
		if own {
			out.Key.Append(from.Key.At(i))
		}
		for t := range app.Things {
			if len(from.With) == 0 {
				break
			}
			if with := from.With[Cell{int32(t), int32(i)}]; with != "" {
				out.TellWith(int32(t), len(out.States), with)
			}
		}
		if len(from.Also) > 0 {
			for n := range from.Attrs {
				if also := from.Also[Cell{int32(n), int32(i)}]; also != nil {
					out.TellAlso(n, len(out.States), also)
				}
			}
		}
		if from.Nameless[int32(i)] {
			if out.Nameless == nil {
				out.Nameless = map[int32]bool{}
			}
			out.Nameless[int32(len(out.States))] = true
		}
		if had, ok := from.Had[int32(i)]; ok {
			if out.Had == nil {
				out.Had = map[int32]uint32{}
			}
			out.Had[int32(len(out.States))] = set(from, had)
		}
		out.States = append(out.States, from.States[i])
		out.Held = append(out.Held, set(from, from.Held[i]))
	}
	named := make(map[string]bool, len(names))
	for _, name := range names {
		named[name] = true
	}
	at := make(map[string]int, part.Len())
	for i := range part.Len() {
		at[part.Key.At(i)] = i
	}
	for i := range a.Len() {
		name := a.Key.At(i)
		if !named[name] {
			add(a, i)
		} else if now, ok := at[name]; ok {
			add(part, now)
			delete(at, name)
		}
	}
	for _, i := range slices.Sorted(maps.Values(at)) { // those that are new
		add(part, i)
	}
	return &out
}

// TellAlso notes the values that an account has of an attribute besides the one in the column.
func (a *Accounts) TellAlso(n, i int, values []string) {
	if a.Also == nil {
		a.Also = map[Cell][]string{}
	}
	a.Also[Cell{int32(n), int32(i)}] = values
}

// TellWith notes the terms on which an account holds a thing.
func (a *Accounts) TellWith(t int32, i int, with string) {
	if a.With == nil {
		a.With = map[Cell]string{}
	}
	a.With[Cell{t, int32(i)}] = with
}
