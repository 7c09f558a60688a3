package desk

import (
	"errors"
	"fmt"
	"time"

	"pravet/internal/carry"
	"pravet/internal/core/day"
	"pravet/internal/core/decide"
	"pravet/internal/core/plan"
	"pravet/internal/ledger"
)

// RehearseDays lives through so many days from today on, on copies. Of each day's plan it carries out what pravet.yaml lets be
// carried out with nobody there or, with all, everything that no guard holds for good. told hears of each day that is over.
func (d *Desk) RehearseDays(span string, all bool, apps []string, told func(day.Day)) (out *carry.Days, err error) {
	length, err := day.ParseDuration(span)
	if err != nil {
		return nil, wrongIn("for", err)
	}
	to := d.today.Add(length)
	if to <= d.today || to > d.today.Add(day.Duration{Months: 12 * mostYears}) {
		return nil, wrong(saySpanOfDays(span, mostYears))
	}
	s, err := d.Sound()
	if err != nil {
		return nil, err
	}
	if s.Repo.Unattended == nil && !all {
		return nil, wrong(sayNothingAccepted())
	}
	if s, err = d.read(apps); err != nil {
		return nil, err
	}
	accepts := func(p *plan.Plan, standing *decide.PlanDecisions, today day.Day) (map[string]bool, error) {
		return d.accepts(p, standing, today, all)
	}
	start, now := d.today, d.Now()
	err = d.onCopy(func() time.Time { return now }, func(copied ledger.Ledger) (err error) {
		out, err = carry.Live(d.ctx, carry.Living{
			State: s, Ledger: ledger.Cached(copied), From: start, To: to, Accepts: accepts, Told: told,
			Clock: func(today day.Day) {
				if today > start { // today goes on from now
					now = d.zone.End(today - 1).Add(8 * time.Hour)
				}
			},
		})
		return err
	})
	return out, err
}

// mostYears is for how long days are rehearsed at the most.
const mostYears = 5

// accepts are the changes of a plan that would be accepted on a day.
func (d *Desk) accepts(p *plan.Plan, standing *decide.PlanDecisions, today day.Day, all bool) (map[string]bool, error) {
	among := map[string]bool{}
	if all {
		for i := range p.Changes {
			c := &p.Changes[i]
			among[c.ID] = standing.Verdicts[c.ID] != decide.Rejected
		}
		return among, nil
	}
	sel := &Selection{Choice: Choice{Only: d.state.Repo.Unattended.String()}, plan: p, desk: d, States: statesOf(standing, p, standing.Ready(p, today)), standing: standing}
	changes, _, err := sel.Changes()
	if err != nil {
		return nil, err
	}
	for _, c := range changes {
		among[c.ID] = unattended(c, sel.States, standing, today, p)
	}
	lacking(p, among, sel.States)
	return among, nil
}

// unattended reports whether a change that the rule matches is carried out with nobody there: not what is held, what cannot be
// undone, and what was rejected.
func unattended(c *plan.Change, states map[string]string, standing *decide.PlanDecisions, today day.Day, p *plan.Plan) bool {
	return !c.ForGood && states[c.ID] != "rejected" && states[c.ID] != "done" && len(standing.Holding(p, c, today)) == 0
}

// saySpanOfDays is a span of days that cannot be lived through.
func saySpanOfDays(span string, years int) error {
	return fmt.Errorf("--for %s: a span from P1D to P%dY is expected, for example P90D", span, years)
}

// sayNothingAccepted is a rehearsal of days on which nothing would be accepted.
func sayNothingAccepted() error {
	return errors.New("pravet.yaml has no unattended, so nothing would be carried out with nobody there; " +
		"rehearse the days with --all, as if everything were accepted that no guard holds")
}
