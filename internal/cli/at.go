package cli

import (
	"errors"

	"github.com/spf13/cobra"

	"pravet/internal/core/access"
	"pravet/internal/core/day"
	"pravet/internal/desired"
	"pravet/internal/ledger"
	"pravet/internal/prepare"
	"pravet/internal/say"
	"pravet/internal/show"
)

// dayFlags adds --on, for what is due on a day, and --at, for how it was on one.
func dayFlags(cmd *cobra.Command, on, at *string) {
	cmd.Flags().StringVar(on, "on", "", "what is due on this day by the files and exports of today, YYYY-MM-DD")
	cmd.Flags().StringVar(at, "at", "", "how it was at the end of this past day, by what is on record, YYYY-MM-DD")
	cmd.MarkFlagsMutuallyExclusive("on", "at")
}

// A past is what a question about a past day is answered from.
type past struct {
	state  *prepare.State
	view   *access.View
	day    day.Day
	known  *prepare.Past
	ledger ledger.Ledger
}

// past reads how things were at the end of a day, for the named applications or for
// all; the caller closes the ledger.
func (c *program) past(dir, at string, apps []string) (*past, error) {
	on, err := day.Parse(at)
	if err != nil {
		return nil, usage(say.Flag("at", err))
	}
	if today := day.Of(c.Now()); on > today {
		return nil, usage(say.NotPast(on))
	}
	tree, err := c.tree(dir)
	if err != nil {
		return nil, err
	}
	l, err := c.existingLedger()
	if err != nil {
		return nil, err
	}
	p := &past{day: on, ledger: l}
	p.state, p.view, p.known, err = prepare.On(c.ctx, tree, l, apps, on)
	if err := c.told(p.state, nil, err); err != nil {
		l.Close()
		return nil, err
	}
	return p, nil
}

// remember tells a view since when accounts are on their way out.
func (c *program) remember(dir string, repo *desired.Repo, v *access.View) error {
	if v == nil || !prepare.Counts(repo) && !prepare.Lingers(repo) {
		return nil
	}
	l, err := c.questioned(dir)
	if err != nil {
		return err
	}
	v.Past, err = prepare.Stands(l, repo, func(int) bool { return true })
	if err == nil {
		err = prepare.Keep(l, repo, v)
	}
	return errors.Join(err, l.Close())
}

// said says on standard error what an answer about a past day follows from.
func (c *program) said(p *past) error {
	pr := show.NewPrinter(c.Stderr, c.Environ)
	for _, m := range p.known.Missing {
		pr.Line(m.Error())
	}
	pr.Line(show.Dim(say.AsOf(p.day.String(), p.known.Revision[:min(10, len(p.known.Revision))], p.known.Exports)))
	return pr.Err()
}

// looked is how things are on a day, or with at how they were on a past one, which is
// then returned too.
func (c *program) looked(dir, at string, apps []string, today day.Day) (*access.View, *past, error) {
	if at != "" {
		was, err := c.past(dir, at, apps)
		if err != nil {
			return nil, nil, err
		}
		return was.view, was, nil
	}
	repo, err := c.rules(dir)
	if err != nil {
		return nil, nil, err
	}
	repo.ObserveAll()
	s, v, missing, err := prepare.Look(c.ctx, repo, apps, today)
	if err := c.told(s, missing, err); err != nil {
		return v, nil, err
	}
	return v, nil, c.remember(dir, repo, v)
}
