package show

import (
	"fmt"
	"strings"

	"pravet/internal/core/day"
	"pravet/internal/core/decide"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/core/words"
)

// TotalsLine says what a plan amounts to, in colour.
func TotalsLine(t plan.Totals) string { return totals(t, Effect, Alarm) }

func totals(t plan.Totals, effect func(effect model.Effect, text string) string, alarm func(string) string) string {
	line := model.Count(t.Changes, "change", "changes") + ": " + strings.Join([]string{
		effect(model.Widens, model.Count(t.Widens, "widens", "widen")+" access"),
		effect(model.Narrows, model.Count(t.Narrows, "narrows", "narrow")+" it"),
		effect(model.Keeps, model.Count(t.Keeps, "keeps", "keep")+" it"),
	}, ", ")
	if t.ForGood > 0 {
		line += "; " + alarm(model.Count(t.ForGood, "is", "are")+" for good")
	}
	if t.Held > 0 {
		line += "; " + alarm(model.Count(t.Held, "is", "are")+" held")
	}
	return line
}

// costs says what seats in use cost before and after.
func costs(c *plan.Cost) string {
	if c.Before == c.After {
		return fmt.Sprintf("%s %s/month, and as much after the plan", c.Before, c.Currency)
	}
	return fmt.Sprintf("%s %s/month, and %s after the plan", c.Before, c.Currency, c.After)
}

// earlier says who accepted a change in an earlier plan.
func earlier(x *decide.Carried) string {
	return fmt.Sprintf("accepted by %s on %s in plan %s: %s", words.Clean(x.By), x.On, x.Plan, words.Clean(x.Because))
}

// lifted says by which decision a guard does not hold a change.
func lifted(l *decide.Lift) string {
	text := "not held by " + l.Guard + ": lifted"
	if l.Until != day.None {
		text += " until " + l.Until.String()
	}
	if l.By != "" {
		text += " by " + words.Clean(l.By)
	}
	return text + ": " + words.Clean(l.Because)
}
