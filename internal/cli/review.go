package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"

	tea "charm.land/bubbletea/v2"
	"github.com/spf13/cobra"

	"pravet/internal/core/plan"
	"pravet/internal/core/words"
	"pravet/internal/decisions"
	"pravet/internal/desk"
	"pravet/internal/review"
	"pravet/internal/show"
)

func (c *program) review() *cobra.Command {
	var plain bool
	var out, page, person string
	cmd := &cobra.Command{
		Use:     "review [PLAN]",
		Short:   "Go through a plan on the terminal, and decide about it",
		GroupID: deciding,
		Long: `Review shows a plan as a list: what guards hold, what deserves a look, and all
changes by cause. Open a row to see what is in it; open a change to read everything
about it: its reasons, what its person has and should have, and the commit that
caused it. The keys are at the bottom of the screen, and ? explains them.

Accept, reject and lift as you go. What is decided, what it would cost and who else
has to decide stay in sight. Nothing is recorded until you confirm, and then all of
it is recorded as a whole, under one signature where decisions are signed. You may
leave in the middle: the next review of the same plan goes on from there.

--plain works line by line, for a screen reader and for input from a file: type help
to see its commands. --page writes the plan as one page that opens anywhere: to read it,
and to decide about it without a command line; --for NAME leaves on it what waits for one
person. PLAN is a plan's id; without it, the plan that was drafted here last.`,
		Example: example(
			"pravet review",
			"pravet review 2w57bede --plain",
			"pravet review 2w57bede --out my-decision.txt",
			"pravet review 2w57bede --page plan.html",
		),
		Args: takes(0, 1, "", "pravet review 2w57bede"),
	}
	cmd.Flags().BoolVar(&plain, "plain", false, "line by line, without a screen to draw on")
	outFlag(cmd, &out)
	cmd.Flags().StringVar(&page, "page", "", "write the plan to this file as one page, to read and decide without a command line")
	cmd.Flags().StringVar(&person, "for", "", "with --page: only what waits for this person to decide")
	cmd.MarkFlagsMutuallyExclusive("page", "plain")
	cmd.MarkFlagsMutuallyExclusive("page", "out")
	offer(cmd, "for", c.completePeople)
	cmd.ValidArgsFunction = c.completePlans
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		if page != "" {
			return c.paper(args, page, person)
		}
		if person != "" {
			return usage(sayForWithoutPage())
		}
		screen := onTerminal(c.Stdin) && onTerminal(c.Stdout) && c.env("TERM") != "dumb"
		if !plain && !screen {
			return usage(sayReviewNeedsTerminal())
		}
		name, confirmed, err := c.goThrough(args, plain)
		if err != nil || !confirmed {
			return err
		}
		return c.confirm(name, out)
	}
	return cmd
}

// goThrough has somebody go through a plan, and reports whether what was decided is to be recorded.
func (c *program) goThrough(args []string, plain bool) (name string, confirmed bool, err error) {
	d, err := c.desk()
	if err != nil {
		return "", false, err
	}
	p, err := c.planOrLast(d, args)
	if err != nil {
		return "", false, err
	}
	r, err := d.Review(p)
	if err != nil {
		return "", false, err
	}
	if name = p.ID; len(args) > 0 {
		name = args[0]
	}
	r.Called = name
	front := &review.Front{Review: r, Environ: c.Environ, Colours: c.env("NO_COLOR") == "", Besides: c.besides(d, p)}
	var outcome review.Outcome
	if plain {
		lines := &review.Lines{Front: front, In: c.Stdin, Out: c.Stdout, Asks: onTerminal(c.Stdin) && onTerminal(c.Stdout)}
		outcome, err = lines.Run(c.ctx)
	} else {
		outcome, err = c.screen(front)
	}
	if outcome != review.Confirmed {
		fmt.Fprintln(c.Stdout, review.SayLeft(r))
	}
	if errors.Is(err, context.Canceled) && c.ctx.Err() == nil || errors.Is(err, tea.ErrInterrupted) {
		err = sayReviewEnded()
	}
	return name, err == nil && outcome == review.Confirmed, errors.Join(err, r.Close(), c.closeDesk())
}

// screen runs a review on the terminal.
func (c *program) screen(front *review.Front) (review.Outcome, error) {
	ctx, stop := hungUp(c.ctx)
	defer stop()
	var heard bytes.Buffer // what is said meanwhile would be written over the screen
	errs := c.Stderr
	c.Stderr = &heard
	outcome, err := front.Run(ctx, os.Stdin, os.Stdout)
	c.Stderr = errs
	_, told := heard.WriteTo(errs)
	return outcome, errors.Join(err, told)
}

// confirm records what a review has decided, by the files and the record as they are now.
func (c *program) confirm(name, out string) error {
	d, err := c.desk()
	if err != nil {
		return err
	}
	p, err := d.Plan(name)
	if err != nil {
		return err
	}
	r, err := d.Review(p)
	if err != nil {
		return err
	}
	r.Called = name
	defer func() { _ = r.Close() }() // it leaves a file behind that locks nothing
	pr := show.NewPrinter(c.Stdout, c.Environ)
	summary := review.Summary(r)
	var made *decisions.Made
	if out != "" {
		made, err = r.Hand(out)
	} else {
		made, err = r.Confirm()
	}
	if err != nil {
		return err
	}
	for _, text := range summary {
		pr.Line(sayRecordedLine(text, out != ""))
	}
	if out != "" {
		return travels(pr, out)
	}
	return remaining(pr, p, made)
}

// besides says of a change what takes a while: the commit that caused it, and what its person has and should have.
func (c *program) besides(d *desk.Desk, pl *plan.Plan) func(ch *plan.Change, columns int) string {
	return func(ch *plan.Change, columns int) string {
		var b bytes.Buffer
		p := show.NewScreen(&b, columns)
		if ch.Person != "" {
			x, person, err := d.Person(ch.Person, d.Today())
			if err == nil && person >= 0 { // else the person is not in the files any more, which the change says
				if a, err := c.answered(d, x, person, nil); err == nil {
					p.Line()
					p.Line(show.Strong(sayWhoHas()))
					p.Answer(a)
				}
			}
		}
		caused(d, p, pl, ch)
		return b.String()
	}
}

// caused shows the commits that have changed the lines that a change follows from.
func caused(d *desk.Desk, p *show.Printer, pl *plan.Plan, ch *plan.Change) {
	for _, o := range d.Origins(pl, ch) {
		p.Line()
		p.Line(show.Strong(sayCommit(o.Commit, o.By, o.On, o.Subject)))
		p.Rewritten([]show.Rewritten{{File: o.File, Hunks: o.Hunks}}, false)
	}
}

// sayReviewNeedsTerminal is a review where nobody could press a key.
func sayReviewNeedsTerminal() error {
	return errors.New("review needs a terminal; without one use --plain, or accept and reject")
}

// sayReviewEnded is a review that was ended by a signal.
func sayReviewEnded() error { return errors.New("the review was interrupted") }

// sayWhoHas is above what a person has and should have.
func sayWhoHas() string { return "What this person has and should have" }

// sayCommit names a commit.
func sayCommit(commit, by, on, subject string) string {
	return fmt.Sprintf("Commit %s by %s on %s: %s", commit[:min(10, len(commit))], words.Clean(by), on, words.Clean(subject))
}

// sayRecordedLine is a decision that was recorded, or written to a file.
func sayRecordedLine(text string, written bool) string {
	if written {
		return "Written down: " + text + "."
	}
	return "Recorded: " + text + "."
}
