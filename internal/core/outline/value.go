package outline

import (
	"fmt"

	"pravet/internal/core/plan"
	"pravet/internal/core/table"
)

// Values are those of an attribute of a change, as a filter over changes knows it; only guards may be several. known is false
// for an attribute that a change does not have by itself: one of its person, its cause, what was decided about it.
func Values(p *plan.Plan, c *plan.Change, attr string) (values []string, known bool) {
	one := func(v string) ([]string, bool) {
		if v == "" {
			return nil, true
		}
		return []string{v}, true
	}
	switch table.Fold(attr) {
	case "id":
		return one(c.ID)
	case "app":
		return one(c.App)
	case "verb":
		return one(c.Verb.String())
	case "effect":
		return one(c.Effect.String())
	case "account":
		return one(c.Account)
	case "person":
		return one(c.Person)
	case "name":
		return one(p.People[c.Person])
	case "kind":
		return one(c.Address().Kind)
	case "thing":
		return one(c.Address().Name)
	case "attribute":
		return one(c.Attribute)
	case "before":
		return one(c.Before.Text())
	case "after":
		return one(c.After.Text())
	case "forgood":
		return one(fmt.Sprint(c.ForGood))
	case "held":
		return one(fmt.Sprint(len(c.Holds) > 0))
	case "kit":
		return one(Kit(p, c))
	case "sensitive":
		return one(fmt.Sprint(c.Sensitive()))
	case "first":
		return one(fmt.Sprint(c.First))
	case "guard":
		for i := range c.Holds {
			values = append(values, c.Holds[i].Guard)
		}
		return values, true
	}
	return nil, false
}
