package show

import (
	"bytes"
	"fmt"
	"maps"
	"slices"
	"strings"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"

	"pravet/internal/core/model"
	"pravet/internal/core/outline"
	"pravet/internal/core/plan"
	"pravet/internal/core/words"
)

// Ref is how a cause or a fold is named among changes: by a colon and the beginning
// of its id.
func Ref(id string) string { return ":" + id[:min(refLength, len(id))] }

// refLength is how many letters of a cause's or a fold's id are shown: a plan has few
// enough of them for that to be unique, and where it is not, the program says so.
const refLength = 5

// room shortens a text to some columns, with an ellipsis.
func room(text string, columns int) string { return ansi.Truncate(text, max(columns, 1), "…") }

// filled shortens a text to some columns, or fills it with spaces.
func filled(text string, columns int) string {
	if len(text) <= columns && plain([]byte(text)) {
		return text + strings.Repeat(" ", columns-len(text))
	}
	text = room(text, columns)
	return text + strings.Repeat(" ", max(columns-lipgloss.Width(text), 0))
}

// Summary writes what a plan amounts to: how many changes there are where, what is
// held, what is unusual, and what causes the changes. Long texts are shortened to a
// line, but as far as some lines leave room go on in another, from the top.
func (p *Printer) Summary(v *PlanView, lines int) {
	var text bytes.Buffer
	p.To(&text).summary(v)
	p.spare = lines - 2 - bytes.Count(text.Bytes(), []byte{'\n'})
	p.summary(v)
}

func (p *Printer) summary(v *PlanView) {
	p.Head(v.Plan)
	if v.Part {
		p.Line(p.part(v))
	}
	decided := map[string]int{}
	for _, c := range v.Changes {
		if state := v.States[c.ID]; state != "" {
			decided[state]++
		}
	}
	if len(decided) > 0 {
		text := "Decided: " + tally(decided)
		earlier := 0
		for _, c := range v.Changes {
			if _, ok := v.Earlier[c.ID]; ok {
				earlier++
			}
		}
		if earlier > 0 {
			text += fmt.Sprintf(", %s of them in an earlier plan", model.Thousands(earlier))
		}
		p.Line(text)
	}
	o := v.Outline
	if len(o.Counts) == 0 {
		p.said(v)
		return
	}
	p.counts(o)
	for i := range o.Held {
		h := &o.Held[i]
		text := fmt.Sprintf("held  %s in %s by %s", model.Thousands(len(h.Changes)), h.App, h.Guard)
		if h.Shared {
			text += ": " + words.Clean(h.Says)
		}
		p.marked("held", text)
	}
	for i := range o.Unusual {
		u := &o.Unusual[i]
		text := fmt.Sprintf(
			"look  %s, %s: %s",
			model.Thousands(len(u.Changes)), words.Marked(u.Mark), words.Sentence(v.Plan, v.change(u.Changes[0])),
		)
		if more := len(u.Changes) - 1; more > 0 {
			text += fmt.Sprintf(" and %s more", model.Thousands(more))
		}
		p.marked("look", text)
	}
	p.causes(v)
	p.said(v)
}

// tally says how many there are of each state.
func tally(states map[string]int) string {
	var out []string
	for _, state := range slices.Sorted(maps.Keys(states)) {
		out = append(out, model.Thousands(states[state])+" "+state)
	}
	return strings.Join(out, ", ")
}

// part says how much of a plan is shown.
func (p *Printer) part(v *PlanView) string {
	n, all := len(v.Changes), len(v.Plan.Changes)
	if n == all {
		return "All of them are shown here."
	}
	return fmt.Sprintf("%s of them %s shown here.", model.Thousands(n), model.Plural(n, "is", "are"))
}

// marked writes a text whose first word stands out.
func (p *Printer) marked(word, text string) {
	rest := strings.TrimPrefix(text, word+"  ")
	for i, line := range p.broken([]int{p.columns - len(word) - 2}, rest)[0] {
		line = strings.TrimLeft(line, " ")
		if i == 0 {
			p.Line(Alarm(word) + "  " + line)
		} else {
			p.Line(strings.Repeat(" ", len(word)+2) + line)
		}
	}
}

// broken parts texts that stand beside each other into lines of so many columns, as
// long as there is room for more lines; else each is shortened to one.
func (p *Printer) broken(columns []int, texts ...string) [][]string {
	out, high := make([][]string, len(texts)), 1
	for i, text := range texts {
		out[i] = strings.Split(wrap(text, max(columns[i], 1)), "\n")
		high = max(high, len(out[i]))
	}
	if high-1 > p.spare {
		for i, text := range texts {
			out[i] = []string{room(text, columns[i])}
		}
		return out
	}
	p.spare -= high - 1
	for i := range out {
		for len(out[i]) < high {
			out[i] = append(out[i], "")
		}
	}
	return out
}

