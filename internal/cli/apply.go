package cli

import (
	"bufio"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"pravet/internal/carry"
	"pravet/internal/core/day"
	"pravet/internal/core/decide"
	"pravet/internal/core/guard"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/core/words"
	"pravet/internal/ledger"
	"pravet/internal/plans"
	"pravet/internal/prepare"
	"pravet/internal/show"
)

func (c *program) apply() *cobra.Command {
	var yes bool
	cmd := &cobra.Command{
		Use:     "apply PLAN",
		Short:   "Carry out what is accepted of a plan, and check every change afterwards",
		GroupID: carrying,
		Long: `Apply carries out a plan: what was accepted of it, or all that was not rejected
when nothing was accepted by itself. What a guard holds is left alone, and so is
what is no longer due today. A plan is carried out only while its exports and
files are as they were when it was drafted.

Changes come in the order of what they need. Decisions are read again before each
step, and each application is read again after it: every change is settled, or
not settled and why.

On a terminal it shows the totals and asks once. Without one it needs an
accepted plan, or --yes. An interrupted run ends after the step that it is in; to
go on, apply the plan again.

Exit status: 0 done; 1 failed, and nothing was carried out; 4 some changes are
held by a guard, the others are done; 5 the run ended early, or some changes are
not settled.`,
		Example: example("pravet apply zfhvg6at", "pravet apply zfhvg6at --yes"),
		Args:    takes(1, 1, "which plan?", "pravet apply zfhvg6at"),
	}
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	cmd.ValidArgsFunction = c.completePlans
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		dir, p, err := c.planHere(args[0])
		if err != nil {
			return err
		}
		today := day.Of(c.Now())
		if asOf, err := day.Parse(p.AsOf); err != nil || asOf > today {
			return fail(
				Failed,
				"the plan is for %s, and today is %s; nothing was changed. Apply it then, or draft one for today",
				p.AsOf,
				today,
			)
		}
		l, err := c.soundLedger(dir)
		if err != nil {
			return err
		}
		defer l.Close()
		release, err := l.Lease("apply " + p.ID)
		if err != nil {
			return err
		}
		defer release()
		if err := c.register(dir, l, p); err != nil {
			return err
		}
		j, err := c.job(dir, l, p, today)
		if err != nil {
			return err
		}
		return c.carryOut(j, l, yes)
	}
	return cmd
}

// soundLedger opens the ledger for deciding and carrying out: it must hold every
// entry that it ever held, as it was written.
func (c *program) soundLedger(dir string) (ledger.Ledger, error) {
	l, err := c.ledger(dir)
	if err != nil {
		return nil, err
	}
	err = l.Cut()
	var v *ledger.Verdict
	if err == nil {
		v, err = l.Verify()
	}
	if err == nil && v.Broken != 0 {
		err = fail(Failed, "the ledger is not whole: %s; nothing was changed. Put the whole ledger back", v.Says)
	}
	if err != nil {
		return nil, errors.Join(err, l.Close())
	}
	return l, nil
}

// register makes sure that a plan was drafted here, or is what would be.
func (c *program) register(dir string, l ledger.Ledger, p *plan.Plan) error {
	known, err := plans.Registered(l, p)
	if err != nil || known {
		return err
	}
	tree, err := c.tree(dir)
	if err != nil {
		return err
	}
	return plans.Register(c.ctx, l, tree, p, plans.Folder+"/"+p.ID+".json", day.Of(c.Now()))
}

// job reads all that a run needs, once the books of runs that were cut off are
// closed.
func (c *program) job(dir string, l ledger.Ledger, p *plan.Plan, today day.Day) (*carry.Job, error) {
	tree, err := c.tree(dir)
	if err != nil {
		return nil, err
	}
	s := prepare.Rules(c.ctx, tree)
	if len(s.Errors()) > 0 {
		return nil, c.problems(s)
	}
	if err := c.settle(dir, s, l); err != nil {
		return nil, err
	}
	var apps []string
	for i := range p.Exports {
		if s.Repo.App(p.Exports[i].App) >= 0 { // carry speaks of those that are gone
			apps = append(apps, p.Exports[i].App)
		}
	}
	if err := c.read(s, apps); err != nil {
		return nil, err
	}
	return carry.New(c.ctx, s, p, l, today)
}

