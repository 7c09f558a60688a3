package outline

import (
	"pravet/internal/core/fact"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
)

// A Mark is why a change deserves a look.
type Mark string

// The marks, the gravest first.
const (
	ForGood   Mark = "for good"     // cannot be undone
	Sensitive Mark = "sensitive"    // someone gains a thing that is marked sensitive
	First     Mark = "first holder" // someone gains a thing that nobody had
	Nobodys   Mark = "of nobody"    // the account belongs to nobody
	Defined   Mark = "definition"   // a definition changes what those can do who have it
	Far       Mark = "far"          // the kit that gives it comes along with another kit
	Alone     Mark = "only one"     // no other change of the plan does the like with the thing's kind there
)

// Unusual is the changes with a mark.
type Unusual struct {
	Mark    Mark     `json:"mark"`
	Changes []string `json:"changes"`
}

// maxAlone is how many changes may be the only ones of their kind: where there are
// more, that is nothing unusual.
const maxAlone = 3

// unusual gathers the changes that deserve a look, each under its gravest mark.
func (o *Outline) unusual() {
	type like struct {
		app  string
		verb model.Verb
	}
	likes := map[like]int{}
	for _, c := range o.in.Changes {
		likes[like{c.App, c.Verb}]++
	}
	of := map[Mark][]string{}
	for _, c := range o.in.Changes {
		if m := o.mark(c); m != "" {
			of[m] = append(of[m], c.ID)
		} else if likes[like{c.App, c.Verb}] == 1 && len(o.in.Changes) > 2*maxApart {
			of[Alone] = append(of[Alone], c.ID)
		}
	}
	for _, m := range []Mark{ForGood, Sensitive, First, Nobodys, Defined, Far, Alone} {
		if n := len(of[m]); n > 0 && (m != Alone || n <= maxAlone) {
			o.Unusual = append(o.Unusual, Unusual{m, of[m]})
		}
	}
}

func (o *Outline) mark(c *plan.Change) Mark {
	switch {
	case c.ForGood:
		return ForGood
	case c.Effect == model.Widens && c.Sensitive():
		return Sensitive
	case c.First:
		return First
	case c.Person == "" && c.Account != "":
		return Nobodys
	case c.Reach != nil && c.Reach.Accounts > 0:
		return Defined
	}
	if r := Primary(o.in.Plan, c); r != nil && r.Facts != nil && r.Facts.Kind == fact.KitWith {
		return Far
	}
	return ""
}
