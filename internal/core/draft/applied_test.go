package draft_test

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"pravet/internal/core/model"
	"pravet/internal/core/plan"
)

func TestApplyingAPlanLeavesNothingToDo(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		w := drawWorld(t, false)
		p := w.draft(t, nil)
		for range 2 { // what belongs to nobody is blocked by one plan, and removed by the next
			for i := range p.Changes {
				if len(p.Changes[i].Holds) == 0 {
					w.apply(t, &p.Changes[i])
				}
			}
			p = w.draft(t, nil)
		}
		for _, c := range p.Changes {
			require.NotEmpty(t, c.Holds, "%s %s is left", c.Verb, c.Account)
		}
	})
}

func TestAnyAcceptedPartLeavesExactlyTheRest(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		w := drawWorld(t, false)
		for _, app := range w.apps { // what an export does not show may be granted again
			app.Effective = [model.Kinds]bool{}
			if app.Strays == "remove" {
				app.Strays = "suspend" // a removal comes only after that
			}
		}
		p := w.draft(t, nil)
		done := map[string]bool{}
		var rest []plan.Change
		for i := range p.Changes {
			c := &p.Changes[i]
			able := !slices.ContainsFunc(c.Needs, func(n string) bool { return !done[n] })
			if able && len(c.Holds) == 0 && rapid.Bool().Draw(t, "accept") {
				w.apply(t, c)
				done[c.ID] = true
			} else {
				rest = append(rest, *c)
			}
		}
		require.Equal(t, ids(rest), ids(w.draft(t, nil).Changes))
	})
}

func TestTheOrderOfRowsDoesNotMatter(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		w := drawWorld(t, true)
		straight, err := w.draft(t, nil).Seal()
		require.NoError(t, err)
		shuffled, err := w.draft(t, func(n int) []int {
			rows := make([]int, n)
			for i := range rows {
				rows[i] = i
			}
			return rapid.Permutation(rows).Draw(t, "rows")
		}).Seal()
		require.NoError(t, err)
		require.Equal(t, string(straight.Bytes()), string(shuffled.Bytes()))
	})
}

func TestNeedsComeFirstAndSeatsAreNeverExceeded(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		w := drawWorld(t, true)
		before := w.used()
		p := w.draft(t, nil)
		done := map[string]bool{}
		for i := range p.Changes {
			c := &p.Changes[i]
			for _, n := range c.Needs {
				require.True(
					t,
					slices.ContainsFunc(p.Changes[:i], func(x plan.Change) bool { return x.ID == n }),
					"%s needs what comes later",
					c.ID,
				)
			}
			if len(c.Holds) > 0 || slices.ContainsFunc(c.Needs, func(n string) bool { return !done[n] }) {
				continue
			}
			w.apply(t, c)
			done[c.ID] = true
			for license, n := range w.used() {
				require.LessOrEqual(
					t,
					n,
					max(before[license], w.seats(license)),
					"%s after %s %s",
					license,
					c.Verb,
					c.Account,
				)
			}
		}
	})
}

// used counts the accounts that have each license with seats, also by what
// brings it along.
func (w *world) used() map[string]int {
	out := map[string]int{}
	for a, app := range w.apps {
		for _, acc := range w.state[a] {
			held := numbers(app, acc.held)
			all := append(w.as(a).Along(held...), held...)
			for i, th := range app.Things {
				if th.Seats >= 0 && slices.Contains(all, int32(i)) {
					out[app.ID+"/"+th.Name]++
				}
			}
		}
	}
	return out
}

func (w *world) seats(license string) int {
	for _, app := range w.apps {
		for _, th := range app.Things {
			if app.ID+"/"+th.Name == license {
				return th.Seats
			}
		}
	}
	return -1
}
