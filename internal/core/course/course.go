// Package course finds the course of a run: which changes of a plan can be
// carried out next, and which of them would break, as the applications are at
// that moment, what must hold at every step.
//
// A run asks for a step, carries it out, reads the application back, marks what
// was settled, and asks again:
//
//	for step := c.Next(states); step != nil; step = c.Next(states) {
//		// carry out, read back, then states[i] = decide.Completed for each i that is settled
//	}
//
// A change is never in a step before all that it needs is settled. That what
// narrows comes before what widens is a preference among the changes that could
// come next, and no more.
package course

import (
	"pravet/internal/core/decide"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
)

// A Course is the order in which one plan can be carried out.
type Course struct {
	plan  *plan.Plan
	needs [][]int // numbers of the changes that each needs; -1 for one that is not in the plan
	phase []uint8
}

// The phases, each preferred to those after it: what narrows makes room for
// what widens, and what has to wait for a successor narrows last.
const (
	narrowing uint8 = iota
	giving
	narrowingLate
	phases
)

// New returns the course of a plan, in O(changes).
func New(p *plan.Plan) *Course {
	c := &Course{plan: p, needs: make([][]int, len(p.Changes)), phase: make([]uint8, len(p.Changes))}
	at := make(map[string]int, len(p.Changes))
	for i := range p.Changes {
		at[p.Changes[i].ID] = i
	}
	widened := map[string]bool{}
	for i := range p.Changes {
		ch := &p.Changes[i]
		for _, id := range ch.Needs {
			n, ok := at[id]
			if !ok {
				n = -1
			}
			c.needs[i] = append(c.needs[i], n)
		}
		widened[ch.App] = widened[ch.App] || ch.Effect == model.Widens
		switch {
		case ch.Effect != model.Narrows:
			c.phase[i] = giving
		case widened[ch.App]: // the plan's order lets it wait
			c.phase[i] = narrowingLate
		}
	}
	return c
}

// Next returns the numbers of the changes of one application that can be
// carried out together now, in the plan's order; nil when there are none left.
// They are Ready, and all that they need is Completed.
//
// It costs O(changes) a step, and there are at most as many steps as
// applications times phases times the length of the longest chain of needs.
func (c *Course) Next(states []decide.State) []int {
	best, app := uint8(phases), ""
	var out []int
	for i := range states {
		if states[i] != decide.Ready || c.phase[i] > best || !c.met(i, states) {
			continue
		}
		ch := &c.plan.Changes[i]
		if c.phase[i] < best {
			best, app, out = c.phase[i], ch.App, out[:0]
		}
		if ch.App == app {
			out = append(out, i)
		}
	}
	return out
}

// met reports whether all that a change needs is settled.
func (c *Course) met(i int, states []decide.State) bool {
	for _, n := range c.needs[i] {
		if n < 0 || states[n] != decide.Completed {
			return false
		}
	}
	return true
}

// Lack marks the changes as Lacking that are Ready and need something that will
// not come: that is neither Ready nor Completed. It returns their numbers.
func (c *Course) Lack(states []decide.State) (lacking []int) {
	for i := range states {
		if states[i] != decide.Ready {
			continue
		}
		for _, n := range c.needs[i] {
			if n < 0 || states[n] != decide.Completed && states[n] != decide.Ready {
				states[i] = decide.Lacking
				lacking = append(lacking, i)
				break
			}
		}
	}
	return lacking
}

// Missing returns the first thing that a change needs and that is not settled,
// or nil.
func (c *Course) Missing(i int, states []decide.State) *plan.Change {
	for _, n := range c.needs[i] {
		if n >= 0 && states[n] != decide.Completed {
			return &c.plan.Changes[n]
		}
	}
	return nil
}
