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
}

// Matches counts the people that each rule matches, and warns of a filter that
// matches nobody or everybody.
func (r *Repo) Matches(today day.Day) []Match {
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
		out = append(out, Match{Kit: k.Name, Rule: k.Rule(), People: n, Pos: k.ForPos, File: k.ForPos.File, Line: k.ForPos.Line})
		if k.For == nil || r.odd[k.For] || r.People.Len() == 0 {
			continue
		}
		switch n {
		case 0:
			r.warn(k.ForPos, "rule-matches-nobody", fmt.Sprintf("the rule of kit %s matches nobody", k.Name), "look for a value that is spelled differently in the people files")
		case r.People.Len():
			r.warn(k.ForPos, "rule-matches-everybody", fmt.Sprintf("the rule of kit %s matches all %d people", k.Name, n), "if that is meant, write everyone: true")
		}
	}
	return out
}
