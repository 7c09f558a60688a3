package decide_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"pravet/internal/core/day"
	"pravet/internal/core/decide"
	"pravet/internal/core/guard"
	"pravet/internal/core/plan"
)

const today = day.Day(20000)

// sample is a plan in which b and c need a, d needs c, and e stands alone; g1
// holds d, and g1 and g2 hold e.
func sample() *plan.Plan {
	return &plan.Plan{ID: "p", Changes: []plan.Change{
		{ID: "a", App: "x"}, {ID: "b", App: "x", Needs: []string{"a"}}, {ID: "c", App: "x", Needs: []string{"a"}},
		{
			ID:    "d",
			App:   "x",
			Needs: []string{"c"},
			Holds: []plan.Hold{{Guard: "g1"}},
		}, {ID: "e", App: "y", Holds: []plan.Hold{{Guard: "g1"}, {Guard: "g2"}}},
	}}
}

func set(ids ...string) map[string]bool {
	out := map[string]bool{}
	for _, id := range ids {
		out[id] = true
	}
	return out
}

func TestWhatGoesAlongAndWhatFalls(t *testing.T) {
	for _, c := range []struct {
		chosen, needs, needing []string
	}{
		{[]string{"a"}, nil, []string{"b", "c", "d"}},
		{[]string{"d"}, []string{"a", "c"}, nil},
		{[]string{"c"}, []string{"a"}, []string{"d"}},
		{[]string{"e"}, nil, nil},
		{[]string{"b", "d"}, []string{"a", "c"}, nil},
		{[]string{"a", "b", "c", "d", "e"}, nil, nil},
	} {
		require.Equal(t, c.needs, decide.WithNeeds(sample(), set(c.chosen...)), "%v", c.chosen)
		require.Equal(t, c.needing, decide.WithNeeding(sample(), set(c.chosen...)), "%v", c.chosen)
	}
}

func TestARejectionSetsAsideWhatNeedsIt(t *testing.T) {
	for _, c := range []struct {
		rejections  []decide.Rejection
		left, aside string
	}{
		{nil, "abcde", ""},
		{[]decide.Rejection{{Change: "a", Until: day.None}}, "e", "abcd"},
		{[]decide.Rejection{{Change: "c", Until: today}}, "abe", "cd"},
		{[]decide.Rejection{{Change: "c", Until: today - 1}}, "abcde", ""},
		{[]decide.Rejection{{Change: "gone", Until: day.None}}, "abcde", ""},
		{[]decide.Rejection{{Change: "b", Until: day.None}, {Change: "e", Until: today + 1}}, "acd", "be"},
	} {
		left, aside := decide.SetAside(sample().Changes, c.rejections, today)
		got := ""
		for _, l := range left {
			got += sample().Changes[l].ID
		}
		require.Equal(t, c.left, got)
		got = ""
		for _, a := range aside {
			got += a.Change.ID
		}
		require.Equal(t, c.aside, got)
	}
	_, aside := decide.SetAside(
		sample().Changes,
		[]decide.Rejection{{Change: "c", Until: today, Because: "no", By: "Farah"}},
		today,
	)
	require.Equal(t, "no", aside[0].Because)
	require.Equal(t, "it needs c, which was rejected: no", aside[1].Because)
	require.Equal(t, "Farah", aside[1].By)
	require.Equal(t, today.String(), aside[1].Until)
}

func TestWhatMayBeCarriedOut(t *testing.T) {
	const (
		r, u, x, h, l, d = decide.Ready, decide.NotAccepted, decide.StateRejected, decide.Held, decide.Lacking, decide.Completed
	)
	g := func(guard, app, plan string, until day.Day) decide.Lift {
		return decide.Lift{Guard: guard, App: app, Plan: plan, Until: until}
	}
	for i, c := range []struct {
		standing decide.PlanDecisions
		want     []decide.State
	}{
		{decide.PlanDecisions{}, []decide.State{u, u, u, h, h}},
		{decide.PlanDecisions{All: true}, []decide.State{r, r, r, h, h}},
		{
			decide.PlanDecisions{All: true, Verdicts: map[string]decide.Verdict{"a": decide.Rejected}},
			[]decide.State{x, l, l, h, h},
		},
		{
			decide.PlanDecisions{Verdicts: map[string]decide.Verdict{"a": decide.Accepted, "c": decide.Accepted}},
			[]decide.State{r, u, r, h, h},
		},
		{decide.PlanDecisions{All: true, Done: map[string]bool{"a": true}}, []decide.State{d, r, r, h, h}},
		{decide.PlanDecisions{All: true, Done: map[string]bool{"a": false}}, []decide.State{r, r, r, h, h}}, // tried, and not settled
		{decide.PlanDecisions{All: true, Lifts: []decide.Lift{g("g1", "", "p", day.None)}}, []decide.State{r, r, r, r, h}},
		{
			decide.PlanDecisions{All: true, Lifts: []decide.Lift{g("g1", "", "", today), g("g2", "y", "", today)}},
			[]decide.State{r, r, r, r, r},
		},
		{decide.PlanDecisions{All: true, Lifts: []decide.Lift{g("g1", "x", "", today)}}, []decide.State{r, r, r, r, h}},
		{
			decide.PlanDecisions{All: true, Lifts: []decide.Lift{g("g1", "", "other", day.None), g("g1", "", "", today-1)}},
			[]decide.State{r, r, r, h, h},
		},
		{
			decide.PlanDecisions{
				All: true, Verdicts: map[string]decide.Verdict{"c": decide.Rejected},
				Lifts: []decide.Lift{g("g1", "", "", day.None)},
			},
			[]decide.State{r, r, x, l, h},
		},
	} {
		require.Equal(t, c.want, c.standing.Ready(sample(), today), fmt.Sprint("case ", i))
	}
}

// TestWhatWaitsIsAcceptedByItself: to accept the whole plan is not enough.
func TestWhatWaitsIsAcceptedByItself(t *testing.T) {
	p := &plan.Plan{ID: "p", Changes: []plan.Change{
		{ID: "a", Holds: []plan.Hold{{Guard: guard.Sensitive}}}, {ID: "b", Holds: []plan.Hold{{Guard: "seats"}}},
	}}
	whole := &decide.PlanDecisions{All: true}
	require.Equal(t, []decide.State{decide.Held, decide.Held}, whole.Ready(p, 20000))
	named := &decide.PlanDecisions{
		Verdicts: map[string]decide.Verdict{
			"a": decide.Accepted,
			"b": decide.Accepted,
		}, Named: map[string]bool{"a": true, "b": true},
	}
	require.Equal(t, []decide.State{decide.Ready, decide.Held}, named.Ready(p, 20000))
	along := &decide.PlanDecisions{Verdicts: map[string]decide.Verdict{"a": decide.Accepted}}
	require.Equal(t, decide.Held, along.Ready(p, 20000)[0])
}
