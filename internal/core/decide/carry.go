package decide

import (
	"slices"
	"strings"

	"pravet/internal/core/plan"
)

// A Carried is an acceptance of a change in another plan that counts in this one,
// for the change is the same there: by the same cause, and held by nothing new.
type Carried struct {
	Plan, By, On, Because string // On is a day
}

// Mark is what a change was when it was decided about, besides its id: what caused
// it, wherever in a file that stood, and which guards held it.
func Mark(p *plan.Plan, c *plan.Change) string {
	parts := []string{"mark"}
	for _, r := range p.Because(c) {
		parts = append(parts, r.File, r.Says)
	}
	guards := make([]string, len(c.Holds))
	for i := range c.Holds {
		guards[i] = c.Holds[i].Guard
	}
	return plan.Name(parts...) + " " + strings.Join(guards, ",")
}

// SameAs reports whether a change is still what it was under a mark: nothing holds it
// that did not hold it then, and its cause is the same.
func SameAs(mark string, p *plan.Plan, c *plan.Change) bool {
	was, guards, _ := strings.Cut(mark, " ")
	is, _, _ := strings.Cut(Mark(p, c), " ")
	held := strings.Split(guards, ",")
	return was == is && !slices.ContainsFunc(c.Holds, func(h plan.Hold) bool { return !slices.Contains(held, h.Guard) })
}
