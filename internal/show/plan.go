package show

import (
	"fmt"
	"maps"
	"slices"
	"sort"
	"strings"

	"charm.land/lipgloss/v2"

	"pravet/internal/core/day"
	"pravet/internal/core/decide"
	"pravet/internal/core/fact"
	"pravet/internal/core/model"
	"pravet/internal/core/outline"
	"pravet/internal/core/plan"
	"pravet/internal/core/words"
)

// A PlanView is a plan, or a part of it, as it is shown. States says of each
// change what was decided about it, by id; it may be nil.
type PlanView struct {
	Plan    *plan.Plan
	Changes []*plan.Change
	States  map[string]string
	Aside   []*plan.SetAside                                // of those set aside, what is shown
	Apps    map[string]bool                                 // the applications that are shown, or nil for all
	Part    bool                                            // something was asked for that only some changes may fit
	Outline *outline.Outline                                // of what is shown
	Earlier map[string]decide.Carried                       // of the accepted changes, those that were in an earlier plan
	Lifted  func(c *plan.Change, guard string) *decide.Lift // by what a guard is lifted, or nil; may be nil itself

	byID map[string]*plan.Change
}

// lift is the decision by which a guard does not hold a change, or nil.
func (v *PlanView) lift(c *plan.Change, guard string) *decide.Lift {
	if v.Lifted == nil {
		return nil
	}
	return v.Lifted(c, guard)
}

// shows reports whether what is said of an application, or with "" of the whole
// plan, is shown.
func (v *PlanView) shows(app string) bool { return v.Apps == nil || v.Apps[app] }

