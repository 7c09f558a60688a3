package guard

import (
	"fmt"
	"slices"

	"pravet/internal/core/fact"

	"pravet/internal/core/diff"
	"pravet/internal/core/model"
)

// The guards of this file.
const (
	Separation = "separation"
)

var separatedFamily = family{
	guards: []Guard{
		{
			Name: Separation, Lift: ForChange,
			Raises: []fact.Kind{fact.Apart, fact.ApartToday, fact.ApartLater},
			Holds: "what would bring together things that are kept apart, across applications, counting what " +
				"comes along",
			Limit: "`separation`",
		},
	},
	all: (*checker).separation,
}

// separation holds the changes by which a person would come to hold two things
// that are kept apart, counted over effective access in all applications after
// the plan. Who holds both already and gains neither is pointed out, and so is
// who may by an exception. O(holders + changes) for each separation.
func (c *checker) separation() {
	if len(c.Separations) == 0 {
		return
	}
	gains := map[int32][]int{} // person → widening changes
	for i := range c.Changes {
		ch := &c.Changes[i]
		switch {
		case moves(ch) && ch.Sense == diff.More:
			for _, at := range c.States.Through(ch, true) {
				if p := c.Diff.PersonOf[ch.App][at]; p != diff.None {
					gains[p] = append(gains[p], i)
				}
			}
		case ch.Person != diff.None && c.gives(ch):
			gains[ch.Person] = append(gains[ch.Person], i)
		}
	}
	for n := range c.Separations {
		sep := &c.Separations[n]
		holds := c.holders(sep)
		for _, p := range sortedKeys(gains) {
			if len(holds[p]) < 2 {
				c.swaps(p, sep, gains[p])
			}
		}
		c.redefinitions(sep)
		var already []string
		for _, p := range sortedKeys(holds) {
			if len(holds[p]) > 1 && !c.pair(sep, p, holds[p], gains[p]) {
				already = append(already, c.personName(p))
			}
		}
		if len(already) > 0 {
			c.notice(sep.Apart[0].App, fact.Fact{
				Kind:  fact.ApartAlready,
				Count: len(already),
				Other: sep.Name,
				Place: sep.Pos.String(),
				Names: First(already),
			})
		}
	}
}

// redefinitions holds what lets someone hold two things that are kept apart as
// things are, whatever else the plan takes away. O(accounts) for each.
func (c *checker) redefinitions(sep *model.Separation) {
	for i := range c.Changes {
		ch := &c.Changes[i]
		if !moves(ch) || ch.Sense != diff.More ||
			!slices.ContainsFunc(sep.Apart, func(x model.AppThing) bool { return c.brings(x.App, x.Thing, ch) }) {
			continue
		}
		for at, p := range c.Diff.PersonOf[ch.App] {
			if p == diff.None || !c.States.Before(int(ch.App)).Has(c.Accounts[ch.App].Held[at], ch.Thing) {
				continue
			}
			was, will := 0, 0
			var before []int // what takes one of them first
			for _, x := range sep.Apart {
				if c.Accounts[x.App] == nil || c.Diff.AccountOf[x.App][p] == diff.None {
					continue
				}
				held := c.Accounts[x.App].Held[c.Diff.AccountOf[x.App][p]]
				was += one(c.States.Before(x.App).Has(held, x.Thing))
				if goes := c.goes(p, x, i); len(goes) > 0 {
					before = append(before, goes...)
					continue
				}
				will += one(c.States.App(x.App).Has(held, x.Thing) || c.States.Before(x.App).Has(held, x.Thing))
			}
			if will > max(was, 1) && c.exception(sep, p) == nil {
				c.hold(
					i,
					Separation,
					fact.Fact{Kind: fact.ApartToday, Person: c.personName(p), Other: sep.Name, Place: sep.Pos.String()},
				)
				break // one is enough to hold it
			}
			for _, k := range before {
				if !slices.Contains(c.out.Needs[i], k) {
					c.out.Needs[i] = append(c.out.Needs[i], k)
				}
			}
		}
	}
}

// goes lists the changes before another by which a person loses a thing for good, with nothing that holds
// them; none where the person keeps it.
func (c *checker) goes(p int32, x model.AppThing, before int) (out []int) {
	account := c.Diff.AccountOf[x.App][p]
	if account == diff.None {
		return nil
	}
	st := c.States.At(x.App, int(account))
	if st == nil || !c.States.Before(x.App).Has(st.Set, x.Thing) || c.States.App(x.App).Has(st.After, x.Thing) {
		return nil
	}
	for _, k := range c.losses(p, x.App) {
		ch := &c.Changes[k]
		if ch.Verb != model.Redefine && c.loses(x.App, x.Thing, ch) {
			if k > before || len(c.out.Holds[k]) > 0 {
				return nil
			}
			out = append(out, k)
		}
	}
	return out
}

func one(is bool) int {
	if is {
		return 1
	}
	return 0
}

// pair deals with one person who will hold two or more things of a separation;
// it reports false where nothing is to be held for it.
func (c *checker) pair(sep *model.Separation, p int32, things []model.AppThing, gains []int) bool {
	var sides []string
	for _, x := range things {
		sides = append(sides, c.address(x)+" "+c.side(p, x))
	}
	if x := c.exception(sep, p); x != nil {
		c.notice(sep.Apart[0].App, fact.Fact{
			Kind:    fact.ApartAllowed,
			Person:  c.personName(p),
			Other:   sep.Name,
			Until:   x.Until.String(),
			Because: x.Because,
			Place:   x.Pos.String(),
			Names:   sides,
		})
		return true
	}
	// What was there before is no reason to hold anything that comes.
	gained := slices.DeleteFunc(slices.Clone(things), func(x model.AppThing) bool { return c.before(p, x) })
	held := false
	for _, i := range gains {
		if slices.ContainsFunc(gained, func(x model.AppThing) bool {
			return c.brings(x.App, x.Thing, &c.Changes[i])
		}) {
			held = true
			if moves(&c.Changes[i]) && len(c.out.Holds[i]) >= fact.MaxNames {
				continue // of those whom a redefinition reaches, the first are enough
			}
			c.hold(i, Separation, fact.Fact{
				Kind:   fact.Apart,
				Person: c.personName(p),
				Names:  sides,
				Other:  sep.Name,
				Place:  sep.Pos.String(),
			})
		}
	}
	return held
}

