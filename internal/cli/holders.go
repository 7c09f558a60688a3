package cli

import (
	"github.com/spf13/cobra"

	"pravet/internal/prepare"
	"pravet/internal/show"
)

func (c *program) holders() *cobra.Command {
	var format, on string
	var effective bool
	cmd := &cobra.Command{
		Use:     "holders THING",
		Short:   "List the accounts that hold a thing, directly or by what brings it along",
		GroupID: seeing,
		Long: `Holders lists the accounts that hold a thing directly, as the application
exported it, with the person, whether they should have it, and by which kits.
With --effective it lists all that have it in the end, and through what.

THING is written APPLICATION/KIND/NAME.`,
		Example: example(
			"pravet holders tickets/role/refund-approver",
			"pravet holders tickets/role/seller --effective",
			"pravet holders berths/license/planning-seat --format csv",
		),
		Args: cobra.ExactArgs(1),
	}
	formatFlag(cmd, &format, "table", "json", "csv")
	cmd.Flags().BoolVar(&effective, "effective", false, "all that have it in the end, also by what brings it along")
	cmd.Flags().StringVar(&on, "on", "", "what is due on this day, YYYY-MM-DD (default: today)")
	cmd.ValidArgsFunction = func(cmd *cobra.Command, args []string, begin string) ([]string, cobra.ShellCompDirective) {
		if len(args) > 0 {
			return nil, noFiles
		}
		return c.completeThings(cmd, args, begin)
	}
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		dir, today, err := c.where(on)
		if err != nil {
			return err
		}
		repo, err := c.rules(dir)
		if err != nil {
			return err
		}
		if repo.Problems.Errors() > 0 {
			return c.problems(&prepare.State{Repo: repo})
		}
		thing, err := thingOf(repo, args[0])
		if err != nil {
			return err
		}
		s, v, missing, err := prepare.Look(c.ctx, repo, []string{repo.Apps[thing.App].ID}, today)
		if err := c.told(s, nil, err); err != nil {
			return err
		}
		if len(missing) > 0 {
			return fail(Failed, "%w", missing[0])
		}
		list := v.Holders(thing, effective)
		if err := show.Output(c.Stdout, c.Environ, format, show.HolderTable(list)); err != nil {
			return err
		}
		if format == "table" {
			p := show.NewPrinter(c.Stderr, c.Environ)
			p.Line(show.Dim(show.HoldersLine(list, args[0], effective)))
			return p.Err()
		}
		return nil
	}
	return cmd
}
