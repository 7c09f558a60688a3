package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"pravet/internal/core/day"
	"pravet/internal/core/decide"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/core/words"
	"pravet/internal/decisions"
	"pravet/internal/desk"
	"pravet/internal/show"
)

func (c *program) accept() *cobra.Command {
	var because, out string
	var lift []string
	var forGood bool
	var sel selection
	cmd := &cobra.Command{
		Use:     "accept [PLAN] [CHANGE ...]",
		Short:   "Accept a plan, or some of its changes",
		GroupID: deciding,
		Long: `Accept says that changes may be carried out: the whole plan, or changes by id,
by their numbers in it (3-9,14), by cause or fold (:f3kq9), person, thing,
application or filter. Without a plan, numbers and causes are those of the plan
that was just shown on this terminal. Changes that an accepted change needs are
accepted with it, and listed. Once individual changes have been accepted, apply
carries out only those.

What cannot be undone is accepted by its id or its number only; with --for-good it
is accepted also with the whole plan, or as one of those that are chosen otherwise.

--lift takes a guard away for this plan, so that what only it holds can be
carried out. A difference that an earlier rejection set aside is taken up again
by accepting it; the next draft has it.`,
		Example: example(
			"pravet accept 2w57bede --because 'reviewed with planning'",
			"pravet accept 2w57bede --person E0042 --because 'starts on Monday'",
			"pravet accept 2w57bede 3-9,14 --because 'as agreed with the owner'",
			"pravet accept 2w57bede :2qe9t --because 'the new kit for berth planning'",
			"pravet accept 2w57bede --lift suspensions --because 'the summer crew ends together'",
		),
		Args: takes(1, -1, "which plan?", "pravet accept 2w57bede --because 'reviewed'"),
	}
	cmd.Flags().StringVar(&because, "because", "", "the reason, for the ledger (required)")
	cmd.Flags().StringSliceVar(&lift, "lift", nil, "take this guard away for this plan (may be repeated)")
	offer(cmd, "lift", sel.of(c, "lift", guardsOf))
	outFlag(cmd, &out)
	cmd.Flags().BoolVar(&forGood, "for-good", false, "also accept, without naming each one, changes that cannot be undone")
	sel.flags(c, cmd)
	cmd.ValidArgsFunction = c.completeChanges
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		x, err := c.decide(args, because, &sel)
		if err != nil {
			return err
		}
		return c.accepted(x, lift, forGood, out)
	}
	return cmd
}

func (c *program) reject() *cobra.Command {
	var because, until, out string
	var standing bool
	var sel selection
	cmd := &cobra.Command{
		Use:     "reject [PLAN] [CHANGE ...]",
		Short:   "Reject a plan, or some of its changes, and remember it",
		GroupID: deciding,
		Long: `Reject says that differences stay as they are: of the whole plan, or of changes
by id, by their numbers in it (3-9,14), by cause or fold (:f3kq9), person, thing,
application or filter. Changes that need a rejected one are rejected with it,
and listed.

A rejected difference is remembered: the next draft sets it aside, until the
--until day is over or the difference becomes another one. With --standing the
decision is written to standing.yaml, to be committed with the other files.`,
		Example: example(
			"pravet reject 2w57bede drncvfz5z3qu --because 'agreed with the owner'",
			"pravet reject 2w57bede --thing tickets/role/seller --until 2026-12-31 --because 'until the audit is over'",
		),
		Args: takes(1, -1, "which plan?", "pravet reject 2w57bede 12 --because 'not yet'"),
	}
	cmd.Flags().StringVar(&because, "because", "", "the reason, for the ledger (required)")
	cmd.Flags().StringVar(&until, "until", "", "the last day that the rejection counts, YYYY-MM-DD")
	cmd.Flags().BoolVar(&standing, "standing", false, "write the decision to standing.yaml")
	outFlag(cmd, &out)
	cmd.MarkFlagsMutuallyExclusive("standing", "out")
	sel.flags(c, cmd)
	cmd.ValidArgsFunction = c.completeChanges
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		last, err := lastDay(until)
		if err != nil {
			return err
		}
		x, err := c.decide(args, because, &sel)
		if err != nil {
			return err
		}
		return c.rejected(x, last, standing, out)
	}
	return cmd
}

