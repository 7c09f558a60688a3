package show

import (
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"slices"
	"sort"
	"strings"

	"charm.land/lipgloss/v2"

	"pravet/internal/core/model"
	"pravet/internal/core/plan"
)

// A PlanView is a plan, or a part of it, as it is shown. States says of each
// change what was decided about it, by id; it may be nil.
type PlanView struct {
	Plan    *plan.Plan
	Changes []*plan.Change
	States  map[string]string
	Part    bool // not all changes are shown
}

// What says in words what a change does, without its account.
func What(c *plan.Change) string {
	switch {
	case c.Verb == "redefine":
		return redefined(c)
	case c.Thing != nil:
		return fmt.Sprintf("%s %s %s", c.Verb, c.Thing.Kind, clean(c.Thing.Name))
	case c.Verb == "update":
		return fmt.Sprintf("update %s from %s to %s", c.Attribute, quote(c.Before), quote(c.After))
	case c.Verb == "create":
		return "create account " + clean(c.Account)
	}
	return c.Verb + " account"
}

// redefined says what a redefinition changes: a title, or what a list gains or
// loses.
func redefined(c *plan.Change) string {
	what := fmt.Sprintf("redefine %s %s: ", c.Thing.Kind, clean(c.Thing.Name))
	if c.Attribute == "title" {
		return what + fmt.Sprintf("title from %s to %s", quote(c.Before), quote(c.After))
	}
	before, after := plan.Texts(c.Before), plan.Texts(c.After)
	words := [2]string{"it no longer brings ", "it also brings "}
	if c.Attribute == "permissions" {
		words = [2]string{"without permission ", "with permission "}
	}
	if gone := without(before, after); len(gone) > 0 {
		return what + words[0] + clean(strings.Join(gone, ", "))
	}
	return what + words[1] + clean(strings.Join(without(after, before), ", "))
}

func without(list, others []string) []string {
	return slices.DeleteFunc(slices.Clone(list), func(s string) bool { return slices.Contains(others, s) })
}

// maxReach is how many people of a redefinition's reach are named.
const maxReach = 8

// reached says whom a redefinition reaches.
func reached(c *plan.Change) string {
	r := c.Reach
	switch {
	case r == nil || c.Attribute == "title":
		return ""
	case r.Accounts == 0:
		return "nobody has it, so nobody gains or loses anything"
	}
	gains := model.Count(r.Accounts, "account gains", "accounts gain") + " by it: "
	if c.Effect == "narrows" {
		gains = model.Count(r.Accounts, "account loses", "accounts lose") + " by it: "
	}
	named := r.People[:min(len(r.People), maxReach)]
	if more := r.Accounts - len(named); more > 0 {
		return gains + clean(strings.Join(named, ", ")) + " and " + model.Thousands(more) + " more"
	}
	return gains + clean(strings.Join(named, ", "))
}

// Means says what a change means in the end, beyond what it does: what comes or
// goes with it. It is "" where there is nothing to add.
func Means(c *plan.Change) string {
	if c.Verb == "redefine" {
		return reached(c)
	}
	var things []string
	for _, t := range c.Also {
		things = append(things, t.Kind+" "+clean(t.Name))
	}
	list := strings.Join(things, ", ")
	var out []string
	if list != "" {
		out = append(out, map[string]string{
			"suspend": "out of reach: ", "restore": "in reach again: ", "remove": "gone with it: ",
		}[c.Verb]+list)
		switch {
		case c.Thing != nil && c.Effect == "widens":
			out[0] = "also " + list
		case c.Thing != nil:
			out[0] = "with it goes " + list
		}
	}
	switch {
	case c.Stays && c.Effect == "widens":
		out = append(out, "it was there already, brought along by something else")
	case c.Stays && c.Effect == "narrows":
		out = append(out, "it stays, brought along by something else")
	}
	return strings.Join(out, "; ")
}

// Sentence says in words what a change does, and to whom.
func Sentence(p *plan.Plan, c *plan.Change) string {
	if c.Person == "" && c.Account == "" { // a definition
		return c.App + ": " + What(c)
	}
	return fmt.Sprintf("%s: %s for %s", c.App, What(c), Whose(p, c))
}

// Whose names the person of a change, or the account of nobody.
func Whose(p *plan.Plan, c *plan.Change) string {
	if c.Person == "" && c.Account == "" {
		return "all who have it"
	}
	if c.Person == "" {
		return clean(c.Account) + ", nobody's account"
	}
	if name := p.People[c.Person]; name != "" {
		return clean(name) + " (" + clean(c.Person) + ")"
	}
	return clean(c.Person)
}

