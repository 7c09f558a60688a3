package cli

import (
	"bufio"
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"pravet/internal/carry"
	"pravet/internal/core/day"
	"pravet/internal/core/decide"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/ledger"
	"pravet/internal/show"
)

func (c *context) apply() *cobra.Command {
	var yes bool
	cmd := &cobra.Command{
		Use:     "apply PLAN",
		Short:   "Carry out what is accepted of a plan, and check every change afterwards",
		GroupID: carrying,
		Long: `Apply carries out a plan: what was accepted of it, or all that was not rejected
when nothing was accepted by itself. What a guard holds is left alone. A plan is
carried out only while its exports and files are as they were when it was
drafted.

On a terminal it shows the totals and asks once. Without one it needs an
accepted plan, or --yes. Afterwards each application is read again and every
change is settled, or not settled and why. A run that was interrupted is
finished by applying the plan again.

Exit status: 0 done; 1 failed, nothing or not all was carried out; 4 some
changes are held by a guard, the others are done; 5 some changes are not settled.`,
		Example: example("pravet apply b69fbmpj", "pravet apply b69fbmpj --yes"),
		Args:    cobra.ExactArgs(1),
	}
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	cmd.ValidArgsFunction = c.completePlans
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		dir, p, err := c.planHere(args[0])
		if err != nil {
			return err
		}
		l, err := c.ledger(dir)
		if err != nil {
			return err
		}
		defer l.Close()
		lock, err := carry.TakeLock(dir, c.actor(dir), "apply "+p.ID, c.Now())
		if err != nil {
			return err
		}
		defer lock.Release()
		today := day.Of(c.Now())
		if asOf, err := day.Parse(p.AsOf); err != nil || asOf > today {
			return fail(Failed, "the plan is for %s, and today is %s; nothing was changed. Apply it then, or draft one for today", p.AsOf, today)
		}
		j, err := carry.New(dir, p, l, today)
		if err != nil {
			return err
		}
		return c.carryOut(j, l, yes)
	}
	return cmd
}

func (c *context) carryOut(j *carry.Job, l *ledger.Ledger, yes bool) error {
	out := show.NewPrinter(c.Stdout, c.Environ)
	// Nothing accepted by itself: all that is not rejected is meant, once
	// someone says so.
	accepted := j.Standing.All || j.Standing.AnyAccepted()
	if !accepted {
		j.Standing.All = true
		j.Refresh()
	}
	if err := j.Recheck(); err != nil {
		return err
	}
	ready := j.Count(decide.Ready)
	c.outlook(out, j)
	if ready == 0 && !j.Pending() {
		out.Line("There is nothing to carry out.")
		if err := out.Err(); err != nil {
			return err
		}
		if n := j.Held(); n > 0 {
			return fail(Held, "%s held by a guard", model.Count(n, "change is", "changes are"))
		}
		return nil
	}
	if err := c.consent(out, j, accepted, yes); err != nil {
		return err
	}
	if !accepted && ready > 0 {
		rec := ledger.Decision{Plan: j.Plan.ID, Verdict: "accept", All: true, Because: "asked at apply"}
		if yes {
			rec.Because = "apply --yes"
		}
		if err := l.Append(ledger.Record{Kind: ledger.Decided, Subject: j.Plan.ID, Body: rec}); err != nil {
			return err
		}
	}
	res, err := j.Run(func(says string) { fmt.Fprintln(c.Stderr, says) })
	if res != nil {
		c.result(out, j, res)
	}
	switch {
	case err != nil && res != nil && res.Settled+res.NotSettled > 0:
		return fail(Partly, "%s stopped: %w; to go on: pravet apply %s", res.Run, err, j.Plan.ID)
	case err != nil:
		return err
	case res.NotSettled > 0:
		return &statusError{status: Partly}
	case res.Held > 0:
		return &statusError{status: Held}
	}
	return out.Err()
}

// outlook says what will be carried out, and what will be left alone.
func (c *context) outlook(out *show.Printer, j *carry.Job) {
	var t plan.Totals
	for i := range j.Plan.Changes {
		if j.States[i] == decide.Ready {
			ch := j.Plan.Changes[i]
			ch.Holds = nil // lifted, or it would not be ready
			t.Changes++
			t.Add(&ch)
		}
	}
	out.Linef("%s of %s, %s", show.Strong("Plan "+j.Plan.ID), j.Plan.AsOf, j.Plan.Organization)
	out.Line("To carry out: " + show.TotalsLine(t))
	for _, x := range []struct {
		state decide.State
		says  string
	}{
		{decide.Completed, "done already"}, {decide.Waiting, "not accepted, left alone"}, {decide.Refused, "rejected, left alone"},
		{decide.Held, "held by a guard, left alone"}, {decide.Lacking, "left alone, as something that it needs is not carried out"},
	} {
		if n := j.Count(x.state); n > 0 {
			out.Linef("  %s %s", model.Count(n, "change", "changes"), x.says)
		}
	}
	for i := range j.Plan.Changes {
		if says := j.Why[j.Plan.Changes[i].ID]; says != "" && j.States[i] == decide.Held {
			out.Linef("    %s: %s", show.Sentence(j.Plan, &j.Plan.Changes[i]), says)
		}
	}
}

// consent makes sure that someone wants the run: by an accepted plan, by
// --yes, or by an answer.
func (c *context) consent(out *show.Printer, j *carry.Job, accepted, yes bool) error {
	if yes {
		return nil
	}
	if !c.Terminal {
		if accepted {
			return nil
		}
		return usage("nobody is there to be asked, and the plan is not accepted; accept it first, or use --yes")
	}
	forGood := 0
	for i := range j.Plan.Changes {
		if j.States[i] == decide.Ready && j.Plan.Changes[i].ForGood {
			forGood++
		}
	}
	want, question := "yes", "Carry this out? Type yes: "
	if forGood > 0 {
		want = j.Plan.ID
		question = fmt.Sprintf("%s cannot be undone. To carry this out, type the plan's id, %s: ", model.Count(forGood, "change", "changes"), j.Plan.ID)
	}
	if err := out.Err(); err != nil {
		return err
	}
	fmt.Fprint(c.Stderr, question)
	answer, err := bufio.NewReader(c.Stdin).ReadString('\n')
	if err != nil && answer == "" {
		fmt.Fprintln(c.Stderr)
		return errors.New("there was no answer; nothing was changed")
	}
	if strings.TrimSpace(answer) != want {
		return errors.New("not confirmed; nothing was changed")
	}
	return nil
}

func (c *context) result(out *show.Printer, j *carry.Job, res *carry.Result) {
	byID := map[string]*plan.Change{}
	for i := range j.Plan.Changes {
		byID[j.Plan.Changes[i].ID] = &j.Plan.Changes[i]
	}
	out.Linef("%s of plan %s: %s settled, %d not settled.", show.Strong(res.Run), j.Plan.ID, model.Count(res.Settled, "change", "changes"), res.NotSettled)
	for _, f := range res.Failures {
		out.Line("  " + show.Alarm("not settled") + "  " + show.Sentence(j.Plan, byID[f.Change]) + "  " + show.Dim(f.Change))
		out.Line("               " + f.Says)
	}
	if res.Held > 0 {
		out.Linef("%s held by a guard; lift it with: pravet accept %s --lift GUARD --because 'why'", model.Count(res.Held, "change is", "changes are"), j.Plan.ID)
	}
	out.Line(show.Dim("On record: pravet log " + res.Run))
}
