package cli

import (
	"context"
	"maps"
	"slices"

	"pravet/internal/carry"
	"pravet/internal/core/decide"
	"pravet/internal/core/plan"
	"pravet/internal/ledger"
	"pravet/internal/say"
	"pravet/internal/show"
)

// unattended carries out what pravet.yaml lets be carried out with nobody there, and
// leaves the rest for a person: what is held, what cannot be undone, what was rejected, and
// what needs any of that.
func (c *program) unattended(dir string, j *carry.Job, l ledger.Ledger) error {
	p, repo := j.Plan, j.Repo()
	if repo.Unattended == nil {
		return usage(say.NoUnattended())
	}
	sel, changes, err := c.matched(dir, p, repo.Unattended.String())
	if err != nil {
		return err
	}
	among := map[string]bool{}
	for _, ch := range changes {
		among[ch.ID] = !ch.ForGood && sel.states[ch.ID] != "rejected" && sel.states[ch.ID] != "done" &&
			len(j.Standing.Holding(p, ch, j.Today)) == 0
	}
	lacking(p, among, sel.states)
	out := show.NewPrinter(c.Stdout, c.Environ)
	left := func(done map[string]bool) error {
		n := 0
		for i := range p.Changes {
			if id := p.Changes[i].ID; !done[id] && sel.states[id] != "rejected" && sel.states[id] != "done" {
				n++
			}
		}
		if n == 0 {
			return out.Err()
		}
		out.Line(say.LeftForSomebody(n, c.inEnv(p.ID)))
		if err := out.Err(); err != nil {
			return err
		}
		return &statusError{status: Waiting}
	}
	if len(among) == 0 {
		out.Line(say.NothingToDo())
		return left(among)
	}
	if err := c.acceptSome(dir, j, l, maps.Clone(among), true, say.Unattended(repo.Unattended.String())); err != nil {
		return err
	}
	if err := j.Among(c.ctx, among); err != nil {
		return err
	}
	if err := c.run(c.ctx, out, j, l); err != nil {
		return err
	}
	done := map[string]bool{}
	for i, state := range j.States {
		done[p.Changes[i].ID] = state == decide.Completed
	}
	return left(done)
}

// lacking leaves out what needs something that is neither chosen nor done. What is needed
// stands before what needs it.
func lacking(p *plan.Plan, among map[string]bool, states map[string]string) {
	for i := range p.Changes {
		ch := &p.Changes[i]
		if !among[ch.ID] || slices.ContainsFunc(ch.Needs, func(need string) bool {
			return !among[need] && states[need] != "done"
		}) {
			delete(among, ch.ID)
		}
	}
}

// run carries out what is ready, and says what came of it.
func (c *program) run(ctx context.Context, out *show.Printer, j *carry.Job, l ledger.Ledger) error {
	j.Preview()
	c.outlook(out, j)
	r := c.runner(j)
	res, err := j.Run(ctx, r.tell)
	r.end()
	return c.ended(out, j, l, res, err)
}
