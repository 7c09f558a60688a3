package cli

import (
	"github.com/spf13/cobra"

	"pravet/internal/core/day"
	"pravet/internal/core/undo"
	"pravet/internal/plans"
	"pravet/internal/prepare"
	"pravet/internal/say"
)

func (c *program) backout() *cobra.Command {
	var out string
	var fetch bool
	cmd := &cobra.Command{
		Use:     "backout RUN",
		Short:   "Draft the plan that undoes a run, as far as it can be undone",
		GroupID: deciding,
		Long: `Backout drafts a plan that undoes what a run has settled, in the reverse order. It
is shown, accepted or rejected, and applied like any other plan.

What somebody has changed since then is not overwritten: such a change is left out,
and named in a notice. So is what cannot be undone. An account that the run has made
is not removed, as work may be in it by now: it is suspended, and what the run gave
it is taken away.

The files still ask for what the run did. Change them as well, or the next draft
brings it back.`,
		Example: example("pravet backout run-1", "pravet backout run-1 --fetch"),
		Args:    takes(1, 1, "which run?", "pravet backout run-7"),
	}
	cmd.Flags().
		StringVar(&out, "out", "", "write the plan to this file, - for standard output (default: plans/ID.json)")
	cmd.Flags().BoolVar(&fetch, "fetch", false, "fetch live applications first")
	cmd.ValidArgsFunction = c.completeRuns
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		dir, err := c.dir()
		if err != nil {
			return err
		}
		tree, err := c.tree(dir)
		if err != nil {
			return err
		}
		s := c.rulesOf(prepare.Rules(c.ctx, tree))
		defer s.Close()
		l, err := c.soundLedger(dir)
		if err != nil {
			return err
		}
		defer l.Close()
		if err := c.settled(dir, s, l); err != nil {
			return err
		}
		id, done, err := prepare.RunOf(l, args[0])
		if err != nil {
			return usage(err)
		}
		p, err := plans.Load(dir, id)
		if err != nil {
			return fail(Failed, err)
		}
		apps := appsThere(s, p)
		if fetch && len(s.Errors()) == 0 {
			if err := c.fetchFirst(s, l, apps); err != nil {
				return err
			}
		}
		if err := c.read(s, apps); err != nil {
			return err
		}
		undo, err := prepare.Undo(s, l, undo.Run{ID: args[0], Plan: p, Done: done}, day.Of(c.Now()))
		if err != nil {
			return err
		}
		data, err := undo.Seal()
		if err != nil {
			return err
		}
		file, err := c.writePlan(l, dir, out, undo, data)
		if err != nil {
			return err
		}
		if err := prepare.Record(l, s, undo, file, day.Of(c.Now())); err != nil {
			return err
		}
		if err := c.drafted(undo, file, false); err != nil {
			return err
		}
		c.tell(say.FilesAskStill(args[0]))
		return nil
	}
	return cmd
}
