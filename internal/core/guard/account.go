package guard

import (
	"pravet/internal/core/diff"
	"pravet/internal/core/entitle"
	"pravet/internal/core/fact"
	"pravet/internal/core/model"
	"pravet/internal/core/table"
)

// The guards of this file.
const (
	Protected     = "protected"
	DoubleAccount = "double-account"
	SharedAccount = "shared-account"
)

var accountsFamily = family{
	guards: []Guard{
		{
			Name: Protected, Lift: Never,
			Raises: []fact.Kind{fact.Protected},
			Holds:  "changes of accounts under `protect`",
		},
		{
			Name: DoubleAccount, Lift: ForPlan,
			Raises: []fact.Kind{fact.DoubleAccount, fact.RepeatedName},
			Holds: "what does not narrow, of a person who has more than one account; the removal of a stray " +
				"whose name stands in two rows",
		},
		{
			Name: SharedAccount, Lift: Never,
			Raises: []fact.Kind{fact.SharedAccount},
			Holds:  "changes of people who share the value that accounts are matched by",
		},
	},
	each: (*checker).accounts,
}

// The guard of names that the application does not have.
const (
	UnknownName = "unknown-name"
)

var namesFamily = family{
	guards: []Guard{
		{
			Name: UnknownName, Lift: Never,
			Raises: []fact.Kind{fact.NoSuchThing},
			Holds:  "what gives a group or role that the application itself does not have",
		},
	},
	each: (*checker).names,
}

// The guards of attributes.
const (
	Fixed = "fixed"
	Needs = "needs"
	Clash = "clash"
)

var attributesFamily = family{
	guards: []Guard{
		{
			Name: Fixed, Lift: ForPlan,
			Raises: []fact.Kind{fact.FixedValue},
			Holds:  "updates of attributes under `fixed`",
		},
		{
			Name: Needs, Lift: ForPlan,
			Raises: []fact.Kind{fact.NoValue},
			Holds:  "what needs an attribute that has no value",
			Limit:  "`needs` of the group, role or license",
		},
		{
			Name: Clash, Lift: ForPlan,
			Raises: []fact.Kind{fact.Clashing},
			Holds:  "an attribute that two kits of one person set differently, or a thing of a kind of which everybody has one",
		},
	},
	each: (*checker).attributes,
}

// accounts holds the changes of protected accounts, of two accounts for one
// person, and of one account for two persons.
func (c *checker) accounts(a int) {
	app := c.Apps[a]
	double, shared := map[int32][]string{}, map[int32]string{}
	for _, p := range c.Diff.Accounts {
		if int(p.App) == a {
			person := c.Diff.PersonOf[a][p.First]
			if len(double[person]) == 0 {
				double[person] = append(double[person], c.Accounts[a].Key.At(int(p.First)))
			}
			double[person] = append(double[person], c.Accounts[a].Key.At(int(p.Second)))
		}
	}
	for person, keys := range double {
		double[person] = sorted(keys)
	}
	for _, p := range c.Diff.Persons {
		if int(p.App) == a {
			shared[p.First], shared[p.Second] = c.personName(p.Second), c.personName(p.First)
		}
	}
	repeated := map[string]bool{}
	for _, r := range c.Diff.Repeated {
		if int(r.App) == a {
			repeated[r.Key] = true
		}
	}
	for _, i := range c.byApp[a] {
		ch := &c.Changes[i]
		if ch.Verb == model.Remove && repeated[ch.Key] {
			c.hold(i, DoubleAccount, fact.Fact{Kind: fact.RepeatedName, Attribute: app.Match, Account: ch.Key})
		}
		if _, ok := app.Protected(ch.Key); ok && ch.Key != "" {
			c.hold(i, Protected, fact.Fact{Kind: fact.Protected, Account: ch.Key})
		}
		if ch.Person == diff.None {
			continue
		}
		if keys, ok := double[ch.Person]; ok && !narrows(ch) {
			c.hold(i, DoubleAccount, fact.Fact{Kind: fact.DoubleAccount, Person: c.personName(ch.Person), Names: keys})
		}
		if other, ok := shared[ch.Person]; ok {
			c.hold(i, SharedAccount, fact.Fact{Kind: fact.SharedAccount, Person: other, Attribute: app.MatchPerson()})
		}
	}
	for _, person := range sortedKeys(double) {
		c.notice(a, fact.Fact{Kind: fact.DoubleAccount, Person: c.personName(person), Names: double[person]})
	}
}

