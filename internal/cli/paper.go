package cli

import (
	"bytes"
	"errors"
	"fmt"

	"pravet/internal/core/model"
	"pravet/internal/desk"
	"pravet/internal/show"
	"pravet/internal/source"
)

// paper writes a plan as a page.
func (c *program) paper(args []string, file, person string) error {
	d, err := c.desk()
	if err != nil {
		return err
	}
	p, err := c.planOrLast(d, args)
	if err != nil {
		return err
	}
	at := c.path(file)
	if was, err := source.ReadFile(at, file, maxPaper); err == nil && !show.IsPaper(was) {
		return usage(sayPageIsTaken(file))
	}
	x, err := d.Paper(p, person)
	if err != nil {
		return err
	}
	var b bytes.Buffer
	if err := paperOf(x).HTML(&b); err != nil {
		return err
	}
	if err := source.WriteFile(at, &b, 0o600); err != nil {
		return err
	}
	fmt.Fprintln(c.Stdout, sayPageWritten(file, len(x.Part), len(p.Changes), x.Called))
	return nil
}

// maxPaper is how large a page may be that is written over, in bytes.
const maxPaper = 1 << 30

// paperOf is what a page shows.
func paperOf(x *desk.Paper) *show.Paper {
	out := &show.Paper{
		Plan: x.Plan, Changes: x.Part, Outline: x.Of, State: x.State, Value: x.Value, Groupings: x.Grouped, Costs: x.Seats.Costs,
		Environment: x.Plan.Desired.Environment, Here: x.Environment, Day: x.Day, Signed: x.Signed, Namespace: x.Namespace, ForID: x.For,
		For: x.Called,
	}
	for _, w := range x.Waiting {
		out.Waiting = append(out.Waiting, sayWaitingOnPage(len(w.Changes), w.Who()))
	}
	for _, s := range x.Seats.Seats {
		bought := "no limit"
		if s.Bought >= 0 {
			bought = model.Thousands(s.Bought)
		}
		out.Seats = append(out.Seats, show.SeatRow{
			Name: s.App + " " + s.License, Before: model.Thousands(s.Before), After: model.Thousands(s.After), Bought: bought,
		})
	}
	return out
}

// sayWaitingOnPage is how much waits for whose decision.
func sayWaitingOnPage(n int, who string) string {
	return model.Count(n, "change waits", "changes wait") + " for " + who
}

// sayPageWritten is a page that was written.
func sayPageWritten(file string, n, of int, person string) string {
	if person != "" {
		return fmt.Sprintf("Written to %s: %s of %s, which wait for %s.", file, model.Thousands(n), model.Count(of, "change", "changes"), person)
	}
	return fmt.Sprintf("Written to %s: %s.", file, model.Count(n, "change", "changes"))
}

// sayPageIsTaken is a --page that would write over something else.
func sayPageIsTaken(file string) error {
	return fmt.Errorf("--page: %s is there already and is not a page of a plan; nothing was written. Name another file", file)
}

// sayForWithoutPage is a --for without a page.
func sayForWithoutPage() error {
	return errors.New("--for chooses what a page holds; use it with --page FILE.html")
}
