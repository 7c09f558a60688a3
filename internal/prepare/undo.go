package prepare

import (
	"fmt"

	"pravet/internal/core/day"
	"pravet/internal/core/draft"
	"pravet/internal/core/plan"
	"pravet/internal/ledger"
)

// RunOf is a run of the ledger: its plan, and the changes that it has settled, in their
// order.
func RunOf(l ledger.Ledger, run string) (planID string, done []string, err error) {
	var r ledger.Run
	ok, err := l.Last(ledger.RunStarted, run, &r)
	if err != nil {
		return "", nil, err
	}
	if !ok {
		return "", nil, fmt.Errorf("there is no run %q; list the runs with: pravet log --kind run", run)
	}
	err = l.Scan(ledger.Query{Subject: run, Kinds: []ledger.Kind{ledger.Outcome}}, func(e *ledger.Entry) error {
		o, err := ledger.Decode[ledger.ChangeOutcome](e)
		if err == nil && o.Settled {
			done = append(done, o.Change)
		}
		return err
	})
	return r.Plan, done, err
}

// Undo drafts the plan that undoes what a run, or several of the same plan, have settled: like any
// other plan, and judged by the same guards. The applications of the plan were read.
func Undo(s *State, l ledger.Ledger, run draft.UndoneRun, today day.Day) (*plan.Plan, error) {
	in, err := s.input(l, today, today, nil)
	if err != nil {
		return nil, err
	}
	in.Undo, in.Stood, in.Held = &run, nil, nil
	return draft.Draft(*in)
}
