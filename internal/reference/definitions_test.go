package reference

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
)

// A definition is what an application says that a group or role is.
type definition struct {
	key, title          string
	permissions, brings []string // sorted
}

// within is what a thing brings by the catalog, with groups within groups as a
// SCIM application has them: that is its own to say.
func (a *app) within(t thing) (out []string) {
	if a.format != "scim" || kind(t.key) != "group" {
		return t.brings
	}
	for _, k := range t.brings {
		if kind(k) != "group" {
			out = append(out, k)
		}
	}
	for _, n := range a.nested {
		if n[0] == t.key {
			out = append(out, n[1])
		}
	}
	return out
}

// catalog is some things and all that they bring along as the files have it.
func (a *app) catalog(keys []string) []string {
	return a.reach(keys, func(t thing) []string { return t.brings })
}

func (a *app) definition(key string) *definition {
	for i := range a.defined {
		if a.defined[i].key == key {
			return &a.defined[i]
		}
	}
	return nil
}

// now is what a thing brings along by itself as the application has it.
func (a *app) now(t thing) []string {
	if !a.defs || !t.define {
		return a.within(t)
	}
	if d := a.definition(t.key); d != nil {
		return d.brings
	}
	return nil
}

// then is what it brings once our own definitions are as the files have them. What
// is to be retired brings what it does, as long as it is there.
func (a *app) then(t thing) []string {
	if d := a.definition(t.key); a.defs && t.retire && d != nil {
		return d.brings
	}
	return a.within(t)
}

// between is what it brings once the plan has taken from definitions, and not yet
// given.
func (a *app) between(t thing) []string {
	out := a.now(t)
	for _, c := range a.early {
		if c.thing == t.key {
			out = less(out, c.moved)
		}
	}
	return out
}

// planned is what some things give in the end, with all that they bring along, after a plan;
// meanwhile is the same while it takes from definitions and has not yet given.
func (a *app) planned(keys []string) []string { return a.after.along(keys) }

func (a *app) meanwhile(keys []string) []string {
	return a.reach(keys, func(t thing) []string { return common(a.now(t), a.after.now(t)) })
}

func common(x, y []string) []string {
	return slices.DeleteFunc(slices.Clone(x), func(k string) bool { return !slices.Contains(y, k) })
}

// reach is some things and all that they bring along, to any depth.
func (a *app) reach(keys []string, brings func(thing) []string) (out []string) {
	for _, k := range keys {
		if slices.Contains(out, k) {
			continue
		}
		out = append(out, k)
		for _, t := range a.things {
			if t.key == k {
				for _, x := range a.reach(brings(t), brings) {
					if !slices.Contains(out, x) {
						out = append(out, x)
					}
				}
			}
		}
	}
	return out
}

func (a *app) thing(key string) thing {
	for _, t := range a.things {
		if t.key == key {
			return t
		}
	}
	return thing{}
}

// redefine finds the changes of an application's definitions.
func (w *world) redefine(a *app) (out []*change) {
	if !a.defs {
		return nil
	}
	for _, t := range a.things {
		if !t.define {
			continue
		}
		add := func(c change) {
			c.app, c.thing, c.effect = a.id, t.key, "keeps"
			out = append(out, &c)
		}
		d := a.definition(t.key)
		switch {
		case d == nil && t.retire:
		case d == nil:
			add(change{verb: "define", sense: 1, moved: t.brings})
		case t.retire:
			add(change{verb: "retire"})
		default:
			if d.title != t.title {
				add(change{verb: "redefine", attribute: "title", before: d.title, after: t.title})
			}
			lists := func(attribute string, is, want []string) {
				left, instead := common(is, want), []string(nil)
				if come := less(want, is); attribute == "brings" && len(come) > 0 {
					// What comes along with what it brings from now on is exchanged for that in one change.
					for _, k := range less(is, want) {
						if slices.Contains(a.due(come), k) && !slices.Contains(a.along(common(is, want)), k) {
							instead = append(instead, k)
						}
					}
					left = append(slices.Clone(left), instead...)
				}
				text := func(list []string) string { return strings.Join(slices.Sorted(slices.Values(list)), ",") }
				if gone := less(is, left); len(gone) > 0 {
					add(change{
						verb: "redefine", attribute: attribute, before: text(is), after: text(left), sense: -1,
						moved: gone,
					})
				}
				if more := less(want, left); len(more) > 0 {
					add(change{
						verb: "redefine", attribute: attribute, before: text(left), after: text(want), sense: 1,
						moved: more, instead: instead,
					})
				}
			}
			lists("permissions", d.permissions, t.permissions)
			lists("brings", d.brings, t.brings)
		}
	}
	return out
}