// decide finds what is meant.
func (c *program) decide(args []string, because string, sel *selection) (*desk.Decision, error) {
	if strings.TrimSpace(because) == "" {
		return nil, usage(sayNoReason())
	}
	args, err := c.withPlan(args)
	if err != nil {
		return nil, err
	}
	d, err := c.desk()
	if err != nil {
		return nil, err
	}
	p, err := d.Plan(args[0])
	if err != nil {
		return nil, err
	}
	return d.Decide(p, args[1:], sel.Choice, because)
}

// accepted accepts what is meant, and says what follows.
func (c *program) accepted(x *desk.Decision, lift []string, forGood bool, out string) error {
	made, err := handed(x, out, func() (*decisions.Made, error) { return x.Accept(lift, forGood) })
	if err != nil {
		return err
	}
	id, left, aside := x.Plan.ID, x.Choice.Left, x.Choice.Aside
	p := show.NewPrinter(c.Stdout, c.Environ)
	for _, g := range lift {
		p.Line(sayLifted(g, id, x.Held(g)))
	}
	switch {
	case x.Choice.All && len(lift) > 0:
	case x.Choice.All:
		n := 0
		for _, st := range made.States {
			if st != decide.StateRejected {
				n++
			}
		}
		p.Line(sayAcceptedPlan(id, n, len(x.Plan.Changes)))
	default:
		p.Line(sayAccepted(len(made.Changes)+len(aside), id))
		listChanges(p, x.Plan, slices.Concat(made.Changes, aside))
	}
	if len(left) > 0 {
		p.Line(sayLeftRejected(len(left)))
		listChanges(p, x.Plan, left)
	}
	if len(made.Along) > 0 {
		p.Line(sayAcceptedAlong())
		listChanges(p, x.Plan, made.Along)
	}
	if x.ForGood > 0 {
		p.Line(sayLeftForGood(x.ForGood))
	}
	if len(aside) > 0 {
		p.Line(sayTakenUp(len(aside)))
	}
	if out != "" {
		return travels(p, out)
	}
	return remaining(p, x.Plan, made)
}

// outFlag adds the file that a decision goes to.
func outFlag(cmd *cobra.Command, out *string) {
	cmd.Flags().StringVar(out, "out", "", "write the decision to this file, for somebody else to take, and record nothing")
}

// handed decides, or writes to a file what would be decided.
func handed(x *desk.Decision, out string, decide func() (*decisions.Made, error)) (*decisions.Made, error) {
	if out == "" {
		return decide()
	}
	return x.Hand(out, decide)
}

// travels says what becomes of a decision in a file.
func travels(p *show.Printer, file string) error {
	p.Line(sayTravels(file))
	return p.Err()
}

// sayTravels is a decision that was written to a file.
func sayTravels(file string) string {
	return fmt.Sprintf("Written to %s, and not recorded here. It counts once somebody takes it: pravet decisions take %s", file, file)
}

// maxListed is how many changes a decision names before it counts them.
const maxListed = 12

// listChanges names changes of a plan, or that it sets aside.
func listChanges(p *show.Printer, of *plan.Plan, ids []string) {
	in, n := map[string]bool{}, 0
	for _, id := range ids {
		in[id] = true
	}
	name := func(ch *plan.Change) {
		if !in[ch.ID] {
			return
		}
		if n++; n <= maxListed {
			p.Line("  " + words.Sentence(of, ch) + "  " + show.Dim(ch.ID))
		}
	}
	for i := range of.Changes {
		name(&of.Changes[i])
	}
	for i := range of.SetAside {
		name(&of.SetAside[i].Change)
	}
	if n > maxListed {
		p.Line("  " + sayMore(n-maxListed))
	}
}

// rejected rejects what is meant, and says what follows.
func (c *program) rejected(x *desk.Decision, until day.Day, standing bool, out string) error {
	made, err := handed(x, out, func() (*decisions.Made, error) { return x.Reject(until, standing) })
	p := show.NewPrinter(c.Stdout, c.Environ)
	if made != nil && len(made.Done) > 0 {
		p.Line(sayTooLateToReject(len(made.Done)))
		listChanges(p, x.Plan, made.Done)
	}
	if err != nil {
		return err
	}
	last := ""
	if until != day.None {
		last = until.String()
	}
	p.Line(sayRejected(len(made.Changes), x.Plan.ID, last, standing))
	listChanges(p, x.Plan, made.Changes)
	if n := len(made.Stands); n > 0 {
		p.Line(sayStandsAlready(n))
	}
	if len(made.Along) > 0 {
		p.Line(sayRejectedAlong())
		listChanges(p, x.Plan, made.Along)
	}
	if out != "" {
		return travels(p, out)
	}
	return remaining(p, x.Plan, made)
}

