package desk

import (
	"cmp"
	"slices"

	"pravet/internal/core/decide"
	"pravet/internal/core/plan"
	"pravet/internal/core/words"
	"pravet/internal/ledger"
)

// A Waiting is changes of a plan that wait for the same people's decision.
type Waiting struct {
	Plan    string
	Of      *plan.Plan
	Since   string       // when the plan was drafted, RFC 3339
	Rule    *decide.Rule // nil where anybody may decide
	App     string       // of which they are; "" where that is the same
	Left    int          // how many more it takes
	Changes []*plan.Change
}

// Who are whom it waits for, in words.
func (w *Waiting) Who() string {
	if w.Rule == nil {
		return words.Deciders(false, "", "", "")
	}
	return w.Rule.Who(w.App, w.Left)
}

// Waits are whom the changes of a plan wait for that are neither decided nor done, those with the most first.
func (s *Selection) Waits() (out []*Waiting) {
	if s.standing == nil {
		return nil
	}
	type key struct {
		rule *decide.Rule
		app  string
		left int
	}
	groups := map[key]*Waiting{}
	add := func(k key, c *plan.Change) {
		w := groups[k]
		if w == nil {
			w = &Waiting{Plan: s.plan.ID, Of: s.plan, Rule: k.rule, App: k.app, Left: k.left}
			groups[k] = w
			out = append(out, w)
		}
		w.Changes = append(w.Changes, c)
	}
	for i := range s.plan.Changes {
		c := &s.plan.Changes[i]
		if s.States[c.ID] != "" {
			continue
		}
		waits := s.standing.Waits[c.ID]
		for n := range waits {
			k := key{rule: waits[n].Rule, left: waits[n].Left()}
			if k.rule.Owner {
				k.app = c.App
			}
			add(k, c)
		}
		if len(waits) == 0 {
			add(key{}, c)
		}
	}
	slices.SortStableFunc(out, func(x, y *Waiting) int { return cmp.Compare(len(y.Changes), len(x.Changes)) })
	return out
}

// Waiting tells what waits for whose decision: of a plan, of the newest where none is named.
func (d *Desk) Waiting(name string) ([]*Waiting, error) {
	var err error
	if name == "" {
		if name, err = d.Newest(); err != nil {
			return nil, err
		}
	}
	p, err := d.Plan(name)
	if err != nil {
		return nil, err
	}
	l, err := d.Record()
	if err != nil {
		return nil, err
	}
	s, err := d.Select(p, Choice{})
	if err != nil {
		return nil, err
	}
	out := s.Waits()
	err = l.Scan(ledger.Query{Kinds: []ledger.Kind{ledger.PlanDrafted}, Subject: p.ID}, func(e *ledger.Entry) error {
		for _, w := range out {
			w.Since = e.At
		}
		return ledger.ErrStop
	})
	return out, err
}

// Ignored are the decisions about a plan that are on record and count for nothing.
func (s *Selection) Ignored() []decide.Ignored {
	if s.standing == nil {
		return nil
	}
	return s.standing.Ignored
}
