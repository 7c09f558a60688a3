package cli

import (
	"pravet/internal/carry"
	"pravet/internal/core/decide"
	"pravet/internal/core/plan"
	"pravet/internal/decisions"
	"pravet/internal/ledger"
	"pravet/internal/say"
)

// matched are the changes of a plan that a filter matches.
func (c *program) matched(dir string, p *plan.Plan, only string) (*selection, []*plan.Change, error) {
	sel := &selection{only: only}
	if err := sel.prepare(c, dir, p); err != nil {
		return nil, nil, err
	}
	changes, _, err := sel.choose(p)
	return sel, changes, err
}

// acceptSome accepts some changes of a job's plan by themselves.
func (c *program) acceptSome(
	dir string, j *carry.Job, l ledger.Ledger, ids map[string]bool, nobody bool, because string,
) error {
	m := &decisions.Maker{Ledger: l, Repo: j.Repo(), Plan: j.Plan, Today: j.Today, By: c.actor(dir)}
	_, err := m.Accept(c.ctx, decisions.Choice{Changes: ids, Nobody: nobody}, decisions.Lifts{}, because)
	return err
}

// part limits a job to the changes that a filter matches, with what they need. Where
// nothing was accepted by itself, the filter accepts no more than accepting the whole plan
// would: nothing that cannot be undone, and nothing that waits to be accepted by itself.
func (c *program) part(dir string, j *carry.Job, only string, accepted bool) error {
	_, changes, err := c.matched(dir, j.Plan, only)
	if err != nil {
		return err
	}
	among := map[string]bool{}
	for _, ch := range changes {
		among[ch.ID] = true
	}
	decide.WithNeeds(j.Plan, among)
	if !accepted {
		for i := range j.Plan.Changes {
			if ch := &j.Plan.Changes[i]; ch.ForGood {
				delete(among, ch.ID)
			}
		}
	}
	return j.Among(c.ctx, among)
}

// acceptPart records that what a job is about to carry out was accepted: the changes that
// are ready, and no others.
func (c *program) acceptPart(dir string, j *carry.Job, l ledger.Ledger, only string) error {
	ready := map[string]bool{}
	for i, state := range j.States {
		if state == decide.Ready {
			ready[j.Plan.Changes[i].ID] = true
		}
	}
	if err := c.acceptSome(dir, j, l, ready, false, say.Part(only)); err != nil {
		return say.ConsentNotRecorded(err)
	}
	return j.Decide(c.ctx)
}
