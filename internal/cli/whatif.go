package cli

import (
	"slices"

	"pravet/internal/core/access"
	"pravet/internal/core/day"
	"pravet/internal/core/plan"
	"pravet/internal/desk"
	"pravet/internal/show"
)

// whatIf says what a person would gain, lose and keep with other attributes.
func (c *program) whatIf(d *desk.Desk, name string, with []string, on day.Day, format string) error {
	w, err := d.WhatIf(name, with, on)
	if err != nil {
		return err
	}
	for _, m := range w.Missing {
		c.tell(m.Error())
	}
	would := &show.Would{
		ID: w.View.People.Get(w.Person, "id"), Name: w.View.Explain.Name(int32(w.Person)), New: w.IsNew, With: w.With,
		Gains: []plan.Change{}, Loses: []plan.Change{}, Changes: []plan.Change{}, Anyway: []plan.Change{},
		NoMore: []plan.Change{}, Keeps: []string{}, Reasons: w.Then.Reasons, Plan: w.Then,
	}
	now := map[string]bool{}
	for i := range w.Now.Changes {
		now[w.Now.Changes[i].ID] = true
	}
	then := map[string]bool{}
	for i := range w.Then.Changes {
		ch := w.Then.Changes[i]
		then[ch.ID] = true
		switch {
		case now[ch.ID]:
			would.Anyway = append(would.Anyway, ch)
		default:
			would.Add(ch)
		}
	}
	for i := range w.Now.Changes {
		if ch := w.Now.Changes[i]; !then[ch.ID] {
			would.NoMore = append(would.NoMore, ch)
		}
	}
	answer := w.View.Why(w.Person, nil)
	answer.Things(func(x *access.Item) {
		if (x.State == access.Has || x.State == access.Kept) && !slices.Contains(would.Keeps, x.Thing) {
			would.Keeps = append(would.Keeps, x.Thing)
		}
	})
	slices.Sort(would.Keeps)
	switch format {
	case "json":
		return show.PrintJSON(c.Stdout, would)
	case "csv":
		return show.PrintCSV(c.Stdout, would.Table())
	}
	return c.paged(func(p *show.Printer) error {
		p.Would(would)
		return p.Err()
	})
}

// beside says what two people have, side by side.
func (c *program) beside(d *desk.Desk, one, other string, on day.Day, format string) error {
	var answers []*access.Answer
	for _, name := range []string{one, other} {
		x, person, err := d.Person(name, on)
		if err != nil {
			return err
		}
		if len(answers) == 0 {
			c.missing(x)
		}
		answers = append(answers, x.Why(person, nil))
	}
	both := access.Beside(answers[0], answers[1])
	if format != "table" {
		return show.Output(c.Stdout, c.Environ, format, show.BesideTable(both))
	}
	p := show.NewPrinter(c.Stdout, c.Environ)
	p.Beside(both)
	return p.Err()
}
