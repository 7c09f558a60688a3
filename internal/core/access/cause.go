package access

import (
	"fmt"
	"slices"
	"strings"

	"pravet/internal/core/entitle"
	"pravet/internal/core/model"
)

// given says what made a thing due: what changed, and the kit by which.
func (c *comparison) given(p, q, b int, t int32) Reason {
	paths := c.after.Explain.Paths(int32(q), b, t)
	if len(paths) == 0 {
		return Reason{}
	}
	return c.cause(p, q, b, paths[0].Held.Kit, paths[0].Pos, paths[0].Chain)
}

// opened says why an account is due: by the first kit that gives something.
func (c *comparison) opened(p, q, b int) Reason {
	for _, h := range c.after.Due.Classes[c.after.Due.Of[q]].Kits {
		for _, g := range c.after.Kits[h.Kit].Gives {
			if g.App == b {
				pos := c.after.Kits[h.Kit].Pos
				if len(g.Pos) > 0 {
					pos = g.Pos[0]
				}
				return c.cause(p, q, b, h.Kit, pos, nil)
			}
		}
	}
	return Reason{}
}

// cause says what changed so that a kit gives something to a person now: the
// person, the kit, its rule, what it gives, at pos, or what that brings along, by
// a chain.
func (c *comparison) cause(p, q, b, k int, pos model.Pos, chain []int32) Reason {
	v, kit := c.after, c.after.Kits[k]
	held := v.Due.Classes[v.Due.Of[q]].Kits
	own := held[slices.IndexFunc(held, func(h entitle.Held) bool { return h.Kit == k })]
	by := v.Explain.Has(own, held)[0]
	then, a := c.before.kit(kit.Name), c.before.app(v.Apps[b].ID)
	switch {
	case p < 0:
		return Reason{v.name(q) + " is new in the files; " + by.Says, place(v.People.Pos(q))}
	case a < 0:
		return Reason{"the application is new in the files; " + by.Says, place(v.Apps[b].Pos)}
	case c.before.Stages[p] != entitle.Here:
		return Reason{
			fmt.Sprintf("%s is here, and %s before; %s", v.name(q), was(c.before.stageWords(p)), by.Says),
			place(v.People.Pos(q)),
		}
	case !c.before.due(p, a).InScope:
		return Reason{"the scope did not let this person in before; " + by.Says, place(v.Apps[b].ScopePos)}
	case then < 0:
		return Reason{"the kit is new in the files; " + by.Says, place(kit.Pos)}
	case slices.ContainsFunc(
		c.before.Due.Classes[c.before.Due.Of[p]].Kits,
		func(h entitle.Held) bool { return h.Kit == then },
	):
		if x, ok := newLink(v.Apps[b], c.before.Apps[a], chain, c.before.gives(c.before.Kits[then])); ok {
			return Reason{fmt.Sprintf("%s %s brings it along now; kit %s", x.Kind, x.Name, kit.Name), place(x.Pos)}
		}
		return Reason{fmt.Sprintf("kit %s gives it now", kit.Name), place(pos)}
	}
	old := c.before.Kits[then]
	if own.Holder == nil && own.With < 0 && kit.For != nil && old.For != nil && kit.For.String() == old.For.String() {
		if cl, ok := old.For.Fails(c.before.Explain.Get(int32(p)), v.Today); ok &&
			c.before.People.Get(p, cl.Attr) != v.People.Get(q, cl.Attr) {
			return Reason{
				fmt.Sprintf("%s and %s; %s", v.Explain.ValueOf(int32(q), cl.Attr), c.valueWas(p, cl.Attr), by.Says),
				place(v.People.Place(q, cl.Attr)),
			}
		}
	}
	return reason(by)
}

func (c *comparison) valueWas(p int, attr string) string {
	if x := c.before.People.Get(p, attr); x != "" {
		return fmt.Sprintf("was %q", x)
	}
	return "had none before"
}

// was puts a stage into the past.
func was(words string) string {
	return strings.NewReplacer("away", "was away", "starts", "was to start").Replace(words)
}