// side says why a person has one of the things that are kept apart.
func (c *checker) side(p int32, x model.AppThing) string {
	paths := c.Explain.Paths(p, x.App, x.Thing)
	if len(paths) == 0 {
		return "(held today)"
	}
	path := paths[0]
	says := fmt.Sprintf("by kit %s", c.Kits[path.Held.Kit].Name)
	if len(path.Chain) > 1 {
		t := c.Apps[x.App].Things[path.Chain[0]]
		says += fmt.Sprintf(", along with %s %s", t.Kind, t.Name)
	}
	return fmt.Sprintf("(%s: %s)", says, path.Pos)
}

func (c *checker) exception(sep *model.Separation, p int32) *model.Exception {
	return model.Excepted(c.Exceptions, sep.Name, c.People.Get(int(p), "id"), c.Today)
}

// holders tells which of the things of a separation people will have after the
// plan, of those who will have any.
func (c *checker) holders(sep *model.Separation) map[int32][]model.AppThing {
	out := map[int32][]model.AppThing{}
	add := func(p int32, x model.AppThing) {
		if !slices.Contains(out[p], x) {
			out[p] = append(out[p], x)
		}
	}
	for _, x := range sep.Apart {
		accounts, r := c.Accounts[x.App], c.States.App(x.App)
		if accounts == nil {
			continue
		}
		has := r.Giving(x.Thing)
		for i, p := range c.Diff.PersonOf[x.App] {
			if p == diff.None {
				continue
			}
			set := accounts.Held[i]
			if s := c.States.At(x.App, i); s != nil {
				set = s.After
			}
			if has[set] {
				add(p, x)
			}
		}
		for _, i := range c.byApp[x.App] {
			if ch := &c.Changes[i]; ch.Account == diff.None && ch.Person != diff.None &&
				r.Has(c.States.Of(ch).After, x.Thing) {
				add(ch.Person, x)
			}
		}
	}
	return out
}

// swaps makes what a person gains wait for what the person loses of the same
// separation: if the loss is rejected, the gain must not come.
func (c *checker) swaps(p int32, sep *model.Separation, gains []int) {
	for _, lost := range sep.Apart {
		if c.Accounts[lost.App] == nil || !c.before(p, lost) {
			continue
		}
		for _, i := range gains {
			gained := false
			for _, x := range sep.Apart {
				gained = gained || x != lost && !c.before(p, x) && c.brings(x.App, x.Thing, &c.Changes[i])
			}
			if !gained {
				continue
			}
			for _, k := range c.losses(p, lost.App) {
				ch := &c.Changes[k]
				if ch.Verb.Deed().Clears || c.loses(lost.App, lost.Thing, ch) {
					if k > i {
						c.hold(i, Separation, fact.Fact{
							Kind:   fact.ApartLater,
							Person: c.personName(p),
							Thing:  c.address(lost),
							Other:  sep.Name,
							Place:  sep.Pos.String(),
						})
						continue
					}
					c.out.Needs[i] = append(c.out.Needs[i], k)
				}
			}
		}
	}
}

// losses lists the changes by which a person may lose something in an application:
// what narrows their accounts, and the redefinitions that take something.
func (c *checker) losses(p int32, app int) []int {
	if c.byPerson == nil {
		c.byPerson = map[personApp][]int{}
		for i := range c.Changes {
			ch := &c.Changes[i]
			switch k := (personApp{ch.Person, int(ch.App)}); {
			case ch.Verb == model.Redefine && ch.Sense == diff.Less:
				k.person = diff.None
				c.byPerson[k] = append(c.byPerson[k], i)
			case ch.Person != diff.None && c.takes(ch):
				c.byPerson[k] = append(c.byPerson[k], i)
			}
		}
	}
	return append(slices.Clone(c.byPerson[personApp{p, app}]), c.byPerson[personApp{diff.None, app}]...)
}

type personApp struct {
	person int32
	app    int
}

// before reports whether a person has a thing as things are, in any account.
func (c *checker) before(p int32, x model.AppThing) bool {
	accounts := c.Accounts[x.App]
	if accounts == nil {
		return false
	}
	account := c.Diff.AccountOf[x.App][p]
	if account != diff.None && c.States.Before(x.App).Has(accounts.Held[account], x.Thing) {
		return true
	}
	for _, at := range c.seconds()[personApp{p, x.App}] {
		if c.States.Before(x.App).Has(accounts.Held[at], x.Thing) {
			return true
		}
	}
	return false
}

// seconds are the accounts of people who have more than one in an application.
func (c *checker) seconds() map[personApp][]int32 {
	if c.others == nil {
		c.others = map[personApp][]int32{}
		for _, pair := range c.Diff.Accounts {
			k := personApp{c.Diff.PersonOf[pair.App][pair.First], int(pair.App)}
			c.others[k] = append(c.others[k], pair.First, pair.Second)
		}
	}
	return c.others
}

func (c *checker) address(x model.AppThing) string { return c.Apps[x.App].Address(x.Thing).String() }
