package guard

import (
	"pravet/internal/core/day"
	"pravet/internal/core/fact"
)

// promotion holds all of an application's changes until the same desired state was carried out
// and settled in the environment that it is promoted from, not too long ago.
func (c *checker) promotion(a int) {
	p := c.Apps[a].Promote
	if p == nil {
		return
	}
	f := fact.Fact{Kind: fact.NotPromoted, Other: p.From, Limit: p.Within.Words(), Place: p.Pos.String()}
	if on := c.Promoted[a]; on != day.None {
		if on.Add(p.Within) >= c.Clock {
			return
		}
		f.On = on.String()
	}
	c.holdAll(a, every, Promotion, f)
}