func quote(v any) string {
	if v == nil {
		return "no value"
	}
	return fmt.Sprintf("%q", fmt.Sprint(v))
}

// clean keeps control characters of an export from reaching the terminal.
func clean(s string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' || r >= 0x7f && r < 0xa0 || r == '\u2028' || r == '\u2029' {
			return '\ufffd'
		}
		return r
	}, s)
}

// TotalsLine says what a plan amounts to, in colour.
func TotalsLine(t plan.Totals) string { return totals(t, Effect, Alarm) }

func totals(t plan.Totals, effect func(effect, text string) string, alarm func(string) string) string {
	line := model.Count(t.Changes, "change", "changes") + ": " + strings.Join([]string{
		effect("widens", model.Count(t.Widens, "widens", "widen")+" access"),
		effect("narrows", model.Count(t.Narrows, "narrows", "narrow")+" it"),
		effect("keeps", model.Count(t.Keeps, "keeps", "keep")+" it"),
	}, ", ")
	if t.ForGood > 0 {
		line += "; " + alarm(model.Count(t.ForGood, "is", "are")+" for good")
	}
	if t.Held > 0 {
		line += "; " + alarm(model.Count(t.Held, "is", "are")+" held")
	}
	return line
}

// Head writes what a plan is and what it amounts to.
func (p *Printer) Head(pl *plan.Plan) {
	p.Linef("%s of %s, %s", Strong("Plan "+pl.ID), pl.AsOf, clean(pl.Organization))
	revision := "files outside Git"
	if pl.Desired.Revision != "" {
		revision = "files of revision " + pl.Desired.Revision[:min(10, len(pl.Desired.Revision))]
		if !pl.Desired.Clean {
			revision += " and changes that are not committed"
		}
	}
	p.Line(Dim(revision + "; " + model.Count(pl.Desired.People, "person", "people")))
	if s := pl.Selection; s != nil {
		var limits []string
		if len(s.Apps) > 0 {
			what := "the applications "
			if len(s.Apps) == 1 {
				what = "the application "
			}
			limits = append(limits, what+strings.Join(s.Apps, ", "))
		}
		if s.Only != "" {
			limits = append(limits, "people with "+s.Only)
		}
		p.Line("Limited to " + strings.Join(limits, " and "))
	}
	p.Line(TotalsLine(pl.Totals))
	for _, c := range pl.Costs {
		p.Linef("Seats in use cost %s.", costs(&c))
	}
}

// costs says what seats in use cost before and after.
func costs(c *plan.Cost) string {
	if c.Before == c.After {
		return fmt.Sprintf("%s %s a month, and as much after the plan", c.Before, c.Currency)
	}
	return fmt.Sprintf("%s %s a month, and %s after the plan", c.Before, c.Currency, c.After)
}

// Plan writes a plan, application by application and person by person.
func (p *Printer) Plan(v *PlanView) {
	p.Head(v.Plan)
	if v.Part {
		p.Linef("%d of them shown here.", len(v.Changes))
	}
	byApp := map[string][]*plan.Change{}
	for _, c := range v.Changes {
		byApp[c.App] = append(byApp[c.App], c)
	}
	for i := range v.Plan.Exports {
		e := &v.Plan.Exports[i]
		notices := noticesOf(v.Plan, e.App)
		if len(byApp[e.App]) == 0 && (v.Part || len(notices) == 0) {
			continue
		}
		p.Line()
		p.Linef("%s  %s", Strong(e.App), clean(e.Title))
		p.Line(Dim(fmt.Sprintf("%s, exported %s", model.Count(e.Accounts, "account", "accounts"), minute(e.TakenAt))))
		shared, counts := sharedHolds(byApp[e.App])
		for _, h := range shared {
			p.held("", fmt.Sprintf("%d changes held by ", counts[h]), h)
		}
		p.people(v, byApp[e.App], shared)
		if !v.Part {
			for _, n := range notices {
				p.Line()
				p.wrapped("  ", "Notice: "+clean(n), nil)
			}
		}
	}
	if !v.Part {
		for _, n := range noticesOf(v.Plan, "") {
			p.Line()
			p.wrapped("", "Notice: "+clean(n), nil)
		}
		p.setAside(v.Plan)
	}
}

