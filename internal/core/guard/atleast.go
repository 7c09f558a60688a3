package guard

import (
	"fmt"

	"pravet/internal/core/diff"
	"pravet/internal/core/model"
	"pravet/internal/core/reach"
)

// atLeast holds what would leave too few active holders of a thing, counted
// over effective access after the whole plan.
func (c *checker) atLeast(a int, st *reach.States) {
	app := c.Apps[a]
	for t := range app.Things {
		thing := &app.Things[t]
		if thing.AtLeast == 0 {
			continue
		}
		losers, more := st.Losing(a, int32(t))
		n := st.App(a).Active(c.Accounts[a], int32(t)) + more
		if n >= thing.AtLeast || len(losers) == 0 {
			continue
		}
		for _, i := range c.byApp[a] {
			ch := &c.Changes[i]
			if !narrows(ch) || !losers[ch.Key] {
				continue
			}
			if ch.Thing == diff.None || st.App(a).Brings(ch.Thing, int32(t)) {
				c.hold(i, AtLeast, "%s", tooFew(n, thing))
			}
		}
	}
}

func tooFew(n int, thing *model.Thing) string {
	return fmt.Sprintf("only %s of %s %s would stay; at least %d must", model.Count(n, "active holder", "active holders"), thing.Kind, thing.Name, thing.AtLeast)
}
