package cli

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"pravet/internal/carry"
	"pravet/internal/core/day"
	"pravet/internal/core/decide"
	"pravet/internal/core/guard"
	"pravet/internal/core/plan"
	"pravet/internal/core/words"
	"pravet/internal/ledger"
	"pravet/internal/plans"
	"pravet/internal/prepare"
	"pravet/internal/say"
	"pravet/internal/show"
)

func (c *program) apply() *cobra.Command {
	var yes, unattended bool
	var forGood int
	var only string
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
accepted plan, or --yes. Where changes cannot be undone, it asks how many they are,
or needs --yes-for-good with that number. An interrupted run ends after the step
that it is in; to go on, apply the plan again.

With --only it carries out the changes that a filter matches and what those need, and
leaves the rest as it is, so that you can try one person first, for example. What cannot be undone,
or waits to be accepted by itself, is not accepted by that.

With --unattended it carries out what the filter under unattended in pravet.yaml
matches, no guard holds, nobody has rejected and can be undone, and does not ask.
Everything else is left for a person.

Exit status: 0 done; 1 failed, and nothing was carried out; 3 the rest is left for a
person (with --unattended, and where changes wait for somebody to load or to make
them); 4 some changes are held by a guard, the others are
done; 5 the run ended early, or some changes are not settled.`,
		Example: example(
			"pravet apply 2w57bede",
			"pravet apply 2w57bede --yes",
			"pravet apply 2w57bede --only 'person eq \"E0118\"' --yes",
		),
		Args: takes(1, 1, "which plan?", "pravet apply 2w57bede"),
	}
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	cmd.Flags().IntVar(&forGood, "yes-for-good", 0, "do not ask; confirm that this many changes cannot be undone")
	cmd.Flags().BoolVar(
		&unattended, "unattended", false, "carry out what pravet.yaml lets be done with nobody there, and leave "+
			"the rest",
	)
	cmd.Flags().StringVar(&only, "only", "", "only the changes that this filter matches, with what they need")
	offer(cmd, "only", c.completeFilter)
	cmd.MarkFlagsMutuallyExclusive("unattended", "only")
	cmd.MarkFlagsMutuallyExclusive("unattended", "yes")
	cmd.MarkFlagsMutuallyExclusive("unattended", "yes-for-good")
	cmd.ValidArgsFunction = c.completePlans
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		if cmd.Flags().Changed("only") && strings.TrimSpace(only) == "" {
			return usage(say.Flag("only", say.EmptyFilter())) // and never the whole plan
		}
		dir, p, err := c.planHere(args[0])
		if err != nil {
			return err
		}
		today := day.Of(c.Now())
		if asOf, err := day.Parse(p.AsOf); err != nil || asOf > today {
			return fail(Failed, say.NotToday(p.AsOf, today.String()))
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
		if !cmd.Flags().Changed("yes-for-good") {
			forGood = -1 // nobody has counted
		}
		if unattended {
			return c.unattended(dir, j, l)
		}
		return c.carryOut(dir, j, l, only, yes, forGood)
	}
	return cmd
}

// soundLedger opens the ledger for deciding and carrying out: it must have every
// entry that it ever had, as it was written.
func (c *program) soundLedger(dir string) (ledger.Ledger, error) {
	l, err := c.ledger(dir)
	if err != nil {
		return nil, err
	}
	v, err := l.Verify()
	if err == nil && v.Broken != 0 {
		err = fail(Failed, say.LedgerBrokenBefore(v.Says))
	}
	if err != nil {
		return nil, errors.Join(err, l.Close())
	}
	return l, nil
}

// register makes sure that a plan was drafted here, or is what would be.
func (c *program) register(dir string, l ledger.Ledger, p *plan.Plan) error {
	if p.Desired.Environment != c.environment {
		return fail(Failed, say.OtherEnvironment(p.ID, p.Desired.Environment, c.environment))
	}
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
	s := c.rulesOf(prepare.Rules(c.ctx, tree))
	if len(s.Errors()) > 0 {
		return nil, c.problems(s)
	}
	if err := c.settle(dir, s, l); err != nil {
		return nil, err
	}
	apps := appsThere(s, p)
	if err := c.claim(s, apps); err != nil {
		return nil, err
	}
	if err := c.read(s, apps); err != nil {
		return nil, err
	}
	return carry.New(c.ctx, s, p, l, today)
}

// appsThere are the applications of a plan that the files still name.
func appsThere(s *prepare.State, p *plan.Plan) (apps []string) {
	for i := range p.Exports {
		if s.Repo.App(p.Exports[i].App) >= 0 {
			apps = append(apps, p.Exports[i].App)
		}
	}
	return apps
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
	if err != nil {
		return err
	}
	arrived, err := carry.Arrive(c.ctx, s, l, func(id string) (*plan.Plan, error) { return plans.Load(dir, id) })
	for _, a := range arrived {
		c.tell(say.Arrived(a.Run, a.App, a.Seen, a.Of, a.Missing))
	}
	return err
}

func (c *program) carryOut(dir string, j *carry.Job, l ledger.Ledger, only string, yes bool, forGood int) error {
	out := show.NewPrinter(c.Stdout, c.Environ)
	// Nothing accepted by itself: all that is not rejected is meant, once
	// someone says so.
	accepted := j.Accepted()
	if !accepted {
		if err := j.Whole(c.ctx); err != nil {
			return err
		}
	}
	if only != "" {
		if err := c.part(dir, j, only, accepted); err != nil {
			return err
		}
	}
	j.Preview()
	ready := j.Count(decide.Ready)
	c.outlook(out, j)
	if ready == 0 {
		out.Line(say.NothingToDo())
		if err := out.Err(); err != nil {
			return err
		}
		if n := j.Held(); n > 0 {
			return fail(Held, say.HeldByGuards(n))
		}
		return nil
	}
	if err := c.consent(out, j, accepted, yes, forGood); err != nil {
		return err
	}
	switch {
	case !accepted && only != "":
		if err := c.acceptPart(dir, j, l, only); err != nil {
			return err
		}
	case !accepted:
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
			return say.ConsentNotRecorded(err)
		}
	}
	r := c.runner(j)
	res, err := j.Run(c.ctx, r.tell)
	r.end()
	err = c.ended(out, j, l, res, err)
	if left := len(j.States) - j.Count(decide.Completed) - j.Count(decide.Refused); only != "" && !accepted &&
		left > 0 {
		out.Line(say.LeftOfPlan(left, j.Plan.ID))
	}
	return err
}

// tell says something on standard error.
func (c *program) tell(says string) { fmt.Fprintln(c.Stderr, says) }

// ended tells what a run came to, on standard error where standard output cannot
// be written, and chooses the exit status.
func (c *program) ended(out *show.Printer, j *carry.Job, l ledger.Ledger, res *carry.Result, err error) error {
	if res == nil {
		return say.RunNotBegun(err)
	}
	c.result(out, j, res)
	if h, err := l.Head(); err == nil {
		out.Line(
			show.Dim(say.OnRecord(c.inEnv(res.Run), h.Seq, h.Hash)),
		)
	}
	if out.Err() != nil {
		told := show.NewPrinter(c.Stderr, c.Environ)
		told.Line(say.ToldElsewhere(out.Err()))
		c.result(told, j, res)
	}
	c.inform(j.Repo().Dir, j.Repo(), l)
	done := res.Settled + res.NotSettled
	switch {
	case err != nil && res.Error == "":
		return fail(Partly, say.EndedBut(res.Run, err))
	case err != nil && (res.Written != "" || done > 0):
		return fail(Partly, say.Stopped(res.Run, err, c.inEnv(j.Plan.ID)))
	case err != nil:
		return fail(Failed, say.Stopped(res.Run, err, c.inEnv(j.Plan.ID)))
	case res.NotSettled > 0:
		return &statusError{status: Partly}
	case res.Held > 0:
		return &statusError{status: Held}
	case res.Waiting > 0:
		return &statusError{status: Waiting}
	}
	return nil
}

func (c *program) result(out *show.Printer, j *carry.Job, res *carry.Result) {
	byID := map[string]*plan.Change{}
	for i := range j.Plan.Changes {
		byID[j.Plan.Changes[i].ID] = &j.Plan.Changes[i]
	}
	out.Line(say.Came(show.Strong(res.Run), j.Plan.ID, res.Settled, res.NotSettled))
	for _, f := range res.Failures {
		out.Linef("  %s  %s  %s", show.Alarm("not settled"), words.Sentence(j.Plan, byID[f.Change]), show.Dim(f.Change))
		out.Line("               " + f.Says)
		if now := say.WhatNow(f.Result); now != "" {
			out.Line("               " + show.Dim(now))
		}
	}
	if res.Written != "" {
		out.Line(say.WrittenOnly(res.Written))
	}
	if res.Waiting > 0 {
		out.Line(say.ForSomebody(res.Waiting, c.inEnv(j.Plan.ID)))
	}
	if len(res.Beside) > 0 {
		out.Line(say.Beside())
		for _, b := range res.Beside {
			out.Line("  " + b)
		}
	}
	if n := j.Count(decide.Lacking); n > 0 {
		out.Line(say.LackingAfter(n))
	}
	if res.Held > 0 {
		guards := j.Holding()
		lift := ""
		liftable := func(name string) bool { return slices.Contains(guard.Names(guard.ForPlan), name) }
		if at := slices.IndexFunc(guards, liftable); at >= 0 {
			lift = guards[at]
		}
		out.Line(say.HeldBy(res.Held, guards, c.inEnv(j.Plan.ID), lift))
		c.named(out, j, decide.Held)
	}
}