// remaining says what of the plan can be carried out now.
func remaining(p *show.Printer, pl *plan.Plan, made *decisions.Made) error {
	counts := map[decide.State]int{}
	for _, st := range made.States {
		counts[st]++
	}
	stillWaits(p, pl, made.Standing)
	p.Line(show.Dim(sayRemaining(counts)))
	if made.Running != nil {
		mark, text := sayUnderWayToo(made.Running.String())
		p.Line(show.Alarm(mark) + text)
	}
	return p.Err()
}

// sayLifted is a guard that was taken away for a plan.
func sayLifted(guard, plan string, held int) string {
	return fmt.Sprintf(
		"Lifted the guard %s for plan %s; it held %s.",
		guard,
		plan,
		model.Count(held, "change", "changes"),
	)
}

// sayAcceptedPlan is a whole plan that was accepted: of all its changes, those that were
// not rejected.
func sayAcceptedPlan(plan string, accepted, all int) string {
	if accepted == all {
		return fmt.Sprintf("Accepted the whole plan %s, %s.", plan, model.Count(all, "change", "changes"))
	}
	return fmt.Sprintf(
		"Accepted %s of %s changes, the whole plan %s but for %s rejected.",
		model.Thousands(accepted), model.Thousands(all), plan, model.Count(all-accepted, "that was", "that were"),
	)
}

// sayAccepted is the title of changes that were accepted by themselves.
func sayAccepted(n int, plan string) string {
	return fmt.Sprintf("Accepted %s of plan %s:", model.Count(n, "change", "changes"), plan)
}

// sayLeftForGood counts what cannot be undone and was not accepted with the rest.
func sayLeftForGood(n int) string {
	return fmt.Sprintf(
		"Not accepted: %s that cannot be undone. Name %s by id or number, or add --for-good.",
		model.Count(n, "change", "changes"), model.Plural(n, "it", "them"),
	)
}

// sayLeftRejected is said above what a selection would accept, and was rejected.
func sayLeftRejected(n int) string {
	return "Not accepted, because " + model.Plural(n, "it was", "they were") +
		" rejected earlier; to accept one, name it by its id:"
}

// sayAcceptedAlong is the title of what those need.
func sayAcceptedAlong() string { return "Along with them, as they need it:" }

// sayTakenUp counts what was set aside before.
func sayTakenUp(n int) string {
	return fmt.Sprintf(
		"%s set aside before; draft again to have what was taken up.", model.Count(n, "of them was", "of them were"),
	)
}

// sayTooLateToReject is the title of what was carried out already.
func sayTooLateToReject(n int) string {
	return fmt.Sprintf(
		"%s carried out already, so it is too late to reject:", model.Count(n, "change was", "changes were"),
	)
}

// sayRejected is the title of what was rejected, until a day or "".
func sayRejected(n int, plan, until string, standing bool) string {
	where := "remembered"
	switch {
	case standing:
		where = "written to standing.yaml"
	case until != "":
		where += " until " + until
	}
	return fmt.Sprintf("Rejected %s of plan %s, %s:", model.Count(n, "change", "changes"), plan, where)
}

// sayStandsAlready counts rejections that were in standing.yaml before.
func sayStandsAlready(n int) string {
	if n == 1 {
		return "1 of them stands there already, word for word, and was not written again."
	}
	return model.Thousands(n) + " of them stand there already, word for word, and were not written again."
}

// sayRejectedAlong is the title of what needs something that was rejected.
func sayRejectedAlong() string { return "Also rejected, because they need one of these:" }

// sayRemaining is where the changes of a plan stand now.
func sayRemaining(counts map[decide.State]int) string {
	var parts []string
	for _, x := range []struct {
		state decide.State
		says  string
	}{
		{decide.Ready, "accepted and ready"},
		{decide.NotAccepted, "undecided"},
		{decide.StateRejected, "rejected"},
		{decide.Held, "held"},
		{decide.Lacking, "waiting for one of those"},
		{decide.Completed, "done"},
	} {
		if n := counts[x.state]; n > 0 {
			parts = append(parts, model.Thousands(n)+" "+x.says)
		}
	}
	return "The plan now: " + strings.Join(parts, ", ") + "."
}

// sayUnderWayToo is a run while something is decided; it stands after a mark of its own.
func sayUnderWayToo(holder string) (mark, text string) {
	return "A run is under way: ", holder + ". What it has not begun yet follows this decision."
}
