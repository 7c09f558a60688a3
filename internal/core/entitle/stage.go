// A stage is where a person stands on a day: not yet here, here,
// away, or gone. What is due to an account follows from it (see core/diff).

package entitle

import (
	"strings"

	"pravet/internal/core/day"
	"pravet/internal/core/model"
	"pravet/internal/core/table"
)

// A Stage is where a person stands.
type Stage uint8

// The stages.
const (
	Here Stage = iota
	NotYet
	Away
	Gone
)

func (s Stage) String() string { return [...]string{"here", "not yet", "away", "gone"}[s] }

// StagesOf returns the stage of every person on a day. starts and ends name the
// first and the last day that count; so do away.from and away.to, either of
// which may be missing. Values that are no dates count as missing: the readers
// of people have refused them. O(people).
func StagesOf(people *model.People, today day.Day) []Stage {
	out := make([]Stage, people.Len())
	away := marks(people.Column("away"), truthy)
	from := marks(
		people.Column("away.from"),
		func(v string) bool { return onDay(v, func(d day.Day) bool { return d > today }) },
	)
	to := marks(
		people.Column("away.to"),
		func(v string) bool { return onDay(v, func(d day.Day) bool { return d < today }) },
	)
	hasFrom, hasTo := marks(people.Column("away.from"), present), marks(people.Column("away.to"), present)
	later := marks(
		people.Column("starts"),
		func(v string) bool { return onDay(v, func(d day.Day) bool { return d > today }) },
	)
	over := marks(
		people.Column("ends"),
		func(v string) bool { return onDay(v, func(d day.Day) bool { return d < today }) },
	)
	for i := range out {
		switch {
		case over(i):
			out[i] = Gone
		case later(i):
			out[i] = NotYet
		case away(i), (hasFrom(i) || hasTo(i)) && !from(i) && !to(i):
			out[i] = Away
		}
	}
	return out
}

func truthy(v string) bool  { return strings.EqualFold(v, "true") }
func present(v string) bool { return v != "" }

func onDay(v string, f func(day.Day) bool) bool {
	d, err := day.Parse(v)
	return err == nil && f(d)
}

// marks evaluates a test over a column, once for each distinct value where
// the column knows them.
func marks(c *table.Column, test func(string) bool) func(int) bool {
	if c == nil {
		return func(int) bool { return false }
	}
	values, codes, ok := c.Codes()
	if !ok {
		return func(i int) bool { return test(c.At(i)) }
	}
	truth := make([]bool, len(values))
	for i, v := range values {
		truth[i] = test(v)
	}
	return func(i int) bool { return truth[codes[i]] }
}
