package cli

import (
	"errors"
	"strings"

	"github.com/spf13/cobra"

	"pravet/internal/core/access"
	"pravet/internal/core/day"
	"pravet/internal/core/model"
	history "pravet/internal/past"
	"pravet/internal/say"

	"pravet/internal/prepare"
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
		dir, today, err := c.where(on)
		if err != nil {
			return err
		}
		if at != "" {
			return c.heldAt(dir, at, args[0], effective, format)
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
			return fail(Failed, missing[0])
		}
		list := v.Holders(thing, effective)
		if err := c.goes(dir, repo, list, repo.Apps[thing.App].Address(thing.Thing), today); err != nil {
			return err
		}
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

// heldAt lists who held a thing at the end of a past day, since when, and by whose
// decision.
func (c *program) heldAt(dir, at, address string, effective bool, format string) error {
	now, err := c.rules(dir)
	if err != nil {
		return err
	}
	var apps []string
	if a, err := model.ParseAddress(address); err == nil && now.App(a.App) >= 0 {
		apps = []string{a.App}
	}
	p, err := c.past(dir, at, apps)
	if err != nil {
		return err
	}
	defer p.ledger.Close()
	thing, err := thingOf(p.state.Repo, address)
	if err != nil {
		return err
	}
	if len(p.known.Missing) > 0 {
		first, err := history.First(p.ledger, p.state.Repo.Apps[thing.App].ID)
		if err != nil {
			return err
		}
		if first == day.None {
			return fail(Failed, say.NoneKept(p.known.Missing[0]))
		}
		return fail(Failed, say.KeptSince(p.known.Missing[0], first.String()))
	}
	list := p.view.Holders(thing, effective)
	redefined := map[string]*history.Decision{}
	// given is the run by which a holder came to the thing: by itself, by what brings it
	// along, or as that began to.
	given := func(h *access.Holder) (d *history.Decision, err error) {
		things := []string{address}
		for _, t := range h.Through {
			kind, name, _ := strings.Cut(t, " ")
			things = append(things, p.state.Repo.Apps[thing.App].ID+"/"+kind+"/"+name)
		}
		for _, t := range things {
			if h.Person != "" {
				if d, err = history.Gained(p.ledger, h.Person, t, p.day); d != nil || err != nil {
					return d, err
				}
			}
		}
		for _, t := range things[1:] {
			d, ok := redefined[t]
			if !ok {
				if d, err = history.Redefined(p.ledger, t, p.day); err != nil {
					return nil, err
				}
				redefined[t] = d
			}
			if d != nil {
				return d, nil
			}
		}
		return nil, nil
	}
	a := p.state.Repo.Apps[thing.App]
	var accounts []string
	for i := range list {
		accounts = append(accounts, list[i].Account)
	}
	since, err := history.Since(p.ledger, a, thing.Thing, p.day, accounts)
	if err != nil {
		return err
	}
	for i := range list {
		h := &list[i]
		got, err := given(h)
		came := since[h.Account]
		switch {
		case err != nil:
			return err
		case got != nil && came.Explains(got.Since):
			h.Since, h.DecidedBy, h.Because, h.Run = got.Since.String(), say.Name(got.By), got.Because, got.Run
		case came.Without == day.None:
			h.Since = show.BeforeRecord
		default:
			h.Since, h.Because = came.With.String(), say.NotByARun()
		}
	}
	if err := show.Output(c.Stdout, c.Environ, format, show.PastHolderTable(list)); err != nil {
		return err
	}
	if format != "table" {
		return nil
	}
	pr := show.NewPrinter(c.Stderr, c.Environ)
	pr.Line(show.Dim(show.HoldersLine(list, address, effective)))
	return errors.Join(pr.Err(), c.said(p))
}
