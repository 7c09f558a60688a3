package decisions_test

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"pravet/internal/core/day"
	"pravet/internal/core/decide"
	"pravet/internal/core/plan"
	"pravet/internal/decisions"
	"pravet/internal/ledger"
)

// TestTheLatestDecisionCounts is a table of histories: decisions in their
// order, what the next draft sets aside, and what may be carried out of plan p
// with the changes a, b and c (c is in other plans too).
func TestTheLatestDecisionCounts(t *testing.T) {
	today, err := day.Parse("2026-11-24")
	require.NoError(t, err)
	accept := func(p string, ids ...string) ledger.Decision {
		return ledger.Decision{Plan: p, Verdict: "accept", All: len(ids) == 0, Changes: ids}
	}
	reject := func(p string, ids ...string) ledger.Decision {
		d := ledger.Decision{Plan: p, Verdict: "reject", All: len(ids) == 0, Changes: ids}
		if d.All {
			d.Changes = []string{"a", "b", "c"}
		}
		return d
	}
	until := func(d ledger.Decision, last string) ledger.Decision {
		d.Until = last
		return d
	}
	standing := func(d ledger.Decision) ledger.Decision {
		d.Standing = true
		return d
	}
	const (
		r, u, x = decide.Ready, decide.NotAccepted, decide.StateRejected
	)
	for _, c := range []struct {
		name      string
		decisions []ledger.Decision
		aside     []string
		states    []decide.State
	}{
		{"nothing", nil, nil, []decide.State{u, u, u}},
		{"one accepted", []ledger.Decision{accept("p", "a")}, nil, []decide.State{r, u, u}},
		{"all accepted", []ledger.Decision{accept("p")}, nil, []decide.State{r, r, r}},
		{
			"one rejected, the rest accepted", []ledger.Decision{reject("p", "a"), accept("p")}, []string{"a"},
			[]decide.State{x, r, r},
		},
		{
			"all accepted, then one rejected", []ledger.Decision{accept("p"), reject("p", "a")}, []string{"a"},
			[]decide.State{x, r, r},
		},
		{
			"rejected, then accepted by itself", []ledger.Decision{reject("p", "a"), accept("p", "a")}, nil,
			[]decide.State{r, u, u},
		},
		{
			"accepted, then rejected by itself", []ledger.Decision{accept("p", "a"), reject("p", "a")}, []string{"a"},
			[]decide.State{x, u, u},
		},
		{"all rejected", []ledger.Decision{reject("p")}, []string{"a", "b", "c"}, []decide.State{x, x, x}},
		{"all rejected, then all accepted", []ledger.Decision{reject("p"), accept("p")}, nil, []decide.State{r, r, r}},
		{
			"all accepted, then all rejected", []ledger.Decision{accept("p"), reject("p")}, []string{"a", "b", "c"},
			[]decide.State{x, x, x},
		},
		{
			"all rejected, one by itself again, all accepted",
			[]ledger.Decision{reject("p"), reject("p", "b"), accept("p")}, []string{"b"}, []decide.State{r, x, r},
		},
		{
			"rejected in another plan", []ledger.Decision{accept("p"), reject("q", "c")}, []string{"c"},
			[]decide.State{r, r, x},
		},
		{
			"and accepted there again", []ledger.Decision{accept("p"), reject("q", "c"), accept("q", "c")}, nil,
			[]decide.State{r, r, r},
		},
		{"accepted in another plan only", []ledger.Decision{accept("q", "c")}, nil, []decide.State{u, u, u}},
		{
			"another plan accepted as a whole", []ledger.Decision{reject("p", "c"), accept("q")}, []string{"c"},
			[]decide.State{u, u, x},
		},
		{
			"until today", []ledger.Decision{until(reject("q", "c"), "2026-11-24"), accept("p")},
			[]string{"c until 2026-11-24"}, []decide.State{r, r, x},
		},
		{
			"until yesterday", []ledger.Decision{until(reject("q", "c"), "2026-11-23"), accept("p")},
			[]string{"c until 2026-11-23"}, []decide.State{r, r, r},
		},
		{"in standing.yaml", []ledger.Decision{standing(reject("p", "a")), accept("p")}, nil, []decide.State{x, r, r}},
		{
			"in standing.yaml by another plan", []ledger.Decision{standing(reject("q", "c")), accept("p")}, nil,
			[]decide.State{r, r, r},
		},
	} {
		t.Run(c.name, func(t *testing.T) {
			l, err := ledger.Open(t.TempDir(), ledger.Options{By: "Farah", Now: today.Time})
			require.NoError(t, err)
			defer l.Close()
			for _, d := range c.decisions {
				require.NoError(t, l.Append(ledger.Record{Kind: ledger.Decided, Subject: d.Plan, Body: d}))
			}
			rejections, err := decisions.Rejections(l, decisions.Stood{})
			require.NoError(t, err)
			var aside []string
			for _, r := range rejections {
				s := r.Change
				if r.Until != day.None {
					s += fmt.Sprint(" until ", r.Until)
				}
				require.Equal(t, "Farah", r.By)
				aside = append(aside, s)
			}
			slices.Sort(aside)
			require.Equal(t, c.aside, aside)
			p := &plan.Plan{ID: "p", Changes: []plan.Change{{ID: "a"}, {ID: "b"}, {ID: "c"}}}
			s, err := decisions.Read(l, decisions.Stood{}, p, today, nil)
			require.NoError(t, err)
			require.Equal(t, c.states, s.Ready(p, today))
		})
	}
}

// TestOnlyRunsOfThePlanTellWhatIsDone.
func TestOnlyRunsOfThePlanTellWhatIsDone(t *testing.T) {
	l, err := ledger.Open(t.TempDir(), ledger.Options{By: "Farah", Now: time.Now})
	require.NoError(t, err)
	defer l.Close()
	outcome := func(run, p, change string, settled bool) ledger.Record {
		return ledger.Record{
			Kind:    ledger.Outcome,
			Subject: run,
			Body:    ledger.ChangeOutcome{Run: run, Plan: p, Change: change, Settled: settled},
		}
	}
	run := func(run, p string) ledger.Record {
		return ledger.Record{Kind: ledger.RunStarted, Subject: run, Body: ledger.Run{Run: run, Plan: p}}
	}
	require.NoError(
		t,
		l.Append(
			run("run-1", "q"),
			outcome("run-1", "q", "a", true),
			run("run-2", "p"),
			outcome("run-2", "p", "b", true),
			outcome("run-2", "p", "c", false),
		),
	)
	p := &plan.Plan{ID: "p", Changes: []plan.Change{{ID: "a"}, {ID: "b"}, {ID: "c"}}}
	s, err := decisions.Read(l, decisions.Stood{}, p, 20000, nil)
	require.NoError(t, err)
	s.All = true
	require.Equal(t, []decide.State{decide.Ready, decide.Completed, decide.Ready}, s.Ready(p, 20000))
}
