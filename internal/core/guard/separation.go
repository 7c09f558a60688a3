package guard

import (
	"strings"

	"pravet/internal/core/diff"
	"pravet/internal/core/model"
	"pravet/internal/core/reach"
)

// separation holds the changes by which a person would come to hold two
// things that are kept apart, counted over effective access in all
// applications after the plan. Who holds both already and gains neither is
// only pointed out.
func (c *checker) separation(st *reach.States) {
	if len(c.Separations) == 0 {
		return
	}
	gains := map[int32][]int{} // person → widening changes
	for i := range c.Changes {
		if ch := &c.Changes[i]; ch.Person != diff.None && ch.Thing != diff.None && !narrows(ch) {
			gains[ch.Person] = append(gains[ch.Person], i)
		}
	}
	for _, sep := range c.Separations {
		for _, p := range sortedKeys(gains) {
			var held []string
			var things []model.AppThing
			for _, x := range sep.Apart {
				if c.Accounts[x.App] != nil && c.after(st, p, x) {
					held = append(held, c.address(x))
					things = append(things, x)
				}
			}
			if len(held) < 2 {
				c.swaps(st, p, sep, gains[p])
				continue
			}
			for _, i := range gains[p] {
				for _, x := range things {
					if int(c.Changes[i].App) == x.App && st.App(x.App).Brings(c.Changes[i].Thing, x.Thing) {
						c.hold(i, Separation, "%s would hold %s, which are kept apart: %s (%s)",
							c.personName(p), strings.Join(held, " and "), sep.Name, sep.Pos)
						break
					}
				}
			}
		}
	}
}

// swaps makes what a person gains wait for what the person loses of the same
// separation: if the loss is rejected, the gain must not come.
func (c *checker) swaps(st *reach.States, p int32, sep model.Separation, gains []int) {
	for _, lost := range sep.Apart {
		if c.Accounts[lost.App] == nil || !c.before(p, lost, st) || c.after(st, p, lost) {
			continue
		}
		for _, i := range gains {
			gained := false
			for _, x := range sep.Apart {
				gained = gained || x != lost && int(c.Changes[i].App) == x.App && st.App(x.App).Brings(c.Changes[i].Thing, x.Thing)
			}
			if !gained {
				continue
			}
			for _, k := range c.byApp[lost.App] {
				ch := &c.Changes[k]
				if ch.Person == p && narrows(ch) && (ch.Verb == model.Remove || ch.Thing != diff.None && st.App(lost.App).Brings(ch.Thing, lost.Thing)) {
					c.out.Needs[i] = append(c.out.Needs[i], k)
				}
			}
		}
	}
}

// before tells whether a person has a thing as things are.
func (c *checker) before(p int32, x model.AppThing, st *reach.States) bool {
	account := c.Diff.AccountOf[x.App][p]
	return account != diff.None && st.App(x.App).Has(c.Accounts[x.App].Held[account], x.Thing)
}

func (c *checker) address(x model.AppThing) string {
	t := c.Apps[x.App].Things[x.Thing]
	return model.Address{App: c.Apps[x.App].ID, Kind: t.Kind.String(), Name: t.Name}.String()
}

// after tells whether a person has a thing once the plan is carried out.
func (c *checker) after(st *reach.States, p int32, x model.AppThing) bool {
	account := c.Diff.AccountOf[x.App][p]
	key := ""
	if account != diff.None {
		key = c.Accounts[x.App].Key.At(int(account))
	} else {
		key = c.People.Get(int(p), c.Apps[x.App].MatchPerson())
	}
	if s := st.Of(x.App, key); s != nil {
		return st.App(x.App).Has(s.After, x.Thing)
	}
	return account != diff.None && st.App(x.App).Has(c.Accounts[x.App].Held[account], x.Thing)
}