// sharedHolds returns the holds that several changes share, in the order in
// which they come, with how many: their words are said once.
func sharedHolds(changes []*plan.Change) (holds []plan.Hold, counts map[plan.Hold]int) {
	counts = map[plan.Hold]int{}
	var all []plan.Hold
	for _, c := range changes {
		for _, h := range c.Holds {
			if counts[h]++; counts[h] == 1 {
				all = append(all, h)
			}
		}
	}
	return slices.DeleteFunc(all, func(h plan.Hold) bool { return counts[h] < 2 }), counts
}

// minute writes an RFC 3339 time to the minute, in UTC.
func minute(at string) string {
	if len(at) >= 16 {
		return at[:10] + " " + at[11:16] + " UTC"
	}
	return at
}

func noticesOf(pl *plan.Plan, app string) (out []string) {
	for _, n := range pl.Notices {
		if n.App == app {
			out = append(out, n.Says)
		}
	}
	return out
}

// people writes the changes of one application, person by person, in the
// order of ids; within a person in the plan's order.
func (p *Printer) people(v *PlanView, changes []*plan.Change, shared []plan.Hold) {
	by := map[string][]*plan.Change{}
	for _, c := range changes {
		key := c.Person
		if key == "" && c.Account != "" {
			key = "\x00" + c.Account
		}
		by[key] = append(by[key], c)
	}
	keys := slices.Collect(maps.Keys(by))
	sort.Strings(keys)
	for _, key := range keys {
		c := by[key][0]
		p.Line()
		who := clean(c.Account) + "  " + Dim("belongs to nobody")
		if c.Account == "" {
			who = Strong("Definitions")
		}
		if c.Person != "" {
			who = Strong(clean(v.Plan.People[c.Person])) + "  " + Dim(clean(c.Person))
			if c.Account != c.Person {
				who += "  " + Dim(clean(c.Account))
			}
		}
		p.Line("  " + who)
		for _, c := range by[key] {
			p.change(v, c, shared)
		}
	}
}

// width is how many columns a line of a plan takes, at the most.
const width = 100

// gutter is where the text of a change begins.
const gutter = "             "

func (p *Printer) change(v *PlanView, c *plan.Change, shared []plan.Hold) {
	what := What(c)
	if c.ForGood {
		what += ", for good"
	}
	state := v.States[c.ID]
	line := "    " + Effect(c.Effect, fmt.Sprintf("%-9s", c.Effect))
	if c.ForGood {
		line += Alarm(what)
	} else {
		line += what
	}
	tail := c.ID
	if state != "" {
		tail = state + "  " + tail
	}
	pad := width - lipgloss.Width(line) - lipgloss.Width(tail)
	p.Line(line + strings.Repeat(" ", max(pad, 2)) + Dim(tail))
	if means := Means(c); means != "" {
		p.wrapped(gutter, means, nil)
	}
	for _, r := range c.Reasons {
		says := clean(r.Says)
		if r.File != "" {
			says = fmt.Sprintf("%s:%d  %s", r.File, r.Line, says)
		}
		p.wrapped(gutter, says, Dim)
	}
	for _, h := range c.Holds {
		if slices.Contains(shared, h) {
			p.Line(gutter + Alarm("held by "+h.Guard))
			continue
		}
		p.held(gutter, "held by ", h)
	}
}

// held writes a hold: its name stands out, its words are plain.
func (p *Printer) held(margin, label string, h plan.Hold) {
	label += h.Guard
	first := true
	p.wrapped(margin, label+": "+clean(h.Says), func(line string) string {
		if rest, ok := strings.CutPrefix(line, label); ok && first {
			line = Alarm(label) + rest
		}
		first = false
		return line
	})
}

// wrapped writes a text under a left margin, wrapped at the width.
func (p *Printer) wrapped(margin, text string, style func(string) string) {
	// Days and names hold hyphens, and are not broken there.
	folded := lipgloss.Wrap(strings.ReplaceAll(text, "-", "\u2011"), width-len(margin)-2, "")
	for i, line := range strings.Split(strings.ReplaceAll(folded, "\u2011", "-"), "\n") {
		if i > 0 {
			line = "  " + strings.TrimLeft(line, " ")
		}
		if style != nil {
			line = style(line)
		}
		p.Line(margin + line)
	}
}

// Aside says in one line how many differences a plan sets aside.
func (p *Printer) Aside(pl *plan.Plan) {
	if n := len(pl.SetAside); n > 0 {
		p.Linef("%s set aside, as rejected before; show tells which and why.", model.Count(n, "difference is", "differences are"))
	}
}

