package show

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"pravet/internal/core/access"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/core/words"
)

// Would writes what would become of a person.
func (p *Printer) Would(w *access.Would) {
	var with []string
	for _, name := range slices.Sorted(maps.Keys(w.With)) {
		with = append(with, fmt.Sprintf("%s %q", name, words.Clean(w.With[name])))
	}
	head := Strong(words.Clean(w.Name)) + "  " + Dim(words.Clean(w.ID)) + "  with " + strings.Join(with, ", ")
	if w.New {
		head += Dim("  (not in the files)")
	}
	p.Line(head)
	v := &PlanView{Plan: w.Plan}
	held := 0
	part := func(title string, changes []plan.Change) {
		if len(changes) == 0 {
			return
		}
		p.Line()
		p.Line(title)
		for i := range changes {
			c := &changes[i]
			last := i+1 == len(changes) || !slices.Equal(c.Reasons, changes[i+1].Reasons)
			p.wouldChange(v, c, last)
			if len(c.Holds) > 0 {
				held++
			}
		}
	}
	part("would gain", w.Gains)
	part("would lose", w.Loses)
	part("would change", w.Changes)
	part("is to come or to go anyway", w.Anyway)
	if len(w.NoMore) > 0 {
		p.Line()
		p.Line("would no longer come or go")
		for i := range w.NoMore {
			p.Line("    " + Dim("not      ") + w.NoMore[i].App + ": " + words.What(&w.NoMore[i]))
		}
	}
	if len(w.Keeps) > 0 {
		p.Line()
		p.Line("would keep")
		p.wrapped("    ", words.Clean(strings.Join(w.Keeps, ", ")), nil)
	}
	p.Line()
	n := len(w.Gains) + len(w.Loses) + len(w.Changes)
	text := "Nothing would change."
	if n > 0 {
		text = model.Count(n, "change", "changes") + " would follow"
		if held > 0 {
			text += fmt.Sprintf(", and guards would hold %s", model.Thousands(held))
		}
		text += "."
	}
	p.Line(Dim(text + " Nothing was written."))
}

// wouldChange writes a change that is no part of a plan: without a number and an id.
func (p *Printer) wouldChange(v *PlanView, c *plan.Change, reasons bool) {
	what := c.App + ": " + words.What(c)
	if c.ForGood {
		what = Alarm(what + ", for good")
	}
	p.Line("    " + Effect(c.Effect, fmt.Sprintf("%-9s", c.Effect)) + what)
	if means := words.Means(c); means != "" {
		p.wrapped(gutter, means, nil)
	}
	p.underneath(v, c, nil, reasons)
}

// WouldTable is what would become of a person as rows.
func WouldTable(w *access.Would) *Table {
	t := &Table{Columns: both("would", "app", "verb", "kind", "thing", "attribute", "before", "after", "held")}
	add := func(would string, changes []plan.Change) {
		for i := range changes {
			c := &changes[i]
			kind, thing := thingOf(c)
			t.add(would, c.App, c.Verb, kind, thing, c.Attribute, plainValue(c.Before), plainValue(c.After), heldBy(c))
		}
	}
	add("gain", w.Gains)
	add("lose", w.Loses)
	add("change", w.Changes)
	add("anyway", w.Anyway)
	add("no more", w.NoMore)
	for _, k := range w.Keeps {
		app, rest, _ := strings.Cut(k, "/")
		kind, name, _ := strings.Cut(rest, "/")
		t.add("keep", app, nil, kind, name, nil, nil, nil, nil)
	}
	return t
}

// BesideTable is two people beside each other.
func BesideTable(b *access.Two) *Table {
	t := tableOf(b.Rows, []Column{
		{Title: "thing", Key: "thing"}, {Title: b.First.Name, Key: "first"}, {Title: "by", Key: "firstBy"},
		{Title: b.Second.Name, Key: "second"}, {Title: "by", Key: "secondBy"}, {Key: "differs"},
	}, func(r *access.Row) []any {
		return []any{r.Thing, r.First, r.FirstBy, r.Second, r.SecondBy, r.Differs}
	})
	t.Items = b
	return t
}

// Beside writes two people side by side: what differs first.
func (p *Printer) Beside(b *access.Two) {
	for _, s := range []access.Side{b.First, b.Second} {
		line := Strong(words.Clean(s.Name)) + "  " + Dim(words.Clean(s.ID)) + "  " + words.Clean(s.Title)
		if s.Stage != "here" {
			line += "  " + Alarm(s.Stage)
		}
		p.Line(line)
	}
	table := BesideTable(b)
	differs := 0
	for _, r := range b.Rows {
		if r.Differs {
			differs++
		}
	}
	if differs > 0 {
		p.Line()
		p.Line("What differs")
		p.Print(&Table{Columns: table.Columns, Rows: table.Rows[:differs]})
	}
	if differs < len(b.Rows) {
		p.Line()
		p.Line("What they have in common")
		p.Print(&Table{Columns: table.Columns, Rows: table.Rows[differs:]})
	}
	if len(b.Rows) == 0 {
		p.Line("Neither has anything, or should have.")
	}
}
