package prepare

import (
	"pravet/internal/core/day"
	"pravet/internal/ledger"
)

// Settled is what the changes that an environment's ledger shows as settled have done, and on which day
// each was settled last: plan.Change.Does → day. What was done to the same later, as by a back-out, undoes
// it. l may be nil.
func Settled(l ledger.Ledger) (map[string]day.Day, error) {
	out := map[string]day.Day{}
	if l == nil {
		return out, nil
	}
	type last struct {
		does string
		on   day.Day
	}
	by := map[string]last{} // what was touched → what was done to it last
	err := l.Scan(ledger.Query{Kinds: []ledger.Kind{ledger.Outcome}}, func(e *ledger.Entry) error {
		o, err := ledger.Decode[ledger.ChangeOutcome](e)
		if err != nil || !o.Settled || o.Does == "" {
			return err
		}
		on, err := l.Zone().DayOf(e.At)
		by[o.Touches] = last{o.Does, on}
		return err
	})
	for _, x := range by {
		out[x.does] = x.on
	}
	return out, err
}