// names holds what gives a thing that the application itself does not have.
func (c *checker) names(a int) {
	for _, i := range c.byApp[a] {
		ch := &c.Changes[i]
		if ch.Thing == diff.None || narrows(ch) || ch.Why == diff.IsDouble || ch.Verb.OfThing() ||
			c.Apps[a].Things[ch.Thing].Define {
			continue // what is only taken away is there
		}
		t := c.Apps[a].Things[ch.Thing]
		defined := c.Accounts[a].Defined[t.Kind]
		if defined == nil || contains(defined, t.Name) {
			continue
		}
		c.hold(i, UnknownName, fact.Fact{
			Kind:  fact.NoSuchThing,
			App:   c.Apps[a].ID,
			Thing: t.String(),
			Other: table.Nearest(t.Name, defined),
		})
	}
}

// attributes holds changes of fixed attributes, what needs an attribute that
// has no value, accounts that could not be found again, and attributes that
// two kits set differently.
func (c *checker) attributes(a int) {
	app := c.Apps[a]
	for _, i := range c.byApp[a] {
		ch := &c.Changes[i]
		if ch.Person == diff.None {
			continue
		}
		due := &c.Due.Classes[c.Due.Of[ch.Person]].Apps[a]
		switch ch.Verb {
		case model.Update:
			if at := app.Attrs[ch.Attr]; at.Fixed {
				c.hold(
					i,
					Fixed,
					fact.Fact{Kind: fact.FixedValue, Attribute: at.Name, Value: ch.Before, Other: ch.After},
				)
			}
			c.clash(i, app, due, func(x entitle.Clashing) bool { return x.Thing < 0 && x.What == app.Attrs[ch.Attr].Name })
		case model.Create, model.Invite:
			if c.People.Get(int(ch.Person), app.MatchPerson()) == "" {
				c.hold(
					i,
					Impossible,
					fact.Fact{Kind: fact.NoMatchValue, Person: c.personName(ch.Person), Attribute: app.MatchPerson()},
				)
			}
			c.clash(i, app, due, func(x entitle.Clashing) bool { return x.Thing < 0 })
		case model.Assign, model.Join, model.Grant:
			c.clash(i, app, due, func(x entitle.Clashing) bool { return x.Thing == ch.Thing })
			for _, need := range app.Things[ch.Thing].Needs {
				if c.wanted(a, ch, due, need) == "" {
					t := app.Things[ch.Thing]
					c.hold(i, Needs, fact.Fact{
						Kind:      fact.NoValue,
						Thing:     t.String(),
						Attribute: need,
						Person:    c.personName(ch.Person),
					})
				}
			}
		}
	}
}

// clash holds what two kits give differently, as far as fits says.
func (c *checker) clash(i int, app *model.App, due *entitle.Due, fits func(entitle.Clashing) bool) {
	for _, x := range due.Clashes(app) {
		if fits(x) {
			c.hold(i, Clash, fact.Fact{
				Kind:      fact.Clashing,
				Kit:       c.Kits[x.Kit].Name,
				Attribute: x.What,
				Value:     x.Value,
				Other:     c.Kits[x.Other].Name,
			})
		}
	}
}

// wanted is the value that an attribute of an account will have once the plan is
// carried out: what Pravet keeps it at, else what the export shows, and the
// person's where the export does not show it.
func (c *checker) wanted(a int, ch *diff.Change, due *entitle.Due, attr string) string {
	app := c.Apps[a]
	if n := app.Attr(attr); n >= 0 {
		v, _, managed := diff.Wanted(app, n, c.People.Column(app.Attrs[n].Person), int(ch.Person), due)
		if managed {
			return v
		}
		if c.Accounts[a].Attrs[n] != nil {
			if ch.Account != diff.None {
				return c.Accounts[a].Attr(n, int(ch.Account))
			}
			return ""
		}
	}
	return c.People.Get(int(ch.Person), attr)
}
