package carry

import (
	"context"
	"slices"

	"pravet/internal/connect"
	"pravet/internal/core/decide"
	"pravet/internal/core/plan"
	"pravet/internal/ledger"
	"pravet/internal/prepare"
)

// waiting finds which changes wait for somebody to carry them out, also from other plans: the
// same difference has the same id.
func (j *Job) waiting() error {
	for app, a := range j.apps {
		later, ok := a.reached.(connect.Later)
		if !ok {
			continue
		}
		a.later, a.waits = later, map[string]string{}
		for i := range j.Plan.Changes {
			c := &j.Plan.Changes[i]
			if c.App != app {
				continue
			}
			q := ledger.Query{Kinds: []ledger.Kind{ledger.Outcome}, Change: c.ID, Newest: true}
			err := j.ledger.Scan(q, func(e *ledger.Entry) error {
				o, err := ledger.Decode[ledger.ChangeOutcome](e)
				if err == nil && o.Result == ledger.Waiting {
					a.waits[c.ID] = o.Mark
				}
				if err == nil {
					err = ledger.ErrStop
				}
				return err
			})
			if err != nil {
				return err
			}
		}
	}
	return nil
}

// all adds to a step for somebody else whatever can come after it in the same application:
// they get one file and one checklist, in the plan's order.
func (j *Job) all(front, step []int) []int {
	app := j.Plan.Changes[front[0]].App
	in := map[string]bool{}
	for _, i := range step {
		in[j.Plan.Changes[i].ID] = true
	}
	at := map[string]int{}
	for i := range j.Plan.Changes {
		at[j.Plan.Changes[i].ID] = i
	}
	for more := true; more; {
		more = false
		for i := range j.Plan.Changes {
			c := &j.Plan.Changes[i]
			if c.App != app || j.States[i] != decide.Ready || in[c.ID] || slices.Contains(front, i) {
				continue
			}
			met := !slices.ContainsFunc(c.Needs, func(need string) bool {
				n, ok := at[need]
				return !in[need] && (!ok || j.States[n] != decide.Completed)
			})
			if met {
				in[c.ID], more = true, true
				step = append(step, i)
			}
		}
	}
	slices.Sort(step)
	return step
}

// An Arrival is what the export of an application shows of the changes of a run that waited
// for somebody.
type Arrival struct {
	Run, App string
	Seen, Of int
	Missing  []string // in words
}

// Arrive looks at the exports of applications whose changes somebody else carries out: what is
// to be seen by now is settled. An export that is still the same tells nothing. load finds a
// plan by its id; claim makes this the only process that changes an application, and those that others change are left.
func Arrive(
	ctx context.Context, s *prepare.State, l ledger.Ledger, load func(id string) (*plan.Plan, error), claim func(app string) error,
) (out []*Arrival, err error) {
	var runs []ledger.RunEnd
	err = l.Scan(ledger.Query{Kinds: []ledger.Kind{ledger.RunEnded}}, func(e *ledger.Entry) error {
		end, err := ledger.Decode[ledger.RunEnd](e)
		if err == nil && end.Waiting > 0 {
			runs = append(runs, end)
		}
		return err
	})
	for _, end := range runs {
		if err != nil {
			break
		}
		var more []*Arrival
		more, err = arrive(ctx, s, l, &end, load, claim)
		out = append(out, more...)
	}
	return out, err
}

func arrive(
	ctx context.Context,
	s *prepare.State,
	l ledger.Ledger,
	end *ledger.RunEnd,
	load func(id string) (*plan.Plan, error),
	claim func(app string) error,
) (out []*Arrival, err error) {
	last := map[string]ledger.ChangeOutcome{}
	var order []string
	err = l.Scan(ledger.Query{Subject: end.Run, Kinds: []ledger.Kind{ledger.Outcome}}, func(e *ledger.Entry) error {
		o, err := ledger.Decode[ledger.ChangeOutcome](e)
		if _, ok := last[o.Change]; !ok {
			order = append(order, o.Change)
		}
		last[o.Change] = o
		return err
	})
	if err != nil {
		return nil, err
	}
	byApp := map[string][]ledger.ChangeOutcome{}
	for _, id := range order {
		if o := last[id]; o.Result == ledger.Waiting {
			byApp[o.App] = append(byApp[o.App], o)
		}
	}
	for a, app := range s.Repo.Apps {
		waits := byApp[app.ID]
		if len(waits) == 0 {
			continue
		}
		if mark, err := s.Reached[a].Mark(ctx); err != nil || mark == waits[0].Mark {
			continue // whoever reads the export says what is wrong with it
		}
		if claim(app.ID) != nil {
			continue // whoever is at work there does it
		}
		p, err := load(end.Plan)
		if err != nil {
			continue // without its plan nobody knows what the changes were
		}
		state, err := s.Reached[a].Read(ctx)
		if err != nil {
			continue
		}
		byID := map[string]*plan.Change{}
		for i := range p.Changes {
			byID[p.Changes[i].ID] = &p.Changes[i]
		}
		back := newReadBack(app, state.Accounts)
		x := &Arrival{Run: end.Run, App: app.ID, Of: len(waits)}
		var records []ledger.Record
		for _, o := range waits {
			c := byID[o.Change]
			if c == nil {
				continue
			}
			ok, says := back.settled(c)
			if !ok {
				x.Missing = append(x.Missing, o.What+": "+says)
				continue
			}
			x.Seen++
			o.Settled, o.Result, o.Says, o.Mark = true, ledger.Done, "", ""
			records = append(records, ledger.Record{Kind: ledger.Outcome, Subject: end.Run, Body: o})
		}
		if err := l.Append(records...); err != nil {
			return nil, err
		}
		out = append(out, x)
	}
	return out, nil
}
