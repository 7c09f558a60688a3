package account

import (
	"fmt"
	"slices"

	"pravet/internal/core/diff"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
)

// definition returns the definition of a thing, nil where there is none.
func definition(app *model.App, defs *model.Definitions, c *plan.Change) *model.Definition {
	if t := app.Thing(c.Thing.Kind, c.Thing.Name); t >= 0 && defs != nil {
		return defs.Of[t]
	}
	return nil
}

// Defined reports whether a change of a definition is to be seen, and if not, what is there instead.
func Defined(app *model.App, defs *model.Definitions, c *plan.Change) (ok bool, says string) {
	is := definition(app, defs, c)
	switch {
	case defs == nil, app.Thing(c.Thing.Kind, c.Thing.Name) < 0:
		return false, "the export shows no definitions"
	case c.Verb == model.Retire:
		return is == nil, "the definition is still there"
	case is == nil:
		return false, "the definition is not there"
	case c.Verb == model.Define:
		want := c.After.Definition()
		if want == nil {
			return false, "the plan does not say what it should be"
		}
		switch {
		case defs.Titles && is.Title != want.Title:
			return false, titled(is.Title, want.Title)
		case defs.Permissions && !slices.Equal(is.Permissions, want.Permissions):
			return false, fmt.Sprintf("its permissions are %q", is.Permissions)
		case defs.Brings && !slices.Equal(is.Brings, want.Brings):
			return false, fmt.Sprintf("it brings %q along", is.Brings)
		}
		return true, ""
	case c.Attribute == diff.Title:
		return !defs.Titles || is.Title == c.After.Text(), titled(is.Title, c.After.Text())
	}
	return moved(is, defs, c)
}

func titled(is, want string) string { return fmt.Sprintf("its title is %q and not %q", is, want) }

// moved looks at what a change adds to a list or takes from it, and not at the
// rest: a list that loses and gains is changed in two steps, and the first is done
// also when the second is.
func moved(is *model.Definition, defs *model.Definitions, c *plan.Change) (ok bool, says string) {
	list, shown := is.Permissions, defs.Permissions
	if c.Attribute == diff.Brings {
		list, shown = is.Brings, defs.Brings
	}
	before, after := c.Before.List(), c.After.List()
	left := model.Without(before, after)
	missing := model.Without(model.Without(after, before), list)
	switch {
	case !shown:
	case len(missing) > 0:
		return false, fmt.Sprintf("its %s do not have %q", c.Attribute, missing)
	case len(model.Without(left, list)) < len(left):
		return false, fmt.Sprintf("its %s are still %q", c.Attribute, list)
	}
	return true, ""
}

// DefinitionFits reports whether a change of a definition finds what it starts from.
func DefinitionFits(app *model.App, defs *model.Definitions, c *plan.Change) (ok bool, says string) {
	is := definition(app, defs, c)
	if is == nil {
		return false, "the definition is not there any more"
	}
	same := true
	switch c.Attribute {
	case diff.Title:
		same = is.Title == c.Before.Text()
	case diff.Permissions:
		same = slices.Equal(is.Permissions, c.Before.List())
	case diff.Brings:
		same = slices.Equal(is.Brings, c.Before.List())
	}
	return same, "somebody has changed the definition meanwhile"
}

// Define does a change of a definition to a copy of all of an application's.
func Define(app *model.App, defs *model.Definitions, c *plan.Change) *model.Definitions {
	t := app.Thing(c.Thing.Kind, c.Thing.Name)
	if t < 0 {
		return defs
	}
	out := *defs
	out.Of = slices.Clone(defs.Of)
	if c.Verb == model.Retire {
		out.Of[t] = nil
		return &out
	}
	d := model.Definition{Kind: c.Thing.Kind, Name: c.Thing.Name}
	if was := out.Of[t]; was != nil {
		d = *was
	}
	switch whole := c.After.Definition(); {
	case whole != nil:
		d.Title, d.Permissions, d.Brings = whole.Title, whole.Permissions, whole.Brings
	case c.Attribute == diff.Title:
		d.Title = c.After.Text()
	case c.Attribute == diff.Permissions:
		d.Permissions = changed(d.Permissions, c)
	case c.Attribute == diff.Brings:
		d.Brings = changed(d.Brings, c)
	}
	d.Along = app.Numbers(d.Brings)
	out.Of[t] = &d
	return &out
}

// changed is a list with what a change takes out of it and puts into it.
func changed(list []string, c *plan.Change) []string {
	before, after := c.Before.List(), c.After.List()
	list = append(model.Without(list, model.Without(before, after)), model.Without(after, before)...)
	slices.Sort(list)
	return slices.Compact(list)
}
