package stage_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"pravet/internal/core/day"
	"pravet/internal/core/model"
	"pravet/internal/core/stage"
)

// TestTheFirstAndTheLastDayCount on a day in the middle of months.
func TestTheFirstAndTheLastDayCount(t *testing.T) {
	today, err := day.Parse("2026-11-24")
	require.NoError(t, err)
	attrs := []string{"id", "starts", "ends", "away", "away.from", "away.to"}
	cases := []struct {
		starts, ends, away, from, to string
		want                         stage.Stage
	}{
		{want: stage.Here},
		{starts: "2026-11-24", want: stage.Here},
		{starts: "2026-11-25", want: stage.NotYet},
		{ends: "2026-11-24", want: stage.Here},
		{ends: "2026-11-23", want: stage.Gone},
		{starts: "2026-11-24", ends: "2026-11-24", want: stage.Here},
		{away: "true", want: stage.Away},
		{away: "TRUE", want: stage.Away},
		{away: "false", want: stage.Here},
		{from: "2026-11-24", want: stage.Away},
		{from: "2026-11-25", want: stage.Here},
		{to: "2026-11-24", want: stage.Away},
		{to: "2026-11-23", want: stage.Here},
		{from: "2026-11-01", to: "2026-11-30", want: stage.Away},
		{from: "2026-10-01", to: "2026-10-30", want: stage.Here},
		{ends: "2026-11-23", away: "true", want: stage.Gone},
		{starts: "2026-11-25", away: "true", want: stage.NotYet},
		{ends: "no date", want: stage.Here}, // the readers refuse it
	}
	for _, copies := range []int{1, 6000} { // few distinct values, and columns of many rows
		people := model.NewPeople()
		var numbers []int
		for _, a := range attrs {
			numbers = append(numbers, people.Attribute(a))
		}
		f := people.File("p.csv")
		for i := range copies * len(cases) {
			c := cases[i%len(cases)]
			people.Add(f, i+2, numbers, []string{fmt.Sprint(i), c.starts, c.ends, c.away, c.from, c.to})
		}
		people.Close()
		for i, got := range stage.Of(people, today) {
			require.Equal(t, cases[i%len(cases)].want, got, "%+v", cases[i%len(cases)])
		}
	}
}
