package carry

import (
	"fmt"
	"slices"

	"pravet/internal/core/diff"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
)

// definition reports whether a change of a definition is to be seen.
func (r *readBack) definition(verb model.Verb, c *plan.Change) (ok bool, says string) {
	t := r.app.Thing(c.Thing.Kind, c.Thing.Name)
	if t < 0 || r.accounts.Definitions == nil {
		return false, "the export shows no definitions"
	}
	is := r.accounts.Definitions.Of[t]
	switch {
	case verb == model.Retire && is != nil:
		return false, "the definition is still there"
	case verb == model.Retire:
		return true, ""
	case is == nil:
		return false, "the definition is not there"
	case verb == model.Define:
		want, ok := c.After.(map[string]any)
		if !ok {
			return false, "the plan does not say what it should be"
		}
		for _, field := range []string{diff.Title, diff.Permissions, diff.Brings} {
			if ok, says := r.field(is, field, want[field]); !ok {
				return false, says
			}
		}
		return true, ""
	}
	if c.Attribute == diff.Title {
		return r.field(is, c.Attribute, c.After)
	}
	return r.moved(is, c)
}

// moved looks at what a change adds to a list or takes from it, and not at the
// rest: a list that loses and gains is changed in two steps, and the first is done
// also when the second is.
func (r *readBack) moved(is *model.Definition, c *plan.Change) (ok bool, says string) {
	list, shown := is.Permissions, r.accounts.Definitions.Permissions
	if c.Attribute == diff.Brings {
		list, shown = is.Brings, r.accounts.Definitions.Brings
	}
	before, after := plan.Texts(c.Before), plan.Texts(c.After)
	left := model.Without(before, after)
	lacks := model.Without(model.Without(after, before), list)
	switch {
	case !shown:
	case len(lacks) > 0:
		return false, fmt.Sprintf("its %s lack %q", c.Attribute, lacks)
	case len(model.Without(left, list)) < len(left):
		return false, fmt.Sprintf("its %s are still %q", c.Attribute, list)
	}
	return true, ""
}

// field compares one attribute of a definition, where the export shows it.
func (r *readBack) field(is *model.Definition, field string, want any) (ok bool, says string) {
	defs := r.accounts.Definitions
	switch field {
	case diff.Title:
		if text, _ := want.(string); defs.Titles && is.Title != text {
			return false, fmt.Sprintf("its title is %q and not %q", is.Title, text)
		}
		return true, ""
	case diff.Permissions:
		return !defs.Permissions ||
				slices.Equal(is.Permissions, plan.Texts(want)), fmt.Sprintf(
				"its permissions are %q",
				is.Permissions,
			)
	}
	return !defs.Brings || slices.Equal(is.Brings, plan.Texts(want)), fmt.Sprintf("it brings %q along", is.Brings)
}
