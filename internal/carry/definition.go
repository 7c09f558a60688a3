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
	return r.field(is, c.Attribute, c.After)
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
