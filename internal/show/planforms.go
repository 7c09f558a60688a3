package show

import (
	"encoding/json"
	"fmt"
	"io"
	"strings"

	"pravet/internal/core/model"
	"pravet/internal/core/outline"
	"pravet/internal/core/plan"
	"pravet/internal/core/words"
)

// PlanTable is the changes as a table, one a row.
func PlanTable(v *PlanView) *Table {
	return tableOf(v.Changes, both(
		"id", "app", "person", "name", "account", "effect", "verb", "kind", "thing", "attribute", "before", "after",
		"also", "forGood", "held", "decision", "reason", "kit", "cause", "sensitive", "first",
	), func(x **plan.Change) []any {
		c := *x
		kind, thing := thingOf(c)
		var reasons []string
		for _, r := range v.Plan.Because(c) {
			reasons = append(reasons, fmt.Sprintf("%s:%d %s", r.File, r.Line, r.Says))
		}
		return []any{
			c.ID, c.App, c.Person, v.Plan.People[c.Person], c.Account, c.Effect, c.Verb, kind, thing, c.Attribute,
			plainValue(c.Before), plainValue(c.After), words.Means(c), c.ForGood, heldBy(c), v.States[c.ID],
			strings.Join(reasons, " | "), outline.Kit(v.Plan, c), v.causeOf(c), c.Sensitive(), c.First,
		}
	})
}

// thingOf is what a change gives or takes, as two cells.
func thingOf(c *plan.Change) (kind, name string) {
	if c.Thing == nil {
		return "", ""
	}
	return c.Thing.Kind.String(), c.Thing.Name
}

// heldBy is what holds a change, as one cell.
func heldBy(c *plan.Change) string {
	var holds []string
	for _, h := range c.Holds {
		holds = append(holds, h.Guard+": "+h.Says)
	}
	return strings.Join(holds, " | ")
}

// causeOf is the cause of a change in words, "" where the plan has no outline.
func (v *PlanView) causeOf(c *plan.Change) string {
	if v.Outline == nil {
		return ""
	}
	return words.Cause(v.Outline.CauseOf(c.ID))
}

func plainValue(v plan.Value) string {
	if v.Text() != "" || v.IsZero() {
		return v.Text()
	}
	out, err := json.Marshal(v)
	if err != nil {
		return fmt.Sprint(v)
	}
	return string(out)
}

// PlanJSON writes the plan with the changes of the view, indented.
// groups are those that were asked for, or nil.
func PlanJSON(w io.Writer, v *PlanView, groups []outline.Group) error {
	part := *v.Plan
	part.Changes = []plan.Change{}
	for _, c := range v.Changes {
		part.Changes = append(part.Changes, *c)
	}
	part.SetAside = []plan.SetAside{}
	for _, s := range v.Aside {
		part.SetAside = append(part.SetAside, *s)
	}
	part.Notices = []plan.Notice{}
	for _, n := range v.Plan.Notices {
		if n.App == "" || v.shows(n.App) {
			part.Notices = append(part.Notices, n)
		}
	}
	part.Totals = plan.Count(part.Changes)
	return PrintJSON(w, &struct {
		*plan.Plan
		Decisions map[string]string `json:"decisions"` // change → accepted, rejected or done
		Outline   *outline.Outline  `json:"outline"`
		Groups    []outline.Group   `json:"groups,omitempty"`
	}{&part, v.States, v.Outline, groups})
}

// PlanMarkdown writes the plan for a merge request: each change in a row, or with
// summary what causes them.
func PlanMarkdown(w io.Writer, v *PlanView, summary bool) error {
	p := &Printer{w: w, columns: usualColumns}
	t := plan.Totals{Changes: len(v.Changes)}
	for _, c := range v.Changes {
		t.Add(c)
	}
	p.Linef("### Plan %s of %s", v.Plan.ID, v.Plan.AsOf)
	p.Line()
	if v.Plan.Undoes != "" {
		p.Linef("Undoes %s.\n", markdown(v.Plan.Undoes))
	}
	p.Linef(
		"%s.",
		totals(t, func(_ model.Effect, text string) string { return text }, func(s string) string { return s }),
	)
	for i := range v.Plan.Costs {
		p.Linef("Seats in use cost %s.", costs(&v.Plan.Costs[i]))
	}
	if summary {
		p.markdownCauses(v)
		p.markdownRest(v)
		return p.Err()
	}
	for i := range v.Plan.Exports {
		e := &v.Plan.Exports[i]
		table := &Table{Columns: columns("effect", "who", "change", "why")}
		for _, c := range v.Changes {
			if c.App == e.App {
				table.add(v.markdownRow(c)...)
			}
		}
		if len(table.Rows) > 0 {
			p.Linef("\n#### %s\n", markdown(e.App+" "+e.Title))
			p.Markdown(table, true)
		}
	}
	p.markdownRest(v)
	return p.Err()
}

// markdownRow is a change as a row, marked up.
func (v *PlanView) markdownRow(c *plan.Change) []any {
	var why []string
	for _, h := range c.Holds {
		why = append(why, "**held by "+h.Guard+":** "+markdown(h.Says))
	}
	for _, r := range v.Plan.Because(c) {
		why = append(why, fmt.Sprintf("%s:%d %s", markdown(r.File), r.Line, markdown(r.Says)))
	}
	what := words.What(c)
	if c.ForGood {
		what += ", for good"
	}
	if means := words.Means(c); means != "" {
		what += " (" + means + ")"
	}
	return []any{c.Effect, markdown(words.Whose(v.Plan, c)), markdown(what), strings.Join(why, "<br>")}
}

// markdownCauses writes what causes the changes, and folds those that are alike.
func (p *Printer) markdownCauses(v *PlanView) {
	table := &Table{Columns: columns("changes", "what", "who", "because")}
	table.Columns[0].Number = true
	for n, folds := range v.Outline.ByCause() {
		because := words.Cause(&v.Outline.Causes[n])
		for _, f := range folds {
			what := words.Alike(&f)
			if f.Held > 0 {
				what += fmt.Sprintf(", **%s held**", model.Thousands(f.Held))
			}
			table.add(model.Thousands(len(f.Changes)), what, markdown(words.Who(&f)), markdown(because))
		}
	}
	p.Line()
	p.Markdown(table, true)
}

// markdownRest writes what a plan says besides its changes.
func (p *Printer) markdownRest(v *PlanView) {
	title := "#### Notices"
	for _, n := range v.Plan.Notices {
		if n.App != "" && !v.shows(n.App) {
			continue
		}
		if title != "" {
			p.Line()
			p.Line(title)
			p.Line()
			title = ""
		}
		app := ""
		if n.App != "" {
			app = markdown(n.App) + ": "
		}
		p.Line("* " + app + markdown(n.Says))
	}
	if len(v.Aside) > 0 {
		p.Line()
		p.Line("#### Set aside because they were rejected earlier")
		p.Line()
	}
	for _, s := range v.Aside {
		p.Line("* " + markdown(words.Sentence(v.Plan, &s.Change)) + "; " + markdown(rejected(s)))
	}
}
