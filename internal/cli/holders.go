package cli

import (
	"errors"
	"strings"

	"github.com/spf13/cobra"

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
	known := map[string]*history.Decision{}
	redefined := func(thing string) (d *history.Decision, err error) {
		d, ok := known[thing]
		if !ok {
			d, err = history.Redefined(p.ledger, thing, p.day)
			known[thing] = d
		}
		return d, err
	}
	always, err := c.always(dir, p, address)
	if err != nil {
		return err
	}
	for i := range list {
		h := &list[i]
		if always[h.Account] {
			h.Since = show.BeforeRecord
		}
		if h.Person == "" {
			continue
		}
		things := []string{address}
		for _, t := range h.Through {
			kind, name, _ := strings.Cut(t, " ")
			things = append(things, p.state.Repo.Apps[thing.App].ID+"/"+kind+"/"+name)
		}
		for _, t := range things {
			got, err := history.Gained(p.ledger, h.Person, t, p.day)
			if err != nil {
				return err
			}
			if got == nil && h.Since == "" && t != address { // by what brings it along, which may have begun to
				if got, err = redefined(t); err != nil {
					return err
				}
			}
			if got != nil {
				h.Since, h.DecidedBy, h.Because, h.Run = got.Since, say.Name(got.By), got.Because, got.Run
				break
			}
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

// always tells which accounts had a thing already by the first export that is kept.
func (c *program) always(dir string, p *past, address string) (map[string]bool, error) {
	out := map[string]bool{}
	a, err := model.ParseAddress(address)
	if err != nil {
		return nil, err
	}
	first, err := history.First(p.ledger, a.App)
	if err != nil || first == day.None {
		return out, err
	}
	was, err := c.past(dir, first.String(), []string{a.App})
	if err != nil {
		return nil, err
	}
	defer was.ledger.Close()
	thing, err := thingOf(was.state.Repo, address)
	if err != nil {
		return out, nil // the catalog did not list it then
	}
	for _, h := range was.view.Holders(thing, true) {
		out[h.Account] = true
	}
	return out, nil
}