func less(list, others []string) []string {
	return slices.DeleteFunc(slices.Clone(list), func(k string) bool { return slices.Contains(others, k) })
}

// ofThing reports whether a change is one of a definition, bringing whether it is
// one of what comes along.
func (c *change) ofThing() bool {
	return slices.Contains([]string{"define", "redefine", "retire"}, c.verb)
}

func (c *change) bringing() bool { return c.verb == "define" || c.attribute == "brings" }

// through lists the accounts that gain or lose something by a change of a
// definition; those that cannot sign in are left out unless blocked is said.
func (w *world) through(c *change, changes []*change, blocked bool) (out []row) {
	a := w.app(c.app)
	whole := w.settled(changes).app(c.app)
	for _, r := range a.rows {
		after, there := whole.row(w.name(changes, c.app, a.account(r)))
		opened := r.open && there && after.open
		if !blocked && !opened || !slices.Contains(a.along(r.held), c.thing) {
			continue
		}
		if !there {
			after = row{}
		}
		losesMore := c.bringing() && c.sense < 0
		if !losesMore && !slices.Contains(a.planned(after.held), c.thing) {
			continue // it goes with the thing
		}
		moves := false
		switch {
		case !c.bringing():
			moves = c.sense != 0
		case c.sense > 0:
			moves = len(less(a.planned(c.moved), a.along(r.held))) > 0
		case len(c.waits) > 0:
			moves = len(less(a.along(c.moved), a.planned(r.held))) > 0
		default:
			moves = len(less(a.along(c.moved), a.meanwhile(r.held))) > 0
		}
		if moves {
			out = append(out, r)
		}
	}
	return out
}

// settled is the world after some changes, but with all definitions that are to be
// retired still there.
func (w *world) settled(changes []*change) *world {
	var but []*change
	for _, c := range changes {
		if c.verb != "retire" {
			but = append(but, c)
		}
	}
	return w.after(but)
}

// belong finds what of the definitions takes something that others give back to everybody who has it: it
// waits for those, so that nobody is without it. What takes something from anybody comes first.
func (w *world) belong(changes []*change) {
	for _, c := range changes {
		taken := c.instead
		if c.sense < 0 {
			taken = c.moved
		}
		if c.verb != "redefine" || c.attribute != "brings" || len(taken) == 0 {
			continue
		}
		a, whole := w.app(c.app), true
		alone := func(t thing) []string {
			out := a.now(t)
			if t.key == c.thing {
				out = split(c.after)
			}
			return out
		}
		var waits []*change
		for _, r := range a.rows {
			if !slices.Contains(a.along(r.held), c.thing) {
				continue
			}
			for _, k := range less(a.along(taken), a.reach(r.held, alone)) {
				found := false
				for _, o := range changes {
					gives := a.planned(o.moved)
					if o.app == c.app && o != c && o.bringing() && o.sense > 0 && slices.Contains(a.planned(r.held), o.thing) &&
						!slices.Contains(gives, c.thing) && slices.Contains(gives, k) {
						found = true
						if !slices.Contains(waits, o) {
							waits = append(waits, o)
						}
					}
				}
				whole = whole && found && slices.Contains(a.planned(r.held), k)
			}
		}
		if whole {
			c.waits = waits
		}
	}
	for i := range w.apps {
		a := &w.apps[i]
		a.early = nil
		for _, c := range changes {
			if c.app == a.id && c.verb == "redefine" && c.attribute == "brings" && c.sense < 0 && len(c.waits) == 0 {
				a.early = append(a.early, c)
			}
		}
	}
}