// Head writes what a plan is and what it amounts to.
func (p *Printer) Head(pl *plan.Plan) {
	p.Linef("%s of %s, %s", Strong("Plan "+pl.ID), pl.AsOf, words.Clean(pl.Organization))
	revision := "files outside Git"
	if pl.Desired.Revision != "" {
		revision = "files of revision " + pl.Desired.Revision[:min(10, len(pl.Desired.Revision))]
		if !pl.Desired.Clean {
			revision += " and changes that are not committed"
		}
	}
	if pl.Undoes != "" {
		p.Linef("Undoes %s", Strong(words.Clean(pl.Undoes)))
	}
	if pl.Desired.Environment != "" {
		p.Linef("For the environment %s alone", Strong(words.Clean(pl.Desired.Environment)))
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

// Plan writes a plan, application by application and person by person.
func (p *Printer) Plan(v *PlanView) {
	p.Head(v.Plan)
	if v.Part {
		p.Line(p.part(v))
	}
	byApp := map[string][]*plan.Change{}
	for _, c := range v.Changes {
		byApp[c.App] = append(byApp[c.App], c)
	}
	for i := range v.Plan.Exports {
		e := &v.Plan.Exports[i]
		notices := noticesOf(v.Plan, e.App)
		if !v.shows(e.App) || len(byApp[e.App]) == 0 && (len(notices) == 0 || v.Part && v.Apps == nil) {
			continue
		}
		p.Line()
		p.Linef("%s  %s", Strong(e.App), words.Clean(e.Title))
		p.Line(Dim(
			fmt.Sprintf("%s, exported %s", model.Count(e.Accounts, "account", "accounts"), zoneOf(v.Plan).MinuteOf(e.TakenAt)),
		))
		shared, counts := sharedHolds(byApp[e.App])
		for _, h := range shared {
			p.held("", model.Count(counts[h], "change held by ", "changes held by "), h)
		}
		p.people(v, byApp[e.App], shared)
		p.notices("  ", notices)
	}
	p.notices("", noticesOf(v.Plan, ""))
	p.setAside(v)
}

// notices writes notices, apart from what stands above.
func (p *Printer) notices(margin string, all []string) {
	if len(all) > 0 {
		p.Line()
	}
	for _, n := range all {
		p.wrapped(margin, "Notice: "+words.Clean(n), nil)
	}
}

// A saidHold is a hold as it is said: by its guard and its words.
type saidHold struct{ guard, says string }

// sharedHolds returns the holds that several changes share, in the order in
// which they come, with how many: their words are said once.
func sharedHolds(changes []*plan.Change) (holds []saidHold, counts map[saidHold]int) {
	counts = map[saidHold]int{}
	var all []saidHold
	for _, c := range changes {
		for _, h := range c.Holds {
			said := saidHold{h.Guard, h.Says}
			if counts[said]++; counts[said] == 1 {
				all = append(all, said)
			}
		}
	}
	return slices.DeleteFunc(all, func(h saidHold) bool { return counts[h] < 2 }), counts
}

// zoneOf is the zone by whose days a plan was drafted; UTC where this program does not know it.
func zoneOf(pl *plan.Plan) day.Zone {
	zone, _ := day.ZoneOf(pl.Desired.Zone)
	return zone
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
func (p *Printer) people(v *PlanView, changes []*plan.Change, shared []saidHold) {
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
		who := words.Clean(c.Account) + "  " + Dim("belongs to nobody")
		if c.Account == "" {
			who = Strong("Definitions")
		}
		if c.Person != "" {
			who = Strong(words.Clean(v.Plan.People[c.Person])) + "  " + Dim(words.Clean(c.Person))
			if c.Account != c.Person {
				who += "  " + Dim(words.Clean(c.Account))
			}
		}
		p.Line("  " + who)
		for i, c := range by[key] {
			// What follows from the same lines says them once, after the last.
			last := i+1 == len(by[key]) || !slices.Equal(c.Reasons, by[key][i+1].Reasons)
			p.change(v, c, shared, last)
		}
	}
}

// gutter is where the text of a change begins.
const gutter = "             "

func (p *Printer) change(v *PlanView, c *plan.Change, shared []saidHold, reasons bool) {
	what := words.What(c)
	if c.ForGood {
		what += ", for good"
	}
	state := v.States[c.ID]
	tail := c.ID
	if v.Outline != nil {
		tail = fmt.Sprintf("%d  %s", v.Outline.Number(c.ID), c.ID)
	}
	if state != "" {
		tail = state + "  " + tail
	}
	// What is too long for a line goes on under itself, so that the id stays whole.
	lines := strings.Split(wrap(what, p.columns-len(gutter)-2-lipgloss.Width(tail)), "\n")
	for i, line := range lines {
		if c.ForGood {
			line = Alarm(line)
		}
		if i > 0 {
			p.Line(gutter + "  " + strings.TrimLeft(line, " "))
			continue
		}
		line = "    " + Effect(c.Effect, fmt.Sprintf("%-9s", c.Effect)) + line
		pad := p.columns - lipgloss.Width(line) - lipgloss.Width(tail)
		p.Line(line + strings.Repeat(" ", max(pad, 2)) + Dim(tail))
	}
	if with := words.With(c); with != "" {
		p.wrapped(gutter, with, nil)
	}
	if means := words.Means(c); means != "" {
		p.wrapped(gutter, means, nil)
	}
	if x, ok := v.Earlier[c.ID]; ok {
		p.wrapped(gutter, earlier(&x), nil)
	}
	p.underneath(v, c, shared, reasons)
}

// underneath writes what stands below a change: its reasons, and what holds it.
func (p *Printer) underneath(v *PlanView, c *plan.Change, shared []saidHold, reasons bool) {
	if reasons {
		for _, r := range v.Plan.Because(c) {
			says := words.Clean(r.Says)
			if r.File != "" {
				says = fmt.Sprintf("%s:%d  %s", r.File, r.Line, says)
			}
			p.wrapped(gutter, says, Dim)
		}
	}
	for _, h := range c.Holds {
		if l := v.lift(c, h.Guard); l != nil {
			p.wrapped(gutter, lifted(l), nil)
			continue
		}
		said := saidHold{h.Guard, h.Says}
		if slices.Contains(shared, said) {
			p.Line(gutter + Alarm("held by "+h.Guard))
			continue
		}
		p.held(gutter, "held by ", said)
	}
}

// held writes a hold: its name stands out, its words are plain.
func (p *Printer) held(margin, label string, h saidHold) {
	label += h.guard
	first := true
	p.wrapped(margin, label+": "+words.Clean(h.says), func(line string) string {
		if rest, ok := strings.CutPrefix(line, label); ok && first {
			line = Alarm(label) + rest
		}
		first = false
		return line
	})
}

// wrap breaks a text into lines of some columns. Days and names hold hyphens, and
// are not broken there.
func wrap(text string, columns int) string {
	const unbroken = "\u2011"
	return strings.ReplaceAll(lipgloss.Wrap(strings.ReplaceAll(text, "-", unbroken), columns, ""), unbroken, "-")
}

// wrapped writes a text under a left margin, wrapped at the width.
func (p *Printer) wrapped(margin, text string, style func(string) string) {
	for i, line := range strings.Split(wrap(text, p.columns-len(margin)-2), "\n") {
		if i > 0 {
			line = "  " + strings.TrimLeft(line, " ")
		}
		if style != nil {
			line = style(line)
		}
		p.Line(margin + line)
	}
}

// labelled writes a text behind a word that leads it, wrapped under itself.
func (p *Printer) labelled(lead, text string, style func(string) string) {
	for i, line := range strings.Split(wrap(text, p.columns-len(lead)-2), "\n") {
		if style != nil {
			line = style(line)
		}
		if i > 0 {
			p.Line(strings.Repeat(" ", len(lead)) + line)
		} else {
			p.Line(Dim(lead) + line)
		}
	}
}

// Wrapped writes a text under a left margin, wrapped at the width.
func (p *Printer) Wrapped(margin, text string) { p.wrapped(margin, text, nil) }

// Unseen says of which things not all was shown, so that nobody takes a plan without changes for a plan of all.
func (p *Printer) Unseen(pl *plan.Plan) {
	for i := range pl.Notices {
		n := &pl.Notices[i]
		if k := n.Facts.Kind; k == fact.PartExport || k == fact.FollowsBlind {
			p.Wrapped("  ", words.Clean(n.App)+": "+words.Of(&n.Facts))
		}
	}
}

// Aside says in one line how many differences a plan sets aside.
func (p *Printer) Aside(pl *plan.Plan) {
	if n := len(pl.SetAside); n > 0 {
		p.Linef(
			"%s set aside because %s rejected earlier; pravet show lists %s with the reasons.",
			model.Count(n, "difference is", "differences are"), model.Plural(n, "it was", "they were"),
			model.Plural(n, "it", "them"),
		)
	}
}

// setAside says what earlier rejections leave out of the plan, and why.
func (p *Printer) setAside(v *PlanView) {
	if len(v.Aside) == 0 {
		return
	}
	p.Line()
	p.Linef("%s set aside because %s rejected earlier:",
		model.Count(len(v.Aside), "difference is", "differences are"), model.Plural(len(v.Aside), "it was", "they were"))
	for _, s := range v.Aside {
		p.Line("  " + words.Sentence(v.Plan, &s.Change) + "  " + Dim(s.Change.ID))
		p.wrapped("    ", rejected(s), Dim)
	}
}

// rejected says by whom a difference was rejected, until when, and why.
func rejected(s *plan.SetAside) string {
	until := ""
	if s.Until != "" {
		until = " until " + s.Until
	}
	return "rejected" + until + " by " + words.Clean(s.By) + ": " + words.Clean(s.Because)
}

// One writes one change with everything that the plan says of it.
func (p *Printer) One(v *PlanView, c *plan.Change) {
	for i := range v.Plan.Exports {
		if e := &v.Plan.Exports[i]; e.App == c.App {
			p.Linef("%s  %s", Strong(e.App), words.Clean(e.Title))
		}
	}
	p.people(v, []*plan.Change{c}, nil)
}