// settle closes the books of runs that were cut off, and says what came of them.
// The caller has the lease.
func (c *program) settle(dir string, s *prepare.State, l ledger.Ledger) error {
	runs, err := carry.Settle(c.ctx, s, l, func(id string) (*plan.Plan, error) { return plans.Load(dir, id) })
	for _, u := range runs {
		fmt.Fprintln(c.Stderr, u)
		for _, w := range u.Warnings {
			fmt.Fprintln(c.Stderr, "  "+w)
		}
	}
	return err
}

func (c *program) carryOut(j *carry.Job, l ledger.Ledger, yes bool) error {
	out := show.NewPrinter(c.Stdout, c.Environ)
	// Nothing accepted by itself: all that is not rejected is meant, once
	// someone says so.
	accepted := j.Accepted()
	if !accepted {
		if err := j.Whole(c.ctx); err != nil {
			return err
		}
	}
	j.Preview()
	ready := j.Count(decide.Ready)
	c.outlook(out, j)
	if ready == 0 {
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
	if !accepted {
		rec := ledger.Decision{
			Plan:    j.Plan.ID,
			Digest:  j.Plan.Digest,
			Verdict: "accept",
			All:     true,
			Because: "asked at apply",
		}
		if yes {
			rec.Because = "apply --yes"
		}
		if err := l.Append(ledger.Record{Kind: ledger.Decided, Subject: j.Plan.ID, Body: rec}); err != nil {
			return fmt.Errorf("the consent could not be recorded, and nothing was changed: %w", err)
		}
	}
	res, err := j.Run(c.ctx, func(says string) { fmt.Fprintln(c.Stderr, says) })
	return c.ended(out, j, l, res, err)
}

// ended tells what a run came to, on standard error where standard output cannot
// be written, and chooses the exit status.
func (c *program) ended(out *show.Printer, j *carry.Job, l ledger.Ledger, res *carry.Result, err error) error {
	if res == nil {
		return fmt.Errorf("the run did not begin, and nothing was changed: %w", err)
	}
	c.result(out, j, res)
	if h, err := l.Head(); err == nil {
		out.Line(
			show.Dim(
				fmt.Sprintf("On record: pravet log %s. The ledger ends with entry %d, %s", res.Run, h.Seq, h.Hash),
			),
		)
	}
	if out.Err() != nil {
		told := show.NewPrinter(c.Stderr, c.Environ)
		told.Linef("standard output could not be written (%v); this is what was done:", out.Err())
		c.result(told, j, res)
	}
	done := res.Settled + res.NotSettled
	switch {
	case err != nil && res.Written != "":
		return fail(Partly, "%s stopped: %w; to go on: pravet apply %s", res.Run, err, j.Plan.ID)
	case err != nil && done > 0:
		return fail(Partly, "%s stopped: %w; to go on: pravet apply %s", res.Run, err, j.Plan.ID)
	case err != nil:
		return fail(Failed, "%s stopped: %w; to go on: pravet apply %s", res.Run, err, j.Plan.ID)
	case res.NotSettled > 0:
		return &statusError{status: Partly}
	case res.Held > 0:
		return &statusError{status: Held}
	}
	return nil
}

// outlook says what will be carried out, and what will be left alone.
func (c *program) outlook(out *show.Printer, j *carry.Job) {
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
		{decide.Completed, "done already"},
		{decide.Waiting, "not accepted, left alone"},
		{decide.Refused, "rejected, left alone"},
		{decide.Held, "held by a guard, left alone"},
		{decide.Lacking, "left alone, as something that it needs is not carried out"},
		{decide.Past, "no longer due on " + j.Today.String() + ", left alone"},
	} {
		n := j.Count(x.state)
		if n == 0 {
			continue
		}
		out.Linef("  %s %s", model.Count(n, "change", "changes"), x.says)
		c.named(out, j, x.state)
	}
}

// maxNamed is how many changes of a state are named before a run.
const maxNamed = 12