// reached sets the effect of each change of a definition by whom it reaches.
func (w *world) reached(changes []*change) {
	for _, c := range changes {
		switch {
		case !c.ofThing() || c.sense == 0:
		case len(w.through(c, changes, false)) == 0:
			c.effect = "keeps"
		case c.sense > 0:
			c.effect = "widens"
		default:
			c.effect = "narrows"
		}
	}
}

// waitsForDefinition reports whether a change needs one of a definition by its
// nature.
func (w *world) waitsForDefinition(c, o *change) bool {
	if c.app != o.app {
		return false
	}
	if slices.Contains(c.waits, o) {
		return true
	}
	if slices.Contains(o.waits, c) {
		return false
	}
	a := w.app(c.app)
	var given []string // by the change
	switch {
	case c.gives():
		given = []string{c.thing}
	case c.verb == "define":
		given = a.thing(c.thing).brings
	case c.attribute == "brings" && c.sense > 0:
		given = c.moved
	}
	switch {
	case o.verb == "define" && slices.Contains(given, o.thing):
		return o != c
	case o.attribute == "brings" && o.sense < 0 && len(o.waits) == 0 && c.verb != "define" &&
		slices.Contains(append(a.along(given), a.due(given)...), o.thing):
		return true
	case c.verb == "redefine" && o.verb == "redefine" && c.thing == o.thing && c.attribute == o.attribute:
		return c.sense > 0 && o.sense < 0
	case c.verb != "retire":
		return false
	case o.verb == "remove":
		r, _ := a.row(o.account)
		return slices.Contains(r.held, c.thing)
	case o.attribute == "brings" && o.sense < 0:
		return slices.Contains(o.moved, c.thing)
	}
	return o.thing == c.thing && loses[kind(o.thing)] == o.verb
}

// used holds the end of a definition that somebody would still hold, and the
// beginning of one that somebody holds already.
func (w *world) used(a *app, changes []*change) {
	whole := w.after(changes).app(a.id)
	holds := func(rows []row, key string) bool {
		return slices.ContainsFunc(rows, func(r row) bool { return slices.Contains(r.held, key) })
	}
	for _, c := range changes {
		if c.app == a.id && (c.verb == "define" && holds(a.rows, c.thing) || c.verb == "retire" && holds(whole.rows, c.thing)) {
			w.hold(c, "in-use")
		}
	}
}

// apply changes a definition.
func (a *app) apply(c *change) {
	t := a.thing(c.thing)
	a.defined = slices.Clone(a.defined)
	switch d := a.definition(c.thing); {
	case c.verb == "define":
		brings := slices.Sorted(slices.Values(t.brings))
		a.defined = append(a.defined, definition{c.thing, t.title, t.permissions, brings})
	case d == nil:
	case c.verb == "retire":
		a.defined = slices.DeleteFunc(a.defined, func(d definition) bool { return d.key == c.thing })
	case c.attribute == "title":
		d.title = c.after
	case c.attribute == "permissions":
		d.permissions = split(c.after)
	default:
		d.brings = split(c.after)
	}
}

// profiles are an application's definitions, one a line.
func (a *app) profiles() (out []string) {
	for _, d := range a.defined {
		brings, permissions := slices.Sorted(slices.Values(d.brings)), slices.Sorted(slices.Values(d.permissions))
		out = append(out, fmt.Sprintf("%s defines %s as %q, %v, %v", a.id, d.key, d.title, permissions, brings))
	}
	return out
}

// depth is how many of what a thing brings along stand below it.
func (a *app) depth(key string) (deep int) {
	for _, k := range a.thing(key).brings {
		deep = max(deep, 1+a.depth(k))
	}
	return deep
}

// byDefinition compares changes of definitions.
func (w *world) byDefinition(x, y *change) int {
	if !x.ofThing() || !y.ofThing() {
		return 0
	}
	a := w.app(x.app)
	return cmp.Compare(a.depth(x.thing), a.depth(y.thing))
}