// said counts what a plan says besides its changes, which the full text has.
func (p *Printer) said(v *PlanView) {
	var more []string
	notices := 0
	for _, n := range v.Plan.Notices {
		if n.App == "" || v.shows(n.App) {
			notices++
		}
	}
	if notices > 0 {
		more = append(more, model.Count(notices, "notice", "notices"))
	}
	if n := len(v.Aside); n > 0 {
		more = append(more, model.Count(n, "difference", "differences")+" set aside")
	}
	more = append(more, "every change with its reasons: --full, one line each: --brief")
	p.wrapped("", strings.Join(more, "; "), Dim)
}

// counts writes a line for each application: its changes by effect and by verb.
func (p *Printer) counts(o *outline.Outline) {
	wide := len("application")
	for i := range o.Counts {
		wide = max(wide, lipgloss.Width(words.Clean(o.Counts[i].App)))
	}
	wide = min(wide, 24)
	p.Line(Dim(filled("application", wide) + "  changes  widen  narrow   keep   held  by verb"))
	margin := wide + 2 + len("changes  widen  narrow   keep   held  ")
	for i := range o.Counts {
		c := &o.Counts[i]
		verbs := slices.Clone(c.Verbs)
		slices.SortStableFunc(verbs, func(x, y outline.VerbCount) int { return y.Changes - x.Changes })
		var by []string
		for _, x := range verbs {
			by = append(by, fmt.Sprintf("%s %s", x.Verb, model.Thousands(x.Changes)))
		}
		number := func(n, width int) string { return fmt.Sprintf("%*s", width, model.Thousands(n)) }
		line := filled(words.Clean(c.App), wide) + "  " + number(c.Totals.Changes, 7) + "  " +
			Effect(model.Widens, number(c.Totals.Widens, 5)) + "  " +
			Effect(model.Narrows, number(c.Totals.Narrows, 6)) + "  " +
			Effect(model.Keeps, number(c.Totals.Keeps, 5)) + "  "
		held := number(c.Totals.Held, 5)
		if c.Totals.Held > 0 {
			held = Alarm(held)
		}
		p.Line(line + held + "  " + room(strings.Join(by, ", "), p.columns-margin))
	}
}

// causes writes a line for each cause: how many changes follow from it, what most of
// them do, and the cause.
func (p *Printer) causes(v *PlanView) {
	o := v.Outline
	type row struct{ count, what, cause, ref string }
	var rows []row
	whats, causes, whole := 0, 0, 0
	of := o.ByCause()
	for n := range o.Causes[:min(len(o.Causes), maxCauses)] {
		folds := of[n]
		what := words.Alike(&folds[0])
		if more := len(o.Causes[n].Changes) - len(folds[0].Changes); more > 0 {
			what += fmt.Sprintf(" and %s more", model.Thousands(more))
		}
		if folds[0].Persons == 1 && o.Causes[n].Persons == 1 {
			what += ", " + words.Who(&folds[0])
		}
		cause := words.CauseInShort(&o.Causes[n])
		r := row{model.Thousands(len(o.Causes[n].Changes)), what, cause, Ref(o.Causes[n].ID)}
		line, _, _ := strings.Cut(cause, ": ") // a commit's subject takes what room is left
		whats, causes, whole = max(whats, width(r.what)), max(causes, width(line)), max(whole, width(cause))
		rows = append(rows, r)
	}
	counts := len(rows[0].count) // the causes with the most changes come first
	left := p.columns - counts - 2 - 2 - 2 - 1 - refLength
	if whats+causes > left {
		whats = min(whats, max(left-causes, left/2))
	}
	causes = min(whole, left-whats)
	p.Line(Dim(strings.Repeat(" ", counts) + "  " + filled("what", whats) + "  " + "because"))
	for _, r := range rows {
		cells := p.broken([]int{whats, causes}, r.what, room(r.cause, 2*causes-longestWord))
		for i := range cells[0] {
			count, ref := "", ""
			if i == 0 {
				count, ref = r.count, "  "+Dim(r.ref)
			}
			line := fmt.Sprintf("%*s  ", counts, count) + filled(strings.TrimLeft(cells[0][i], " "), whats) + "  "
			p.Line(strings.TrimRight(line+filled(strings.TrimLeft(cells[1][i], " "), causes)+ref, " "))
		}
	}
	if more := len(o.Causes) - maxCauses; more > 0 {
		p.Linef("and %s, each with fewer: --group-by cause", model.Count(more, "more cause", "more causes"))
	}
}

