package model

import (
	"fmt"
	"math"

	"pravet/internal/core/day"
)

// A Limit is a count, or a percentage of a whole.
type Limit struct {
	Count   int
	Percent float64
	IsPct   bool
	Set     bool
	Pos     Pos
}

// Of returns how many of whole the limit allows: a percentage is rounded down,
// but allows one, unless it is 0, so that a small application is not held by
// every change.
func (l Limit) Of(whole int) int {
	if !l.IsPct {
		return l.Count
	}
	const slip = 1e-9 // 1.1 % of 3,000 is 33, whatever binary fractions make of it
	n := int(math.Floor(l.Percent*float64(whole)/100 + slip))
	if l.Percent > 0 {
		n = max(n, 1)
	}
	return n
}

func (l Limit) String() string {
	if l.IsPct {
		return fmt.Sprintf("%g%%", l.Percent)
	}
	return fmt.Sprint(l.Count)
}

// Or returns l, or other where l is not set.
func (l Limit) Or(other Limit) Limit {
	if l.Set {
		return l
	}
	return other
}

// Guards are the limits of an application. A limit that is not set takes the
// organization's, and then Pravet's own (DefaultGuards).
type Guards struct {
	Removals     Limit        // accounts removed
	Suspensions  Limit        // accounts suspended, of the open ones
	Narrowing    Limit        // accounts that lose something, of all
	Widening     Limit        // accounts that gain something, of all; not set: no limit
	NewHolders   Limit        // new holders of one thing, of those who have it; not set: no limit
	Sensitive    Limit        // new holders of sensitive things, of all accounts; not set: no limit
	FirstHolder  Limit        // holders of things that nobody had, of all accounts; not set: no limit
	ExportShrink Limit        // accounts fewer than in the export before
	RosterShrink Limit        // people fewer than in the plan before
	RemovalWait  day.Duration // since when an account must have been blocked that is removed
	WaitSet      bool
	ExportAge    day.Duration
	ExportAgeSet bool
}

// DefaultGuards are the limits where no file sets any.
func DefaultGuards() Guards {
	pct := func(p float64) Limit { return Limit{Percent: p, IsPct: true, Set: true} }
	return Guards{
		Removals:     Limit{Count: 2, Set: true},
		Suspensions:  pct(10),
		Narrowing:    pct(25),
		ExportShrink: pct(20),
		RosterShrink: pct(10),
		ExportAge:    day.Duration{Days: 1},
		ExportAgeSet: true,
		RemovalWait:  day.Duration{Days: 7},
		WaitSet:      true,
	}
}

// Or fills what g does not set from other.
func (g Guards) Or(other Guards) Guards {
	g.Removals = g.Removals.Or(other.Removals)
	g.Suspensions = g.Suspensions.Or(other.Suspensions)
	g.Narrowing = g.Narrowing.Or(other.Narrowing)
	g.Widening = g.Widening.Or(other.Widening)
	g.NewHolders = g.NewHolders.Or(other.NewHolders)
	g.Sensitive = g.Sensitive.Or(other.Sensitive)
	g.FirstHolder = g.FirstHolder.Or(other.FirstHolder)
	g.ExportShrink = g.ExportShrink.Or(other.ExportShrink)
	g.RosterShrink = g.RosterShrink.Or(other.RosterShrink)
	if !g.WaitSet {
		g.RemovalWait, g.WaitSet = other.RemovalWait, other.WaitSet
	}
	if !g.ExportAgeSet {
		g.ExportAge, g.ExportAgeSet = other.ExportAge, other.ExportAgeSet
	}
	return g
}