// gone says why a person has nothing any more wherever it was due, where that
// is so: they, or the application, are not there.
func (c *comparison) gone(q, b int) (Reason, bool) {
	v := c.after
	switch {
	case q < 0:
		return Reason{Says: "the person is no longer in the files"}, true
	case b < 0:
		return Reason{Says: "the application is no longer in the files"}, true
	case v.Stages[q] != entitle.Here:
		return Reason{fmt.Sprintf("%s: %s", v.name(q), v.stageWords(q)), v.stagePlace(q)}, true
	case !v.due(q, b).InScope:
		return reason(v.Explain.OutOfScope("the scope", int32(q), v.Apps[b])), true
	}
	return Reason{}, false
}

// closed says why an account is no longer due.
func (c *comparison) closed(p, q, a, b int) Reason {
	if r, ok := c.gone(q, b); ok {
		return r
	}
	for _, h := range c.before.Due.Classes[c.before.Due.Of[p]].Kits {
		for _, g := range c.before.Kits[h.Kit].Gives {
			if g.App == a {
				return c.without(h.Kit, p, q)
			}
		}
	}
	return Reason{}
}

// lost says why a thing is no longer due: what became of the kit that gave it.
func (c *comparison) lost(p, q, a, b int, t thing) Reason {
	if r, ok := c.gone(q, b); ok {
		return r
	}
	if c.after.Apps[b].Thing(t.kind, t.name) < 0 {
		return Reason{fmt.Sprintf("%s %s is no longer in the catalog", t.kind, t.name), place(c.after.Apps[b].Pos)}
	}
	paths := c.before.Explain.Paths(int32(p), a, t.number)
	if len(paths) == 0 {
		return Reason{}
	}
	if x, ok := newLink(c.before.Apps[a], c.after.Apps[b], paths[0].Chain, c.gives(paths[0].Held.Kit)); ok {
		return Reason{
			fmt.Sprintf(
				"%s %s no longer brings it along; kit %s",
				x.Kind,
				x.Name,
				c.before.Kits[paths[0].Held.Kit].Name,
			),
			place(x.Pos),
		}
	}
	return c.without(paths[0].Held.Kit, p, q)
}

// gives are the addresses that a kit of before gives after, if it is there.
func (c *comparison) gives(k int) []string {
	if now := c.after.kit(c.before.Kits[k].Name); now >= 0 {
		return c.after.gives(c.after.Kits[now])
	}
	return nil
}

// newLink finds the first thing of a chain that brings the next one along in one
// application and does not in another; ok is false where the first thing of all
// is not given there, or every link is.
func newLink(app, other *model.App, chain []int32, given []string) (t *model.Thing, ok bool) {
	if len(chain) < 2 || !slices.Contains(given, app.Address(chain[0]).String()) {
		return nil, false
	}
	for i := range chain[:len(chain)-1] {
		x, y := &app.Things[chain[i]], &app.Things[chain[i+1]]
		from, to := other.Thing(x.Kind, x.Name), other.Thing(y.Kind, y.Name)
		if from < 0 || to < 0 || !slices.Contains(other.Things[from].Implies, to) {
			return x, true
		}
	}
	return nil, false
}

// without says why a kit that gave something before does not now.
func (c *comparison) without(k, p, q int) Reason {
	name := c.before.Kits[k].Name
	v := c.after
	now := v.kit(name)
	if now < 0 {
		return Reason{"the kit " + name + " is no longer in the files", place(c.before.Kits[k].Pos)}
	}
	for _, h := range v.Due.Classes[v.Due.Of[q]].Kits {
		if h.Kit == now {
			return Reason{"kit " + name + " no longer gives it", place(v.Kits[now].Pos)}
		}
	}
	old, kit := c.before.Kits[k], v.Kits[now]
	if kit.For != nil && old.For != nil && kit.For.String() == old.For.String() {
		if cl, ok := kit.For.Fails(v.Explain.Get(int32(q)), v.Today); ok &&
			c.before.People.Get(p, cl.Attr) != v.People.Get(q, cl.Attr) {
			return Reason{
				fmt.Sprintf(
					"%s and %s; kit %s: %s",
					v.Explain.ValueOf(int32(q), cl.Attr),
					c.valueWas(p, cl.Attr),
					name,
					kit.Rule(),
				),
				place(v.People.Place(q, cl.Attr)),
			}
		}
	}
	return reason(v.Explain.Lacks(kit, int32(q), ""))
}