// setAside says what earlier rejections leave out of the plan, and why.
func (p *Printer) setAside(pl *plan.Plan) {
	if len(pl.SetAside) == 0 {
		return
	}
	p.Line()
	p.Linef("%s set aside, as rejected before:", model.Count(len(pl.SetAside), "difference is", "differences are"))
	for i := range pl.SetAside {
		s := &pl.SetAside[i]
		until := ""
		if s.Until != "" {
			until = " until " + s.Until
		}
		p.Line("  " + Sentence(pl, &s.Change) + "  " + Dim(s.Change.ID))
		p.wrapped("    ", "rejected"+until+" by "+clean(s.By)+": "+clean(s.Because), Dim)
	}
}

// PlanTable is the changes as a table, one a row.
func PlanTable(v *PlanView) *Table {
	keys := []string{"id", "app", "person", "name", "account", "effect", "verb", "kind", "thing", "attribute", "before", "after", "also", "forGood", "held", "decision", "reason"}
	t := &Table{Headers: keys, Keys: keys}
	for _, c := range v.Changes {
		kind, thing := "", ""
		if c.Thing != nil {
			kind, thing = c.Thing.Kind, c.Thing.Name
		}
		var holds, reasons []string
		for _, h := range c.Holds {
			holds = append(holds, h.Guard+": "+h.Says)
		}
		for _, r := range c.Reasons {
			reasons = append(reasons, fmt.Sprintf("%s:%d %s", r.File, r.Line, r.Says))
		}
		t.Rows = append(t.Rows, []string{c.ID, c.App, c.Person, v.Plan.People[c.Person], c.Account, c.Effect, c.Verb, kind, thing, c.Attribute,
			plainValue(c.Before), plainValue(c.After), Means(c), fmt.Sprint(c.ForGood), strings.Join(holds, " | "), v.States[c.ID], strings.Join(reasons, " | ")})
	}
	return t
}

func plainValue(v any) string {
	switch v := v.(type) {
	case nil:
		return ""
	case string:
		return v
	}
	out, err := json.Marshal(v)
	if err != nil {
		return fmt.Sprint(v)
	}
	return string(out)
}

// PlanJSON writes the plan with the changes of the view, indented.
func PlanJSON(w io.Writer, v *PlanView) error {
	part := *v.Plan
	part.Changes = []plan.Change{}
	for _, c := range v.Changes {
		part.Changes = append(part.Changes, *c)
	}
	part.Totals = plan.Count(part.Changes)
	return PrintJSON(w, &part)
}

// PlanMarkdown writes the plan for a merge request.
func PlanMarkdown(w io.Writer, v *PlanView) error {
	p := &Printer{w: w}
	t := plan.Totals{Changes: len(v.Changes)}
	for _, c := range v.Changes {
		t.Add(c)
	}
	p.Linef("### Plan %s of %s", v.Plan.ID, v.Plan.AsOf)
	p.Line()
	p.Linef("%s.", totals(t, func(_, text string) string { return text }, func(s string) string { return s }))
	for i := range v.Plan.Costs {
		p.Linef("Seats in use cost %s.", costs(&v.Plan.Costs[i]))
	}
	for i := range v.Plan.Exports {
		e := &v.Plan.Exports[i]
		first := true
		for _, c := range v.Changes {
			if c.App != e.App {
				continue
			}
			if first {
				p.Line()
				p.Linef("#### %s", markdown(e.App+" "+e.Title))
				p.Line()
				p.Line("| effect | who | change | why |")
				p.Line("| --- | --- | --- | --- |")
				first = false
			}
			var why []string
			for _, h := range c.Holds {
				why = append(why, "**held by "+h.Guard+":** "+markdown(h.Says))
			}
			for _, r := range c.Reasons {
				why = append(why, fmt.Sprintf("%s:%d %s", markdown(r.File), r.Line, markdown(r.Says)))
			}
			what := What(c)
			if c.ForGood {
				what += ", for good"
			}
			if means := Means(c); means != "" {
				what += " (" + means + ")"
			}
			p.Linef("| %s | %s | %s | %s |", c.Effect, markdown(Whose(v.Plan, c)), markdown(what), strings.Join(why, "<br>"))
		}
	}
	return p.Err()
}

// markdown escapes a text for a cell of a Markdown table.
func markdown(s string) string {
	return strings.NewReplacer(`\`, `\\`, "|", `\|`, "*", `\*`, "_", `\_`, "`", "\\`", "<", "&lt;", ">", "&gt;", "[", `\[`, "]", `\]`).Replace(clean(s))
}