// maxCauses is of how many causes a summary tells.
const maxCauses = 40

// longestWord is what two lines of a cause lose where a word does not fit the first one.
const longestWord = 12

// change finds a change of the plan by its id.
func (v *PlanView) change(id string) *plan.Change {
	if v.byID == nil {
		v.byID = make(map[string]*plan.Change, len(v.Changes))
		for _, c := range v.Changes {
			v.byID[c.ID] = c
		}
	}
	return v.byID[id]
}

// Brief writes a line for each change, without reasons.
func (p *Printer) Brief(v *PlanView) {
	p.Head(v.Plan)
	if v.Part {
		p.Line(p.part(v))
	}
	p.Line()
	p.brief(v, outline.Listed(v.Plan, v.Changes), "")
	if len(v.Aside) > 0 {
		p.setAside(v)
	}
}

// brief writes changes one a line: their number, what they do to whom, what was
// decided or holds them, and their id.
func (p *Printer) brief(v *PlanView, changes []*plan.Change, margin string) {
	numbers := 1
	for _, c := range changes {
		numbers = max(numbers, len(fmt.Sprint(v.Outline.Number(c.ID))))
	}
	var text strings.Builder // of some lines, written at once
	for i, c := range changes {
		if i%brieflyWritten == 0 {
			p.write(text.String())
			text.Reset()
		}
		if p.err != nil {
			return // nobody reads on
		}
		tail := c.ID
		switch state := v.States[c.ID]; {
		case state != "":
			tail = state + "  " + tail
		case len(c.Holds) > 0:
			tail = "held by " + c.Holds[0].Guard + "  " + tail
		}
		head := fmt.Sprintf("%s%*d  ", margin, numbers, v.Outline.Number(c.ID))
		left := p.columns - len(head) - 9 - len(tail) - 2 // both are of ASCII
		what := words.Sentence(v.Plan, c)
		if c.ForGood {
			what += ", for good"
		}
		text.WriteString(
			head + Effect(c.Effect, fmt.Sprintf("%-9s", c.Effect)) + filled(what, left) + "  " + Dim(tail) + "\n",
		)
	}
	p.write(text.String())
}

// brieflyWritten is how many lines are written at once.
const brieflyWritten = 100

// Groups writes the changes grouped: each group with its folds, or unfolded with its
// changes. title says what the groups are of; a reference after it is never cut.
func (p *Printer) Groups(v *PlanView, groups []outline.Group, title func(key string) (string, string), unfold bool) {
	p.Head(v.Plan)
	if v.Part {
		p.Line(p.part(v))
	}
	for i := range groups {
		g := &groups[i]
		p.Line()
		name, ref := title(g.Key)
		after := model.Count(len(g.Changes), "change", "changes")
		if ref != "" {
			after = ref + "  " + after
		}
		p.lead(name, after)
		if unfold {
			var changes []*plan.Change
			for _, id := range g.Changes {
				changes = append(changes, v.change(id))
			}
			p.brief(v, outline.Listed(v.Plan, changes), "  ")
			continue
		}
		p.folds(v, g.Folds)
	}
}

// lead writes what a group is called, wrapped at the width, and after its last word what is never broken.
func (p *Printer) lead(name, after string) {
	lines := strings.Split(wrap(name, p.columns), "\n")
	for _, line := range lines[:len(lines)-1] {
		p.Line(Strong(line))
	}
	last := lines[len(lines)-1]
	if width(last)+2+width(after) > p.columns {
		p.Line(Strong(last))
		p.Line("  " + Dim(after))
		return
	}
	p.Line(Strong(last) + "  " + Dim(after))
}

// folds writes alike changes one a line.
func (p *Printer) folds(v *PlanView, folds []outline.Fold) {
	counts := 1
	for i := range folds {
		counts = max(counts, len(model.Thousands(len(folds[i].Changes))))
	}
	for i := range folds {
		f := &folds[i]
		text := words.Alike(f)
		if who := words.Who(f); who != "" {
			text += ": " + who
		}
		tail := Ref(f.ID)
		var notes []string
		if f.Held > 0 {
			notes = append(notes, model.Thousands(f.Held)+" held")
		}
		if len(f.States) > 0 {
			notes = append(notes, tally(f.States))
		}
		if len(notes) > 0 {
			tail = strings.Join(notes, ", ") + "  " + tail
		}
		head := fmt.Sprintf("  %*s  ", counts, model.Thousands(len(f.Changes)))
		left := p.columns - lipgloss.Width(head) - 9 - lipgloss.Width(tail) - 2
		p.Line(head + Effect(f.Effect, fmt.Sprintf("%-9s", f.Effect)) + filled(text, left) + "  " + Dim(tail))
	}
}
