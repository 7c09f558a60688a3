package desired

import (
	"fmt"

	"pravet/internal/core/day"
	"pravet/internal/core/filter"
	"pravet/internal/core/model"
)

// A Match tells how many people a kit's rule matches.
type Match struct {
	Kit    string    `json:"kit"`
	Rule   string    `json:"rule"`
	People int       `json:"people"`
	Pos    model.Pos `json:"-"`
	File   string    `json:"file"`
	Line   int       `json:"line"`

	Catches []Catch `json:"catches,omitempty"` // of the clauses with co, with WideMatches
}

// A Catch is the people whom a rule matches only because of one clause with co.
type Catch struct {
	Clause string        `json:"clause"`
	People int           `json:"people"`
	Values []CaughtValue `json:"values"`
}

// A CaughtValue is a value by which people are caught; Within says that what is
// looked for stands in it only inside longer words.
type CaughtValue struct {
	Value  string `json:"value"`
	People int    `json:"people"`
	Within bool   `json:"within"`
}

// Matches counts the people that each rule matches, and warns of a filter that
// matches nobody or everybody. With wide, it also tells whom only a clause with
// co catches; that costs O(people) for each rule with one.
func (r *Repo) Matches(today day.Day, wide bool) []Match {
	var filters []*filter.Filter
	for _, k := range r.Kits {
		filters = append(filters, k.For)
	}
	classes := filter.Classify(r.People, filters, today)
	var out []Match
	for i, k := range r.Kits {
		if !k.HasRule() {
			continue
		}
		n := classes.Count(i)
		m := Match{Kit: k.Name, Rule: k.Rule(), People: n, Pos: k.ForPos, File: k.ForPos.File, Line: k.ForPos.Line}
		if wide && k.For != nil {
			m.Catches = r.catches(k.For, func(p int) bool { return classes.Match(classes.Of[p], i) }, today)
		}
		out = append(out, m)
		if k.For == nil || r.odd[k.For] || r.People.Len() == 0 {
			continue
		}
		switch n {
		case 0:
			r.warn(
				k.ForPos,
				"rule-matches-nobody",
				fmt.Sprintf("the rule of kit %s matches nobody", k.Name),
				"look for a value that is spelled differently in the people files",
			)
		case r.People.Len():
			r.warn(
				k.ForPos,
				"rule-matches-everybody",
				fmt.Sprintf("the rule of kit %s matches all %d people", k.Name, n),
				"if that is meant, write everyone: true",
			)
		}
	}
	return out
}

func (r *Repo) catches(f *filter.Filter, matches func(int) bool, today day.Day) (out []Catch) {
	for _, c := range f.Catches(r.People, "co", matches, today) {
		x := Catch{
			Clause: fmt.Sprintf("%s co %q", c.Clause.Attr, c.Clause.Value),
			People: c.Rows,
			Values: []CaughtValue{},
		}
		for _, v := range c.Values {
			x.Values = append(x.Values, CaughtValue{v.Value, v.Rows, v.Within})
		}
		out = append(out, x)
	}
	return out
}
