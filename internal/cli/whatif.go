package cli

import (
	"pravet/internal/core/access"
	"pravet/internal/core/day"
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
	would := w.View.Would(w.Person, w.With, w.IsNew, w.Now, w.Then)
	switch format {
	case "json":
		return show.PrintJSON(c.Stdout, would)
	case "csv":
		return show.PrintCSV(c.Stdout, show.WouldTable(would))
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
