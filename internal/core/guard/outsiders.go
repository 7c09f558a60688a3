package guard

import (
	"pravet/internal/core/day"
	"pravet/internal/core/diff"
	"pravet/internal/core/fact"
	"pravet/internal/core/model"
	"pravet/internal/core/stage"
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
// ahead, or nobody who answers for them; and what gives them what is insiders' only.
func (c *checker) outsiders(a int) {
	if c.Outsiders == nil || c.Outsiders.For == nil {
		return
	}
	type answer struct {
		outsider bool
		broken   *fact.Fact
	}
	known := map[int32]answer{}
	for _, i := range c.byApp[a] {
		ch := &c.Changes[i]
		if ch.Person == diff.None || ch.Effect() != model.Widens {
			continue
		}
		x, ok := known[ch.Person]
		if !ok {
			get := func(attr string) string { return c.People.Get(int(ch.Person), attr) }
			if x.outsider = c.Outsiders.Are(get, c.Today); x.outsider {
				x.broken = c.outside(int(ch.Person), get)
			}
			known[ch.Person] = x
		}
		if x.broken != nil {
			c.hold(i, Outsiders, *x.broken)
		}
		if !x.outsider || ch.Thing == diff.None {
			continue
		}
		for _, t := range c.given(a, ch) {
			if thing := &c.Apps[a].Things[t]; thing.Insiders {
				c.hold(i, Insiders, fact.Fact{
					Kind: fact.ForInsiders, Thing: thing.String(), Person: c.personName(ch.Person),
				})
				break
			}
		}
	}
}

// outside is what is not as it must be with an outsider, nil where all is.
func (c *checker) outside(p int, get func(attr string) string) *fact.Fact {
	return Outside(c.Outsiders, c.People, c.Stages, c.Today, c.personName(int32(p)), get)
}

// Outside is what is not as it must be with an outsider, nil where all is.
func Outside(
	o *model.Outsiders,
	people *model.People,
	stages []stage.Stage,
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
	if sponsor := people.Named(id); sponsor < 0 || stages[sponsor] == stage.Gone {
		return &fact.Fact{Kind: fact.NoSponsor, Person: who, Other: id}
	}
	return nil
}
