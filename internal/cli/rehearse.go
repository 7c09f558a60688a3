package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"pravet/internal/carry"
	"pravet/internal/core/day"
	"pravet/internal/core/draft"
	"pravet/internal/core/model"
	"pravet/internal/core/words"
	"pravet/internal/show"
)

func (c *program) rehearse() *cobra.Command {
	var format, span string
	var faults int
	var seed uint64
	var all, full bool
	var apps []string
	cmd := &cobra.Command{
		Use:     "rehearse {PLAN | --for PERIOD}",
		Short:   "Carry a plan out on copies, or live through the days to come",
		GroupID: deciding,
		Long: `Rehearse carries a plan out on copies of the applications that are made from their
exports, in memory. It goes step by step, as apply would, with interruptions thrown
in, after each of which the run is begun again. After every step it counts anew what
must hold: seats, those who must stay, separated duties. Then it undoes the plan, as
backout would, compares with the start, and says what could not be undone.

With --for it lives through so many days from today, with the files as they are: every
day a plan is drafted on the copies, and carried out as far as pravet.yaml lets it be with
nobody there (unattended) or, with --all, as far as no guard holds it. It says what would
happen to whom on which day, what would wait for a decision and since when, where seats
run out, and how the copies stand at the end.

It reaches no application, and writes nothing: no plan, and no entry in the ledger.

Exit status: 0 all that is not left alone was settled, and everything held; 1 something
did not hold, or it could not be rehearsed; 5 some changes would not be settled.`,
		Example: example(
			"pravet rehearse 2w57bede", "pravet rehearse 2w57bede --interruptions 50 --seed 7", "pravet rehearse --for P90D --all",
		),
		Args: takes(0, 1, "", "pravet rehearse 2w57bede"),
	}
	formatFlag(cmd, &format, "text", "json")
	cmd.Flags().IntVar(&faults, "interruptions", 30, "how many of a hundred steps are interrupted")
	cmd.Flags().Uint64Var(&seed, "seed", 0, "repeat the interruptions of an earlier rehearsal (default: random)")
	cmd.Flags().StringVar(&span, "for", "", "live through this period from today, an ISO 8601 duration like P90D")
	cmd.Flags().BoolVar(&all, "all", false, "with --for: as if everything were accepted that no guard holds")
	cmd.Flags().BoolVar(&full, "full", false, "with --for: every change, however many there are")
	cmd.Flags().StringSliceVar(&apps, "app", nil, "with --for: only this application (may be repeated)")
	offer(cmd, "app", c.completeApps)
	cmd.ValidArgsFunction = c.completePlans
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		if span != "" {
			if len(args) > 0 {
				return usage(sayPlanOrDays())
			}
			return c.days(span, all, full, apps, format)
		}
		if len(args) == 0 {
			return usage(sayRehearseWhat())
		}
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

// days lives through days, and says what happens.
func (c *program) days(span string, all, full bool, apps []string, format string) error {
	d, err := c.desk()
	if err != nil {
		return err
	}
	x, err := d.RehearseDays(span, all, apps, nil)
	if err != nil {
		return err
	}
	if format == "json" {
		return show.PrintJSON(c.Stdout, x)
	}
	return c.paged(func(p *show.Printer) error {
		p.Line(show.Strong(sayLivedThrough(x.From, x.To, all)))
		for i := range x.Lived {
			c.lived(p, &x.Lived[i], full)
		}
		c.pendings(p, x, full)
		p.Line()
		for i := range x.Endings {
			p.Wrapped("", sayEnding(&x.Endings[i]))
		}
		return p.Err()
	})
}

// mostOfDay is how many lines of one day are shown.
const mostOfDay = 8

// lived says what happens on a day: alike changes as one.
func (c *program) lived(p *show.Printer, x *carry.Lived, full bool) {
	p.Line()
	p.Line(show.Strong(x.On) + "  " + show.Dim(model.Count(len(x.Done), "change", "changes")))
	type fold struct {
		effect  model.Effect
		says    string
		names   []string
		forGood bool
	}
	var folds []*fold
	at := map[string]*fold{}
	for i := range x.Done {
		h := &x.Done[i]
		says := h.Says
		if !full && h.Name != "" {
			says, _, _ = strings.Cut(says, " for "+h.Name)
		}
		f := at[says]
		if f == nil {
			f = &fold{effect: h.Effect, says: says, forGood: h.ForGood}
			at[says] = f
			folds = append(folds, f)
		}
		if h.Name != "" {
			f.names = append(f.names, words.Clean(h.Name))
		}
	}
	for i, f := range folds {
		if i == mostOfDay && !full {
			p.Line("    " + sayMore(len(folds)-i))
			break
		}
		names := f.names
		if full {
			names = nil // they are in the sentence
		}
		p.Line("    " + show.Effect(f.effect, fmt.Sprintf("%-9s", f.effect)) + sayLivedFold(words.Clean(f.says), names, f.forGood))
	}
}

// mostPending is how many of what waits are shown.
const mostPending = 20

// pendings says what would wait, and where seats run out.
func (c *program) pendings(p *show.Printer, x *carry.Days, full bool) {
	if len(x.Pending) == 0 {
		p.Line()
		p.Line(sayNothingPending())
		return
	}
	p.Line()
	p.Line(show.Strong(sayPending(len(x.Pending), len(x.Seats))))
	type fold struct{ since, until, why string }
	says := map[fold][]string{}
	var folds []fold
	for i := range x.Pending {
		w := &x.Pending[i]
		f := fold{w.Since, w.Until, w.Why}
		if says[f] == nil {
			folds = append(folds, f)
		}
		says[f] = append(says[f], words.Clean(w.Says))
	}
	for i, f := range folds {
		if i == mostPending && !full {
			p.Line("  " + sayMore(len(folds)-i))
			break
		}
		list := says[f]
		if !full && len(list) > 3 {
			list = append(slices.Clone(list[:3]), sayMore(len(list)-3))
		}
		p.Wrapped("  ", sayPendingLine(f.since, f.until, x.To, strings.Join(list, "; "), words.Clean(f.why)))
	}
}

// sayPlanOrDays is a rehearsal of a plan and of days at once.
func sayPlanOrDays() error {
	return errors.New("--for lives through days, and takes no plan; leave one of them out")
}

// sayRehearseWhat asks for a plan or a period.
func sayRehearseWhat() error {
	return errors.New("rehearse what? For example: pravet rehearse 2w57bede, or the days to come: pravet rehearse --for P90D --all")
}

// sayLivedThrough is the title of days that were rehearsed.
func sayLivedThrough(from, to string, all bool) string {
	how := "as far as they are carried out with nobody there"
	if all {
		how = "as if everything were accepted that no guard holds"
	}
	return fmt.Sprintf("The days from %s to %s on copies, %s:", from, to, how)
}

// sayLivedFold is what is done for some people on a day.
func sayLivedFold(says string, names []string, forGood bool) string {
	if forGood {
		says += ", for good"
	}
	if len(names) == 0 {
		return says
	}
	text := says + ": " + strings.Join(names[:min(len(names), 4)], ", ")
	if more := len(names) - 4; more > 0 {
		text += fmt.Sprintf(" and %s more", model.Thousands(more))
	}
	return text
}

// sayPending counts what would wait for somebody.
func sayPending(n, seats int) string {
	text := model.Count(n, "change would wait for somebody", "changes would wait for somebody")
	if seats > 0 {
		text += fmt.Sprintf(", %s because seats run out", model.Thousands(seats))
	}
	return text + ":"
}

// sayNothingPending is days on which nothing would wait.
func sayNothingPending() string { return "Nothing would wait for anybody." }

// sayPendingLine is one change that would wait, since when, and for what.
func sayPendingLine(since, until, end, says, why string) string {
	span := "from " + since + " on"
	if until != end {
		span = "from " + since + " to " + until
	}
	return fmt.Sprintf("%s: %s. Waits for %s", span, says, why)
}

// sayEnding is how an application stands at the end.
func sayEnding(x *carry.Ending) string {
	var parts []string
	for _, state := range model.States() {
		name := state.String()
		if x.Accounts[name]+x.Before[name] > 0 {
			parts = append(parts, fmt.Sprintf("%s %s (%s today)", model.Thousands(x.Accounts[name]), name, model.Thousands(x.Before[name])))
		}
	}
	return x.App + " at the end: " + strings.Join(parts, ", ") + "."
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
