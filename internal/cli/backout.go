package cli

import (
	"fmt"

	"github.com/spf13/cobra"
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
		d, err := c.desk()
		if err != nil {
			return err
		}
		x := c.drafting(out)
		x.Fetch = fetch
		drafted, err := d.Backout(args[0], x)
		if err != nil {
			return err
		}
		if err := c.drafted(drafted, false); err != nil {
			return err
		}
		c.tell(sayFilesAskStill(args[0]))
		return nil
	}
	return cmd
}

// sayFilesAskStill is that the files ask for what a back-out undoes.
func sayFilesAskStill(run string) string {
	return fmt.Sprintf("The files still ask for what %s did. Change them too, or the next draft brings it back.", run)
}
