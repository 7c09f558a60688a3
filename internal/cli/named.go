package cli

import (
	"fmt"

	"pravet/internal/desk"
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
		return nil, usage(sayWhichPlan(args[0]))
	}
	return append([]string{last}, args...), nil
}

// sayWhichPlan is a number or a cause without a plan that was just shown.
func sayWhichPlan(word string) error {
	return fmt.Errorf(
		"which plan? Numbers and causes alone are those of the plan that was just shown on this terminal; "+
			"otherwise name it, for example: pravet accept 2w57bede %s", word,
	)
}
