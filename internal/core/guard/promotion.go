package guard

import (
	"pravet/internal/core/fact"
)

// The guards of this file.
const (
	Promotion = "promotion"
)

var promotedFamily = family{
	guards: []Guard{
		{
			Name: Promotion, Lift: ForPlan,
			Raises: []fact.Kind{fact.NotPromoted},
			Holds: "a change to an application in live, until just that change was settled in the environment " +
				"that the application is promoted from; see [environments](environments.md)",
		},
	},
	each: (*checker).promotion,
}

// promotion holds each of an application's changes until just that was carried out in the environment
// that it is promoted from: settled there not too long ago, and not undone since. O(changes).
func (c *checker) promotion(a int) {
	p := c.Apps[a].Promote
	if p == nil {
		return
	}
	settled := c.Promoted[p.From]
	for _, i := range c.byApp[a] {
		f := fact.Fact{Kind: fact.NotPromoted, Other: p.From, Limit: p.Within.Words(), Place: p.Pos.String()}
		if on, ok := settled[c.Does(i)]; ok {
			if on.Add(p.Within) >= c.Clock {
				continue
			}
			f.On = on.String()
		}
		c.hold(i, Promotion, f)
	}
}
