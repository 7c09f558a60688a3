package cli

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"pravet/internal/carry"
	"pravet/internal/core/decide"
	"pravet/internal/core/guard"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/core/words"
	"pravet/internal/desk"
	"pravet/internal/ledger"
	"pravet/internal/show"
)

func (c *program) apply() *cobra.Command {
	var yes, unattended bool
	var forGood int
	var only string
	var apps []string
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

With --app it carries out what the plan changes in these applications, and nothing in the
others: those may be carried out on another machine at the same time, which reaches
them. What needs something there waits while somebody is at work on it.

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
			"pravet apply 2w57bede --app tickets --yes",
			"pravet apply 2w57bede --only 'person eq \"E0118\"' --yes",
		),
		Args: takes(1, 1, "which plan?", "pravet apply 2w57bede"),
	}
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	cmd.Flags().IntVar(&forGood, "yes-for-good", 0, "do not ask; confirm that this many changes cannot be undone")
	cmd.Flags().BoolVar(
		&unattended, "unattended", false, "carry out only what unattended in pravet.yaml allows, without "+
			"asking; leave the rest",
	)
	cmd.Flags().StringVar(&only, "only", "", "only the changes that this filter matches, with what they need")
	cmd.Flags().StringSliceVar(&apps, "app", nil, "only in this application (may be repeated)")
	offer(cmd, "only", c.completeFilter)
	offer(cmd, "app", c.completeApps)
	cmd.MarkFlagsMutuallyExclusive("unattended", "only")
	cmd.MarkFlagsMutuallyExclusive("unattended", "yes")
	cmd.MarkFlagsMutuallyExclusive("unattended", "yes-for-good")
	cmd.ValidArgsFunction = c.completePlans
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		if cmd.Flags().Changed("only") && strings.TrimSpace(only) == "" {
			return usage(sayFlag("only", sayEmptyFilter())) // and never the whole plan
		}
		if !cmd.Flags().Changed("yes-for-good") {
			forGood = -1 // nobody has counted
		}
		d, err := c.desk()
		if err != nil {
			return err
		}
		p, err := d.Plan(args[0])
		if err != nil {
			return err
		}
		r, err := d.Run(p, apps)
		if err != nil {
			return err
		}
		if unattended {
			return c.unattended(r)
		}
		return c.carryOut(r, only, apps, yes, forGood)
	}
	return cmd
}

// carryOut carries out what is meant, once somebody wants it.
func (c *program) carryOut(r *desk.Run, only string, apps []string, yes bool, forGood int) error {
	if err := r.Mean(only); err != nil {
		return err
	}
	out := show.NewPrinter(c.Stdout, c.Environ)
	c.outlook(out, r)
	if r.Count(decide.Ready) == 0 {
		out.Line(sayNothingToDo())
		if err := out.Err(); err != nil {
			return err
		}
		if n := r.Held(); n > 0 {
			return fail(Held, sayHeldByGuards(n))
		}
		return nil
	}
	if err := c.consent(out, r, yes, forGood); err != nil {
		return err
	}
	because := "asked at apply"
	switch {
	case only != "":
		because = sayPart("only", only)
	case len(apps) > 0:
		because = sayPart("app", strings.Join(apps, ","))
	case yes:
		because = "apply --yes"
	}
	if err := r.Consent(because); err != nil {
		return err
	}
	err := c.run(out, r)
	if left := r.Left(); only != "" && !r.Accepted && left > 0 {
		out.Line(sayLeftOfPlan(left, r.Plan.ID))
	}
	return err
}

// unattended carries out what pravet.yaml lets be carried out with nobody there, and leaves the
// rest for a person.
func (c *program) unattended(r *desk.Run) error {
	some, err := r.Unattended()
	if err != nil {
		return err
	}
	out := show.NewPrinter(c.Stdout, c.Environ)
	if some {
		c.outlook(out, r)
		if err := c.run(out, r); err != nil {
			return err
		}
	} else {
		out.Line(sayNothingToDo())
	}
	left := r.Left()
	if left == 0 {
		return out.Err()
	}
	out.Line(sayLeftForSomebody(left, c.inEnv(r.Plan.ID)))
	if err := out.Err(); err != nil {
		return err
	}
	return &statusError{status: LeftForPerson}
}

