package cli

import (
	"encoding/json"
	"math/rand/v2"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"pravet/internal/carry"
	"pravet/internal/core/day"
	"pravet/internal/core/draft"
	"pravet/internal/say"
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
			return usage(say.Interruptions(faults))
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
	p.Line(show.Strong(say.Rehearsed(r.Plan, r.Settled, r.Changes)))
	for _, state := range leftAlone {
		if text := say.LeftAlone(state, r.LeftAlone[state], day.Of(c.Now()).String()); text != "" {
			p.Line("  " + text)
		}
	}
	list := func(lines []string) {
		for i, line := range lines {
			if i == maxRehearsed {
				p.Line("  " + say.More(len(lines)-i))
				break
			}
			p.Wrapped("  ", line)
		}
	}
	p.Line(say.RehearsedSteps(r.Steps, r.Thrown, seed))
	if len(r.NotSettled) > 0 {
		p.Line(show.Alarm(say.RehearsedNot(len(r.NotSettled))))
		list(r.NotSettled)
	}
	if len(r.Broken) > 0 {
		p.Line(show.Alarm(say.RehearsedBroken()))
		list(r.Broken)
	} else {
		p.Line(say.RehearsedHeld())
	}
	p.Line(show.Strong(say.RehearsedUndone(r.Undone)))
	list(slices.DeleteFunc(slices.Clone(r.NotUndone), func(line string) bool {
		return strings.Contains(line, draft.Stays) // the account is named below
	}))
	if r.SameAgain {
		p.Line(say.StartAgain())
		return
	}
	p.Line(say.StartBut())
	list(r.Differs)
}
