package guard

import (
	"pravet/internal/core/day"
	"pravet/internal/core/diff"
	"pravet/internal/core/entitle"
	"pravet/internal/core/fact"
	"pravet/internal/core/model"
	"pravet/internal/core/table"
)

// The guards of this file.
const (
	Outsiders = "outsiders"
	Insiders  = "insiders"
)

var outsidersFamily = family{
	guards: []Guard{
		{
			Name: Outsiders, Lift: ForPlan,
			Raises: []fact.Kind{fact.NoEnd, fact.NoSponsor},
			Holds: "what gives something to an outsider without a last day, with one too far ahead, or without " +
				"a sponsor who is here",
			Limit: "`outsiders` and `outsiderTerm: P1Y` in pravet.yaml",
		},
		{
			Name: Insiders, Lift: ForChange,
			Raises: []fact.Kind{fact.ForInsiders},
			Holds:  "what gives an outsider something marked `insiders: true`, also what brings it along",
		},
	},
	each: (*checker).outsiders,
}

// outsiders holds what gives something to an outsider who has no last day, one too far
// ahead, or nobody who answers for them; and what gives them what is insiders' only, also by a change of
// what something brings along.
func (c *checker) outsiders(a int) {
	if c.Outsiders == nil || c.Outsiders.For == nil {
		return
	}
	known := map[int32]*outsider{}
	of := func(p int32) *outsider {
		x, ok := known[p]
		if !ok {
			x = c.outsider(p)
			known[p] = x
		}
		return x
	}
	for _, i := range c.byApp[a] {
		ch := &c.Changes[i]
		switch {
		case moves(ch) && ch.Sense == diff.More:
			for _, at := range c.States.Through(ch, true) {
				if p := c.Diff.PersonOf[a][at]; p != diff.None && of(p) != nil && c.outside(a, i, p, of(p)) {
					break // one is enough to hold it
				}
			}
		case ch.Person != diff.None && (ch.Effect() == model.Widens || ch.Thing != diff.None && ch.Verb.Deed().Gains):
			if x := of(ch.Person); x != nil {
				c.outside(a, i, ch.Person, x)
			}
		}
	}
}

// An outsider is one by what is not as it must be with them, nil where all is.
type outsider struct{ broken *fact.Fact }

// outsider is a person as an outsider, nil for anybody else.
func (c *checker) outsider(p int32) *outsider {
	get := func(attr string) string { return c.People.Get(int(p), attr) }
	if !c.Outsiders.Are(get, c.Today) {
		return nil
	}
	return &outsider{Outside(c.Outsiders, c.People, c.Stages, c.Today, c.personName(p), get)}
}

// outside holds one change that gives something to an outsider, and reports whether it does.
func (c *checker) outside(a, i int, p int32, x *outsider) (held bool) {
	if x.broken != nil {
		c.hold(i, Outsiders, *x.broken)
		held = true
	}
	ch := &c.Changes[i]
	if ch.Thing == diff.None && ch.Verb != model.Restore {
		return held
	}
	for _, t := range c.given(a, ch) {
		if thing := &c.Apps[a].Things[t]; thing.Insiders {
			c.hold(i, Insiders, fact.Fact{Kind: fact.ForInsiders, Thing: thing.String(), Person: c.personName(p)})
			return true
		}
	}
	return held
}

// Outside is what is not as it must be with an outsider, nil where all is. Who answers for one is somebody
// else, who is here, no outsider and no service account.
func Outside(
	o *model.Outsiders,
	people *model.People,
	stages []entitle.Stage,
	today day.Day,
	who string,
	get func(attr string) string,
) *fact.Fact {
	ends, err := day.Parse(get("ends"))
	if last := today.Add(o.Term); err != nil || ends > last {
		return &fact.Fact{Kind: fact.NoEnd, Person: who, Until: last.String(), Limit: o.Term.Words()}
	}
	id := get("sponsor")
	if id == "" {
		return &fact.Fact{Kind: fact.NoSponsor, Person: who}
	}
	sponsor := people.Named(id)
	if sponsor < 0 {
		return &fact.Fact{Kind: fact.NoSponsor, Person: who, Other: id}
	}
	of := func(attr string) string { return people.Get(sponsor, attr) }
	why := ""
	switch {
	case of("id") == get("id"):
		why = "themselves"
	case stages[sponsor] == entitle.NotYet:
		why = "somebody who has not started yet"
	case stages[sponsor] == entitle.Gone:
		why = "somebody who has left"
	case o.Are(of, today):
		why = "an outsider"
	case table.Fold(of("userType")) == "service":
		why = "a service account"
	default:
		return nil
	}
	return &fact.Fact{Kind: fact.NoSponsor, Person: who, Other: id, Value: why}
}
