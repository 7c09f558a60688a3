package cli

import (
	"pravet/internal/desk"
	"pravet/internal/say"
)

// withPlan puts the plan that was shown last before words that name changes by
// number, cause or fold only. That is for someone who sees it: a script names its plan.
func (c *program) withPlan(args []string) ([]string, error) {
	if len(args) == 0 || !desk.Numbered(args[0]) {
		return args, nil
	}
	d, err := c.desk()
	if err != nil {
		return nil, err
	}
	last := c.shownLast(d.Dir)
	if !c.Terminal || last == "" {
		return nil, usage(say.WhichPlan(args[0]))
	}
	return append([]string{last}, args...), nil
}