// run carries out what is ready, and says what came of it.
func (c *program) run(out *show.Printer, r *desk.Run) error {
	bar := c.runner(r.Job)
	res, err := r.Go(bar.tell)
	bar.end()
	return c.ended(out, r, res, err)
}

// tell says something on standard error.
func (c *program) tell(says string) { fmt.Fprintln(c.Stderr, says) }

// ended tells what a run came to, on standard error where standard output cannot
// be written, and chooses the exit status.
func (c *program) ended(out *show.Printer, r *desk.Run, res *carry.Result, err error) error {
	if res == nil {
		return sayRunNotBegun(err)
	}
	c.result(out, r, res)
	if h, err := r.Head(); err == nil {
		out.Line(show.Dim(sayOnRecord(c.inEnv(res.Run), h.Seq, h.Hash)))
	}
	if out.Err() != nil {
		told := show.NewPrinter(c.Stderr, c.Environ)
		told.Line(sayToldElsewhere(out.Err()))
		c.result(told, r, res)
	}
	// What goes wrong with letters is said, and changes nothing about the run: they go the next time.
	sent, wrong := r.Inform()
	if wrong == nil {
		wrong = c.posted(sent)
	}
	if wrong != nil {
		c.listed(wrong)
		c.tell(sayLettersLater(wrong))
	}
	done := res.Settled + res.NotSettled
	switch {
	case err != nil && res.Error == "":
		return fail(Partly, sayEndedBut(res.Run, err))
	case err != nil && (res.Written != "" || done > 0):
		return fail(Partly, sayStopped(res.Run, err, c.inEnv(r.Plan.ID)))
	case err != nil:
		return fail(Failed, sayStopped(res.Run, err, c.inEnv(r.Plan.ID)))
	case res.NotSettled > 0:
		return &statusError{status: Partly}
	case res.Held > 0:
		return &statusError{status: Held}
	case res.Waiting > 0:
		return &statusError{status: LeftForPerson}
	}
	return nil
}

func (c *program) result(out *show.Printer, r *desk.Run, res *carry.Result) {
	byID := map[string]*plan.Change{}
	for i := range r.Plan.Changes {
		byID[r.Plan.Changes[i].ID] = &r.Plan.Changes[i]
	}
	out.Line(sayCame(show.Strong(res.Run), r.Plan.ID, res.Settled, res.NotSettled))
	for _, f := range res.Failures {
		out.Linef("  %s  %s  %s", show.Alarm("not settled"), words.Sentence(r.Plan, byID[f.Change]), show.Dim(f.Change))
		out.Line("               " + f.Says)
		if now := sayWhatNow(f.Result); now != "" {
			out.Line("               " + show.Dim(now))
		}
	}
	if res.Written != "" {
		out.Line(sayWrittenOnly(res.Written))
	}
	if res.Waiting > 0 {
		out.Line(sayForSomebody(res.Waiting, c.inEnv(r.Plan.ID)))
	}
	if len(res.Beside) > 0 {
		out.Line(sayBeside())
		for _, b := range res.Beside {
			out.Line("  " + b)
		}
	}
	if n := r.Count(decide.Lacking); n > 0 {
		out.Line(sayLackingAfter(n))
	}
	if res.Held > 0 {
		guards := r.Holding()
		lift := ""
		liftable := func(name string) bool { return slices.Contains(guard.Names(guard.ForPlan), name) }
		if at := slices.IndexFunc(guards, liftable); at >= 0 {
			lift = guards[at]
		}
		out.Line(sayHeldBy(res.Held, guards, c.inEnv(r.Plan.ID), lift))
		c.named(out, r, decide.Held)
	}
}

// sayBeside begins the list of what others have changed while a run went on.
func sayBeside() string {
	return "Since the plan's export, others have changed this; nothing of it was touched:"
}

// sayLettersLater is that letters could not be sent after a run.
func sayLettersLater(err error) string {
	text := "Not all letters were sent; the run is not touched by that. Send them with: pravet letters --send"
	if says := err.Error(); says != "" {
		text += " (" + says + ")"
	}
	return text
}

// sayHeldByGuards is all that is left of a plan.
func sayHeldByGuards(n int) error {
	return fmt.Errorf("%s held by a guard", model.Count(n, "change is", "changes are"))
}

