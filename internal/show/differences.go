package show

import (
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"charm.land/lipgloss/v2"

	"pravet/internal/core/access"
	"pravet/internal/core/model"
	"pravet/internal/core/words"
)

// difference says in words what differs.
func difference(d *access.Difference) string {
	if d.Detail != "" {
		return words.Clean(d.Detail)
	}
	says := "may no longer sign in"
	if d.Effect == model.Widens {
		says = "may sign in"
	}
	if d.Kind != "account" {
		says = "loses " + d.Kind + " " + words.Clean(d.Thing)
		if d.Effect == model.Widens {
			says = "gains " + d.Kind + " " + words.Clean(d.Thing)
		}
		if d.Through != "" {
			says += ", along with " + words.Clean(d.Through)
		}
		if d.Sensitive {
			says += " (sensitive)"
		}
	}
	return says
}

// DifferencesLine counts what differs.
func DifferencesLine(list []access.Difference) string { return differencesLine(list, Effect) }

func differencesLine(list []access.Difference, effect func(effect model.Effect, text string) string) string {
	if len(list) == 0 {
		return "Nobody gains or loses any access, and no definition differs."
	}
	people := map[model.Effect]map[string]bool{model.Widens: {}, model.Narrows: {}, model.Keeps: {}}
	for i := range list {
		whom := list[i].Whom // of a definition: all who have it
		if list[i].Person != "" {
			whom = []string{list[i].Person}
		}
		for _, id := range whom {
			people[list[i].Effect][id] = true
			people[model.Keeps][id] = true
		}
	}
	all := len(people[model.Keeps])
	if all == 0 {
		return model.Count(len(list), "difference", "differences") + ", of definitions that reach nobody yet."
	}
	return fmt.Sprintf(
		"%s of %s: %s, %s.",
		model.Count(len(list), "difference", "differences"),
		model.Count(all, "person", "people"),
		effect(model.Widens, somebody(len(people[model.Widens]), "gains", "gain")+" access"),
		effect(model.Narrows, somebody(len(people[model.Narrows]), "loses", "lose")+" it"),
	)
}

// somebody counts people who do something.
func somebody(n int, does, do string) string {
	if n == 0 {
		return "nobody " + does
	}
	return model.Count(n, "person "+does, "people "+do)
}

// WarningLine is a warning with its place.
func WarningLine(w *access.Warning) string {
	return words.Clean(w.Pos.String()) + ": " + words.Clean(words.Of(&w.Fact))
}

// warnings writes what deserves a look, each with its place.
func (p *Printer) warnings(list []access.Warning) {
	for i := range list {
		const word = "warning"
		for n, line := range strings.Split(wrap(WarningLine(&list[i]), p.columns-len(word)-2), "\n") {
			if n == 0 {
				p.Line(widens.Render(word) + "  " + line)
			} else {
				p.Line(strings.Repeat(" ", len(word)+2) + line)
			}
		}
	}
}

// Differences writes what differs, person by person, and what deserves a look.
func (p *Printer) Differences(list []access.Difference, warnings []access.Warning) {
	p.Line(DifferencesLine(list))
	p.warnings(warnings)
	wide := 8
	for i := range list {
		wide = max(wide, lipgloss.Width(words.Clean(list[i].App)))
	}
	for i := range list {
		d := &list[i]
		if i == 0 || list[i-1].Person != d.Person {
			p.Line()
			if d.Person == "" {
				p.Line("  " + Strong("Definitions, for all who have them"))
			} else {
				p.Line("  " + Strong(words.Clean(d.Name)) + "  " + Dim(words.Clean(d.Person)))
			}
		}
		app := lipgloss.NewStyle().Width(wide + 2).Render(words.Clean(d.App))
		p.Line("    " + Effect(d.Effect, fmt.Sprintf("%-9s", d.Effect)) + app + difference(d))
		// A cause is said once for all that follow from it.
		if i+1 == len(list) || list[i+1].Person != d.Person || list[i+1].Because != d.Because {
			p.wrapped(gutter+strings.Repeat(" ", wide+2), because(&d.Because), Dim)
		}
	}
}

// DifferencesSummary writes how many differences there are in each application.
func (p *Printer) DifferencesSummary(list []access.Difference, warnings []access.Warning) {
	p.Line(DifferencesLine(list))
	p.warnings(warnings)
	type count struct {
		effects [3]int
		people  map[string]bool
	}
	apps := map[string]*count{}
	for i := range list {
		d := &list[i]
		if apps[d.App] == nil {
			apps[d.App] = &count{people: map[string]bool{}}
		}
		apps[d.App].effects[d.Effect]++
		if d.Person != "" {
			apps[d.App].people[d.Person] = true
		}
		for _, id := range d.Whom {
			apps[d.App].people[id] = true
		}
	}
	t := &Table{Columns: columns("application", "people", "widen", "narrow", "keep")}
	for i := 1; i < len(t.Columns); i++ {
		t.Columns[i].Number = true
	}
	for _, app := range slices.Sorted(maps.Keys(apps)) {
		c := apps[app]
		t.add(app, model.Thousands(len(c.people)), model.Thousands(c.effects[model.Widens]), model.Thousands(c.effects[model.Narrows]),
			model.Thousands(c.effects[model.Keeps]))
	}
	if len(list) > 0 {
		p.Line()
		p.Print(t)
	}
}

