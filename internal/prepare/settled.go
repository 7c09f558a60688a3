package prepare

import (
	"pravet/internal/core/day"
	"pravet/internal/ledger"
)

// Settled is the last day on which a desired state was carried out and all of it settled, or on
// which a whole plan for it had no change; day.None where that never was. l may be nil.
func Settled(l ledger.Ledger, digest string) (day.Day, error) {
	last := day.None
	if l == nil {
		return last, nil
	}
	of := map[string]bool{} // plans for it
	err := l.Scan(
		ledger.Query{Kinds: []ledger.Kind{ledger.PlanDrafted, ledger.RunEnded}},
		func(e *ledger.Entry) error {
			on, err := day.Parse(e.At[:min(len(e.At), len("2006-01-02"))])
			if err != nil {
				return err
			}
			if e.Kind == ledger.PlanDrafted {
				p, err := ledger.Decode[ledger.Plan](e)
				if err != nil || p.Desired != digest {
					return err
				}
				of[p.Plan] = true
				if p.Whole && p.Totals.Changes == 0 {
					last = on
				}
				return nil
			}
			r, err := ledger.Decode[ledger.RunEnd](e)
			if err != nil || !of[r.Plan] {
				return err
			}
			if r.NotSettled == 0 && r.Held == 0 && r.Waiting == 0 && r.Error == "" {
				last = on
			}
			return nil
		},
	)
	return last, err
}