// sayRunNotBegun is a run that failed before its first step.
func sayRunNotBegun(err error) error {
	return fmt.Errorf("the run did not begin, and nothing was changed: %w", err)
}

// sayStopped is a run that did not come to its end.
func sayStopped(run string, err error, plan string) error {
	return fmt.Errorf("%s stopped: %w; to go on: pravet apply %s", run, err, plan)
}

// sayEndedBut is a run that came to its end, after which something went wrong.
func sayEndedBut(run string, err error) error {
	return fmt.Errorf("%s came to its end, but %w", run, err)
}

// sayLeftForSomebody counts what is left after an unattended run.
func sayLeftForSomebody(n int, plan string) string {
	return fmt.Sprintf(
		"%s left for a person; see: pravet show %s", model.Count(n, "change is", "changes are"), plan,
	)
}

// sayPart is why a part of a plan was accepted that somebody has chosen by a filter.
func sayPart(flag, of string) string { return "asked at apply --" + flag + " " + of }

// sayLeftOfPlan counts what is left of a plan of which a part was carried out.
func sayLeftOfPlan(n int, plan string) string {
	return fmt.Sprintf(
		"%s left of this plan; go on with: pravet accept %s, and pravet apply %s",
		model.Count(n, "change is", "changes are"), plan, plan,
	)
}

// sayNothingToDo is said of a plan with nothing ready.
func sayNothingToDo() string { return "There is nothing to carry out." }

// sayCame counts how the changes of a run ended.
func sayCame(run, plan string, settled, not int) string {
	return fmt.Sprintf(
		"%s of plan %s: %s settled, %d not settled.",
		run,
		plan,
		model.Count(settled, "change", "changes"),
		not,
	)
}

// sayForSomebody is that changes wait for somebody to carry them out.
func sayForSomebody(n int, plan string) string {
	return fmt.Sprintf(
		"%s for somebody to carry %s out; when the application is exported again, go on with: pravet apply %s",
		model.Count(n, "change waits", "changes wait"), model.Plural(n, "it", "them"), plan,
	)
}

// sayWrittenOnly is an application that was written and not read back.
func sayWrittenOnly(app string) string {
	return app + " was written, and what became of that is not on record yet; the next draft or apply reads it back."
}

// sayLackingAfter counts what was left alone for something else that was.
func sayLackingAfter(n int) string {
	return fmt.Sprintf(
		"%s skipped: something %s not carried out.",
		model.Count(n, "change was", "changes were"), needsWords(n),
	)
}

func needsWords(n int) string {
	if n == 1 {
		return "it needs is"
	}
	return "they need is"
}

// sayHeldBy names the guards that still hold changes after a run. lift is one that can be lifted, "" where none can.
func sayHeldBy(n int, guards []string, plan, lift string) string {
	text := fmt.Sprintf("%s held by %s", model.Count(n, "change is", "changes are"), strings.Join(guards, ", "))
	if lift != "" {
		text += fmt.Sprintf("; to lift one: pravet accept %s --lift %s --because 'why'", plan, lift)
	}
	return text
}

// sayOnRecord says where a run can be read again, and how the ledger ends.
func sayOnRecord(run string, entry int64, hash string) string {
	return fmt.Sprintf("On record: pravet log %s. The ledger ends with entry %d, %s", run, entry, hash)
}

// sayToldElsewhere is said on standard error where standard output cannot be written.
func sayToldElsewhere(err error) string {
	return fmt.Sprintf("standard output could not be written (%v); this is what was done:", err)
}

// sayWhatNow advises about a change that is not settled; "" where its reason gives the advice.
func sayWhatNow(r ledger.Result) string {
	return map[ledger.Result]string{
		ledger.Refused: "mend it in the application or in the files, or reject the change",
		ledger.Failed:  "apply the plan again once the application is well",
		ledger.Unknown: "apply the plan again: it is looked up first, and not done twice",
		ledger.Ignored: "look at the application itself; something there undoes it, or it waits for somebody",
	}[r]
}

// sayEmptyFilter is a filter that matches everything where only a part is meant.
func sayEmptyFilter() error {
	return errors.New(`the filter is empty; write one, for example person eq "E0118", or leave the flag out`)
}