// named names the changes that are left alone for a reason that the plan does
// not show.
func (c *program) named(out *show.Printer, j *carry.Job, state decide.State) {
	n := 0
	for i := range j.Plan.Changes {
		ch := &j.Plan.Changes[i]
		why := j.Why[ch.ID].Says
		if j.States[i] != state || state == decide.Held && why == "" || state != decide.Held && state != decide.Past {
			continue
		}
		if n++; n > maxNamed {
			continue
		}
		if state == decide.Past {
			out.Line("    " + words.Sentence(j.Plan, ch))
		} else {
			out.Linef("    %s: %s", words.Sentence(j.Plan, ch), why)
		}
	}
	if n > maxNamed {
		out.Linef("    and %s", model.Count(n-maxNamed, "more", "more"))
	}
}

// consent makes sure that someone wants the run: by an accepted plan, by
// --yes, or by an answer.
func (c *program) consent(out *show.Printer, j *carry.Job, accepted, yes bool) error {
	if yes {
		return nil
	}
	if !c.Terminal {
		if accepted {
			return nil
		}
		return usage(
			"the plan is not accepted, and there is no terminal to ask on; accept it first with: pravet accept %s "+
				"--because 'why', or use --yes", j.Plan.ID,
		)
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
		question = fmt.Sprintf(
			"%s cannot be undone. To carry this out, type the plan's id, %s: ",
			model.Count(forGood, "change", "changes"),
			j.Plan.ID,
		)
	}
	if err := out.Err(); err != nil {
		return err
	}
	fmt.Fprint(c.Stderr, question)
	answer, err := c.answer()
	switch {
	case c.ctx.Err() != nil:
		fmt.Fprintln(c.Stderr)
		return errors.New("interrupted; nothing was changed")
	case err != nil && answer == "":
		fmt.Fprintln(c.Stderr)
		return errors.New("there was no answer; nothing was changed")
	case strings.TrimSpace(answer) != want:
		return errors.New("not confirmed; nothing was changed")
	}
	return nil
}

// answer reads a line of standard input, or gives up when the user interrupts.
func (c *program) answer() (string, error) {
	type line struct {
		text string
		err  error
	}
	read := make(chan line, 1)
	go func() {
		text, err := bufio.NewReader(c.Stdin).ReadString('\n')
		read <- line{text, err}
	}()
	select {
	case l := <-read:
		return l.text, l.err
	case <-c.ctx.Done():
		return "", c.ctx.Err()
	}
}

func (c *program) result(out *show.Printer, j *carry.Job, res *carry.Result) {
	byID := map[string]*plan.Change{}
	for i := range j.Plan.Changes {
		byID[j.Plan.Changes[i].ID] = &j.Plan.Changes[i]
	}
	out.Linef(
		"%s of plan %s: %s settled, %d not settled.",
		show.Strong(res.Run),
		j.Plan.ID,
		model.Count(res.Settled, "change", "changes"),
		res.NotSettled,
	)
	for _, f := range res.Failures {
		out.Line(
			"  " + show.Alarm(
				"not settled",
			) + "  " + words.Sentence(
				j.Plan,
				byID[f.Change],
			) + "  " + show.Dim(
				f.Change,
			),
		)
		out.Line("               " + f.Says)
	}
	if res.Written != "" {
		out.Linef(
			"%s was written, and what became of that is not on record yet; the next draft or apply reads it back.",
			res.Written,
		)
	}
	if n := j.Count(decide.Lacking); n > 0 {
		out.Linef(
			"%s left alone, as something that it needs is not carried out.",
			model.Count(n, "change is", "changes are"),
		)
	}
	if res.Held > 0 {
		guards := j.Holding()
		line := fmt.Sprintf(
			"%s held by %s",
			model.Count(res.Held, "change is", "changes are"),
			strings.Join(guards, ", "),
		)
		lift := slices.IndexFunc(guards, func(g string) bool { return slices.Contains(guard.Liftable(), g) })
		if lift >= 0 {
			line += fmt.Sprintf("; to lift one: pravet accept %s --lift %s --because 'why'", j.Plan.ID, guards[lift])
		}
		out.Line(line)
		c.named(out, j, decide.Held)
	}
}
