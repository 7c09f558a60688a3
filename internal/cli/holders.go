package cli

import (
	"github.com/spf13/cobra"

	"pravet/internal/core/access"
	"pravet/internal/core/day"
	"pravet/internal/desk"
	"pravet/internal/ledger"
	"pravet/internal/show"
)

func (c *program) holders() *cobra.Command {
	var format, on, at string
	var effective bool
	cmd := &cobra.Command{
		Use:     "holders THING",
		Short:   "List the accounts that hold a thing, directly or by what brings it along",
		GroupID: seeing,
		Long: `Holders lists the accounts that hold a thing directly, as the application
exported it, with the person, whether they should have it, and by which kits.
With --effective it lists all that have it in the end, and through what.

--on asks what is due on a day by the files and the exports of today. --at asks how
it was at the end of a past day, by the exports that were on record by then: who had
it, by which line, since when, and who decided that.

THING is written APPLICATION/KIND/NAME.`,
		Example: example(
			"pravet holders tickets/role/refund-approver",
			"pravet holders tickets/role/seller --effective",
			"pravet holders tickets/role/refund-approver --at 2026-11-24 --effective",
			"pravet holders berths/license/planning-seat --format csv",
		),
		Args: takes(1, 1, "of which thing?", "pravet holders tickets/role/seller"),
	}
	formatFlag(cmd, &format, "table", "json", "csv")
	cmd.Flags().BoolVar(&effective, "effective", false, "all that have it in the end, also by what brings it along")
	dayFlags(cmd, &on, &at)
	cmd.ValidArgsFunction = func(cmd *cobra.Command, args []string, begin string) ([]string, cobra.ShellCompDirective) {
		if len(args) > 0 {
			return nil, noFiles
		}
		return c.completeThings(cmd, args, begin)
	}
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		d, day, err := c.on(on)
		if err != nil {
			return err
		}
		held := func() ([]desk.Holder, *desk.Sight, error) { return d.Holders(args[0], effective, day) }
		if at != "" {
			held = func() ([]desk.Holder, *desk.Sight, error) { return d.HoldersAt(args[0], effective, at) }
		}
		list, x, err := held()
		if err != nil {
			return err
		}
		rows := holderRows(list, x.Known != nil)
		table := show.HolderTable(rows)
		if x.Known != nil {
			table = show.PastHolderTable(rows)
		}
		if err := show.Output(c.Stdout, c.Environ, format, table); err != nil {
			return err
		}
		if format != "table" {
			return nil
		}
		p := show.NewPrinter(c.Stderr, c.Environ)
		p.Line(show.Dim(show.HoldersLine(rows, args[0], effective)))
		if x.Known != nil {
			p.Line(show.Dim(asOf(x)))
		}
		return p.Err()
	}
	return cmd
}

// holderRows are holders with what is known of how they came to a thing, in words: of a past day
// since when, and by whose decision.
func holderRows(list []desk.Holder, past bool) []access.Holder {
	out := []access.Holder{}
	for _, h := range list {
		row := h.Holder
		switch {
		case h.Rejection != nil:
			row.Rejected = sayRejectedBy(h.Rejection)
		case !past:
		case h.Given != nil:
			row.Since, row.DecidedBy = h.Given.Since.String(), ledger.Who(h.Given.By)
			row.Because, row.Run = h.Given.Because, h.Given.Run
		case h.Came.Without == day.None:
			row.Since = show.BeforeRecord
		default:
			row.Since, row.Because = h.Came.With.String(), sayNotByARun()
		}
		out = append(out, row)
	}
	return out
}

// sayNotByARun is why someone holds what no run gave: it was given in the application.
func sayNotByARun() string { return "not by a run; first seen in the export of that day" }