// A DifferenceGroup is differences that have something in common.
type DifferenceGroup struct {
	Title string
	List  []access.Difference
}

// DifferencesGrouped writes groups of differences, each folded.
func (p *Printer) DifferencesGrouped(list []access.Difference, groups []DifferenceGroup, warnings []access.Warning) {
	p.Line(DifferencesLine(list))
	p.warnings(warnings)
	for i := range groups {
		p.Line()
		p.Line(Strong(words.Clean(groups[i].Title)) + "  " + Dim(model.Count(len(groups[i].List), "difference", "differences")))
		p.foldedDifferences(access.Fold(groups[i].List))
	}
}

// DifferencesFolded writes alike differences of one cause as one.
func (p *Printer) DifferencesFolded(list []access.Difference, warnings []access.Warning) {
	p.Line(DifferencesLine(list))
	p.warnings(warnings)
	p.foldedDifferences(access.Fold(list))
	p.Line(Dim("person by person: --full"))
}

func (p *Printer) foldedDifferences(list []access.Folded) {
	counts := 1
	for i := range list {
		counts = max(counts, len(model.Thousands(list[i].People)))
	}
	margin := strings.Repeat(" ", counts+4+9)
	for i := range list {
		f := &list[i]
		d := access.Difference{
			Kind: f.Kind, Thing: f.Thing, Effect: f.Effect, Through: f.Through, Detail: f.Detail, Sensitive: f.Sensitive,
		}
		head := fmt.Sprintf("  %*s  ", counts, model.Thousands(f.People))
		who := words.Clean(strings.Join(f.Names, ", "))
		if more := f.People - len(f.Names); more > 0 {
			who += " and " + model.Thousands(more) + " more"
		}
		text := words.Clean(f.App) + ": " + difference(&d)
		if who != "" {
			text += ": " + who
		}
		left := p.columns - len(margin)
		p.Line(head + Effect(f.Effect, fmt.Sprintf("%-9s", f.Effect)) + room(text, left))
		reason := f.Because
		if f.Apart {
			reason.File = ""
		}
		p.wrapped(margin, because(&reason), Dim)
	}
}

func because(r *access.Reason) string {
	if r.File == "" {
		return words.Clean(r.Says)
	}
	return fmt.Sprintf("%s:%d  %s", words.Clean(r.File), r.Line, words.Clean(r.Says))
}

// DifferenceTable is what differs as a table.
func DifferenceTable(list []access.Difference) *Table {
	return tableOf(list, both(
		"person", "name", "app", "effect", "kind", "thing", "through", "detail", "because", "file", "line", "sensitive",
	), func(d *access.Difference) []any {
		return []any{
			d.Person, d.Name, d.App, d.Effect, d.Kind, d.Thing, d.Through, d.Detail, d.Because.Says, d.Because.File,
			line(d.Because.Line), d.Sensitive,
		}
	})
}

// DifferencesMarkdown writes what differs for a merge request, by effect: who
// gains what first.
func DifferencesMarkdown(w io.Writer, list []access.Difference, warnings []access.Warning, title string) error {
	p := &Printer{w: w, columns: usualColumns}
	p.Linef("### %s", markdown(title))
	p.Line()
	p.Line(differencesLine(list, func(_ model.Effect, text string) string { return text }))
	if len(warnings) > 0 {
		p.Line()
	}
	for i := range warnings {
		p.Linef("- **warning:** %s", markdown(WarningLine(&warnings[i])))
	}
	for _, effect := range []model.Effect{model.Widens, model.Narrows, model.Keeps} {
		if !slices.ContainsFunc(list, func(d access.Difference) bool { return d.Effect == effect }) {
			continue
		}
		p.Line()
		p.Line(
			"#### " + map[model.Effect]string{
				model.Widens:  "Who gains access",
				model.Narrows: "Who loses access",
				model.Keeps:   "What changes besides",
			}[effect],
		)
		p.Line()
		table := &Table{Columns: columns("who", "application", "what", "why")}
		for i := range list {
			if d := &list[i]; d.Effect == effect {
				table.add(d.Name+" ("+d.Person+")", d.App, difference(d), because(&d.Because))
			}
		}
		p.Markdown(table, false)
	}
	return p.Err()
}
