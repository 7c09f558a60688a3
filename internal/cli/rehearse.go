package cli

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"pravet/internal/carry"
	"pravet/internal/core/day"
	"pravet/internal/core/draft"
	"pravet/internal/core/model"
	"pravet/internal/show"
)

func (c *program) rehearse() *cobra.Command {
	var format string
	var faults int
	var seed uint64
	cmd := &cobra.Command{
		Use:     "rehearse PLAN",
		Short:   "Carry a plan out on copies of the applications, and undo it again",
		GroupID: deciding,
		Long: `Rehearse carries a plan out on copies of the applications that are made from their
exports, in memory. It goes step by step, as apply would, with interruptions thrown
in, after each of which the run is begun again. After every step it counts anew what
must hold: seats, those who must stay, separated duties. Then it undoes the plan, as
backout would, compares with the start, and says what could not be undone.

It reaches no application, and writes nothing: no plan, and no entry in the ledger.

Exit status: 0 all that is not left alone was settled, and everything held; 1 something
did not hold, or it could not be rehearsed; 5 some changes would not be settled.`,
		Example: example("pravet rehearse 2w57bede", "pravet rehearse 2w57bede --interruptions 50 --seed 7"),
		Args:    takes(1, 1, "which plan?", "pravet rehearse 2w57bede"),
	}
	formatFlag(cmd, &format, "text", "json")
	cmd.Flags().IntVar(&faults, "interruptions", 30, "how many of a hundred steps are interrupted")
	cmd.Flags().Uint64Var(&seed, "seed", 0, "repeat the interruptions of an earlier rehearsal (default: random)")
	cmd.ValidArgsFunction = c.completePlans
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		if faults < 0 || faults > 90 {
			return usage(sayInterruptions(faults))
		}
		if !cmd.Flags().Changed("seed") {
			seed = rand.Uint64N(10_000)
		}
		d, err := c.desk()
		if err != nil {
			return err
		}
		p, err := d.Plan(args[0])
		if err != nil {
			return err
		}
		report, err := d.Rehearse(p, float64(faults)/100, seed)
		if err != nil {
			return err
		}
		if format == "json" {
			enc := json.NewEncoder(c.Stdout)
			enc.SetIndent("", "  ")
			if err := enc.Encode(report); err != nil {
				return err
			}
		} else {
			p := show.NewPrinter(c.Stdout, c.Environ)
			c.rehearsal(p, report, seed)
			if err := p.Err(); err != nil {
				return err
			}
		}
		switch {
		case len(report.Broken) > 0:
			return &statusError{status: Failed}
		case len(report.NotSettled) > 0:
			return &statusError{status: Partly}
		}
		return nil
	}
	return cmd
}

// maxRehearsed is how many lines of one kind are shown.
const maxRehearsed = 20

func (c *program) rehearsal(p *show.Printer, r *carry.Rehearsed, seed uint64) {
	p.Line(show.Strong(sayRehearsed(r.Plan, r.Settled, r.Changes)))
	for _, state := range leftAlone {
		if text := sayLeftAlone(state, r.LeftAlone[state], day.Of(c.Now()).String()); text != "" {
			p.Line("  " + text)
		}
	}
	list := func(lines []string) {
		for i, line := range lines {
			if i == maxRehearsed {
				p.Line("  " + sayMore(len(lines)-i))
				break
			}
			p.Wrapped("  ", line)
		}
	}
	p.Line(sayRehearsedSteps(r.Steps, r.Thrown, seed))
	if len(r.NotSettled) > 0 {
		p.Line(show.Alarm(sayRehearsedNot(len(r.NotSettled))))
		list(r.NotSettled)
	}
	if len(r.Broken) > 0 {
		p.Line(show.Alarm(sayRehearsedBroken()))
		list(r.Broken)
	} else {
		p.Line(sayRehearsedHeld())
	}
	p.Line(show.Strong(sayRehearsedUndone(r.Undone)))
	list(slices.DeleteFunc(slices.Clone(r.NotUndone), func(line string) bool {
		return strings.Contains(line, draft.Stays) // the account is named below
	}))
	if r.SameAgain {
		p.Line(sayStartAgain())
		return
	}
	p.Line(sayStartBut())
	list(r.Differs)
}

// sayInterruptions is that so many steps cannot be interrupted.
func sayInterruptions(n int) error {
	return fmt.Errorf("--interruptions: %d is not between 0 and 90 of a hundred steps", n)
}

// sayRehearsed is how many changes of a plan were settled on copies.
func sayRehearsed(plan string, settled, of int) string {
	return fmt.Sprintf("Plan %s on copies of the applications: %d of %s settled.",
		plan, settled, model.Count(of, "change", "changes"))
}

// sayRehearsedSteps is in how many steps, with how many interruptions.
func sayRehearsedSteps(steps, thrown int, seed uint64) string {
	return fmt.Sprintf("%s in both directions, with %s (seed %d); the run resumed after each.",
		model.Count(steps, "step", "steps"), model.Count(thrown, "simulated interruption", "simulated interruptions"), seed)
}

// sayRehearsedNot is how many changes would not be settled.
func sayRehearsedNot(n int) string {
	return model.Count(n, "change", "changes") + " would not be settled:"
}

// sayRehearsedBroken is that something did not hold after a step.
func sayRehearsedBroken() string { return "After some step this did not hold, which did before:" }

// sayRehearsedHeld is that all that must hold at every step did.
func sayRehearsedHeld() string {
	return "After every step there were enough seats, everyone who must stay was there, and nobody newly held " +
		"separated duties."
}

// sayRehearsedUndone is how many changes were undone.
func sayRehearsedUndone(n int) string {
	return fmt.Sprintf("Undone again: %s.", model.Count(n, "change", "changes"))
}

// sayStartAgain is that the start was reached again.
func sayStartAgain() string {
	return "The start is reached again: the applications are just as they were."
}

// sayStartBut is that the start was not quite reached again.
func sayStartBut() string { return "Everything is back as it was at the start, except:" }
