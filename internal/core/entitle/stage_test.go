package entitle_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"pravet/internal/core/day"
	"pravet/internal/core/entitle"
	"pravet/internal/core/model"
)

// TestTheFirstAndTheLastDayCount on a day in the middle of months.
func TestTheFirstAndTheLastDayCount(t *testing.T) {
	today, err := day.Parse("2026-11-24")
	require.NoError(t, err)
	attrs := []string{"id", "starts", "ends", "away", "away.from", "away.to"}
	cases := []struct {
		starts, ends, away, from, to string
		want                         entitle.Stage
	}{
		{want: entitle.Here},
		{starts: "2026-11-24", want: entitle.Here},
		{starts: "2026-11-25", want: entitle.NotYet},
		{ends: "2026-11-24", want: entitle.Here},
		{ends: "2026-11-23", want: entitle.Gone},
		{starts: "2026-11-24", ends: "2026-11-24", want: entitle.Here},
		{away: "true", want: entitle.Away},
		{away: "TRUE", want: entitle.Away},
		{away: "false", want: entitle.Here},
		{from: "2026-11-24", want: entitle.Away},
		{from: "2026-11-25", want: entitle.Here},
		{to: "2026-11-24", want: entitle.Away},
		{to: "2026-11-23", want: entitle.Here},
		{from: "2026-11-01", to: "2026-11-30", want: entitle.Away},
		{from: "2026-10-01", to: "2026-10-30", want: entitle.Here},
		{ends: "2026-11-23", away: "true", want: entitle.Gone},
		{starts: "2026-11-25", away: "true", want: entitle.NotYet},
		{ends: "no date", want: entitle.Here}, // the readers refuse it
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
		for i, got := range entitle.StagesOf(people, today) {
			require.Equal(t, cases[i%len(cases)].want, got, "%+v", cases[i%len(cases)])
		}
	}
}
