package guard

import (
	"fmt"

	"pravet/internal/core/diff"
	"pravet/internal/core/model"
	"pravet/internal/core/reach"
)

// atLeast holds what would leave too few active holders of a thing, counted
// over effective access after the whole plan.
func (c *checker) atLeast(a int, st *reach.States) {
	app := c.Apps[a]
	for t := range app.Things {
		thing := &app.Things[t]
		if thing.AtLeast == 0 {
			continue
		}
		losers, more := st.Losing(a, int32(t))
		n := st.App(a).Active(c.Accounts[a], int32(t)) + more
		if n >= thing.AtLeast {
			c.between(a, int32(t), st)
			continue
		}
		for _, i := range c.byApp[a] {
			ch := &c.Changes[i]
			// A redefinition may reach those whose own loss is held.
			if less := ch.Verb == model.Redefine && ch.Sense == diff.Less; !less && (!narrows(ch) || !losers[ch.Key]) {
				continue
			}
			if ch.Thing == diff.None || c.brings(a, int32(t), st, ch) {
				c.hold(i, AtLeast, "%s", tooFew(n, thing))
			}
		}
	}
}

// between holds redefinitions that take a thing from so many that, until others
// give it back, too few would hold it.
func (c *checker) between(a int, t int32, st *reach.States) {
	thing := &c.Apps[a].Things[t]
	var less []int
	for _, i := range c.byApp[a] {
		if ch := &c.Changes[i]; ch.Verb == model.Redefine && ch.Sense == diff.Less && c.brings(a, t, st, ch) {
			less = append(less, i)
		}
	}
	if len(less) == 0 {
		return
	}
	late := map[string]bool{}
	for _, i := range c.byApp[a] {
		late[c.Changes[i].Key] = late[c.Changes[i].Key] || c.Changes[i].Late
	}
	n := 0
	for i, set := range c.Accounts[a].Held {
		key := c.Accounts[a].Key.At(i)
		stays := c.Accounts[a].Open[i] && st.Narrowed(a).Has(set, t)
		if s := st.Of(a, key); s != nil && !late[key] {
			stays = stays && s.OpenAfter && st.App(a).Has(s.After, t)
		}
		if stays {
			n++
		}
	}
	if n < thing.AtLeast {
		for _, i := range less {
			c.hold(i, AtLeast, "until others hold it, %s", tooFew(n, thing))
		}
	}
}

func tooFew(n int, thing *model.Thing) string {
	return fmt.Sprintf("only %s of %s %s would stay; at least %d must", model.Count(n, "active holder", "active holders"), thing.Kind, thing.Name, thing.AtLeast)
}
