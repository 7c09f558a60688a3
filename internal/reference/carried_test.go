package reference

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"pravet/internal/core/plan"
	"pravet/internal/core/words"
	"pravet/internal/decisions"
)

// TestAnAcceptanceIsOfWhatWasShown accepts half of a plan's changes, edits the files, and drafts anew, with
// acceptances that carry over: of the new plan just those are accepted of which a reader is shown the very
// same as when they were accepted.
func TestAnAcceptanceIsOfWhatWasShown(t *testing.T) {
	carried, lost := 0, 0
	each(t, 60, func(t *testing.T, seed uint64) string {
		b := open(t, seed, func(w *world) { w.more = map[string]string{"pravet.yaml": "acceptances: P3D\n"} })
		defer b.close()
		before := b.draft(t)
		_, err := before.Seal()
		require.NoError(t, err)
		b.record(t, before)
		m := &decisions.Maker{Ledger: b.ledger, Repo: b.state(t).Repo, Plan: before, Today: b.day, By: "Farah"}
		choice := decisions.Choice{Changes: map[string]bool{}}
		for i := range before.Changes {
			if i%2 == 0 {
				choice.Changes[before.Changes[i].ID] = true
			}
		}
		if len(choice.Changes) == 0 {
			return ""
		}
		made, err := m.Accept(context.Background(), choice, decisions.Lifts{}, "agreed")
		require.NoError(t, err)
		accepted := map[string]seen{}
		for i := range before.Changes {
			c := &before.Changes[i]
			if slices.Contains(made.Changes, c.ID) || slices.Contains(made.Along, c.ID) {
				accepted[c.ID] = shown(before, c)
			}
		}
		b.edited()
		b.write(t, b.dir)
		after := b.draft(t)
		_, err = after.Seal()
		require.NoError(t, err)
		b.record(t, after)
		if after.ID == before.ID {
			return ""
		}
		s, err := decisions.Read(b.ledger, decisions.Of(b.state(t).Repo), after, b.day, nil)
		require.NoError(t, err)
		said := ""
		for i := range after.Changes {
			c := &after.Changes[i]
			was, known := accepted[c.ID]
			now := shown(after, c)
			same := known && was.text == now.text && now.heldWithin(was)
			switch {
			case s.Accepts(c) && !same:
				said += fmt.Sprintf("accepted, and shown otherwise:\n  %s\n  %s\n", was, now)
			case !s.Accepts(c) && same && slices.Contains(made.Changes, c.ID): // what came along may have nothing to come along with
				said += fmt.Sprintf("shown the same, and not accepted:\n  %s\n", was)
			case same:
				carried++
			case known:
				lost++
			}
		}
		return said
	})
	require.NotZero(t, carried, "nothing carries over in any world")
	require.NotZero(t, lost, "nothing is shown otherwise in any world")
}

// seen is what a reader of a plan is shown of a change, and by what it is held.
type seen struct {
	text  string
	holds []string
}

// heldWithin reports whether nothing holds a change that did not hold it before.
func (s seen) heldWithin(before seen) bool {
	return !slices.ContainsFunc(s.holds, func(h string) bool { return !slices.Contains(before.holds, h) })
}

func shown(p *plan.Plan, c *plan.Change) (s seen) {
	parts := []string{c.Effect.String(), words.Sentence(p, c), words.Means(c), fmt.Sprint(c.ForGood, c.Sensitive(), c.First)}
	for _, r := range p.Because(c) {
		parts = append(parts, r.File+" "+r.Says)
	}
	for _, h := range c.Holds {
		s.holds = append(s.holds, h.Guard+": "+h.Says)
	}
	s.text = strings.Join(parts, "; ")
	return s
}
