package diff

import (
	"slices"

	"pravet/internal/core/model"
)

// The attributes of a definition.
const (
	Title       = "title"
	Permissions = "permissions"
	Brings      = "brings"
)

// definitions compares the groups and roles that are Pravet's own with those
// that the application has. A list that gains and loses is changed in two
// steps, of which each widens or narrows: first what it loses.
func (w *walker) definitions() {
	defs := w.accounts.Definitions
	if defs == nil {
		return
	}
	depths := model.CatalogGraph(w.app).Depths()
	for t := range w.app.Things {
		thing := &w.app.Things[t]
		if !thing.Define {
			continue
		}
		c := Change{
			App:     w.a,
			Person:  None,
			Account: None,
			Thing:   int32(t),
			Attr:    None,
			Slot:    None,
			Why:     IsDefined,
			Def:     &Definition{Depth: depths[t]},
		}
		is, want := defs.Of[t], w.app.Defined(int32(t))
		switch {
		case is == nil && !thing.Retire:
			// Who has the thing already, by something that brings it, gains what
			// it is to bring along.
			c.Sense, c.Def.To, c.Def.Moved = More, want.Brings, want.Along
			w.add(c, model.Define)
		case is == nil:
		case thing.Retire:
			w.add(c, model.Retire)
		default:
			if defs.Titles && is.Title != want.Title {
				c := c.redefines(Title, Same, nil, nil)
				c.Before, c.After = is.Title, want.Title
				w.add(c, model.Redefine)
			}
			if defs.Permissions {
				w.redefine(c, Permissions, is.Permissions, want.Permissions)
			}
			if defs.Brings {
				w.redefine(c, Brings, is.Brings, want.Brings)
			}
		}
	}
}

// redefine compares a list. What a definition no longer brings directly, but along with something else
// that it comes to bring, is exchanged for that in one change: in between, nobody is without it.
func (w *walker) redefine(c Change, field string, is, want []string) {
	gone := model.Without(is, want)
	var instead []string
	if come := w.app.Numbers(model.Without(want, is)); field == Brings && len(come) > 0 {
		by := append(w.wanted().Along(come...), come...)
		stays := w.exported().Along(w.app.Numbers(model.Without(is, gone))...)
		instead = slices.DeleteFunc(slices.Clone(gone), func(text string) bool {
			things := w.app.Numbers([]string{text})
			return len(things) == 0 || !slices.Contains(by, things[0]) || slices.Contains(stays, things[0])
		})
		gone = model.Without(gone, instead)
	}
	left := model.Without(is, gone)
	note := func(sense Sense, from, to, moved, gone []string) {
		if len(moved)+len(gone) == 0 {
			return
		}
		c := c.redefines(field, sense, from, to)
		if field == Brings {
			c.Def.Moved, c.Def.Gone = w.app.Numbers(moved), w.app.Numbers(gone)
		}
		w.add(c, model.Redefine)
	}
	note(Less, is, left, gone, nil)
	note(More, left, want, model.Without(want, left), instead)
}

// wanted returns the graph of what brings what along, by the catalog.
func (w *walker) wanted() *model.Graph {
	if w.catalog == nil {
		w.catalog = model.WantedGraph(w.app, w.accounts)
	}
	return w.catalog
}

// exported is what brings what along in the application today.
func (w *walker) exported() *model.Graph {
	if w.shown == nil {
		w.shown = model.ExportedGraph(w.app, w.accounts)
	}
	return w.shown
}

// redefines is a change of one attribute of a definition.
func (c *Change) redefines(field string, sense Sense, from, to []string) Change {
	out := *c
	out.Sense, out.Def = sense, &Definition{Field: field, From: from, To: to, Depth: c.Def.Depth}
	return out
}

// A Sense is whether a redefinition gives more than before, or less.
type Sense int8

// The senses.
const (
	Less Sense = -1
	Same Sense = 0
	More Sense = 1
)
