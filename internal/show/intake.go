package show

import (
	"fmt"
	"strings"

	"pravet/internal/core/model"
	"pravet/internal/core/words"
	"pravet/internal/intake"
	"pravet/internal/sheet"
)

// An Intake is a spreadsheet of people, how it is understood, and what becomes of it.
type Intake struct {
	Sheet   *sheet.Table
	Mapping *intake.Mapping
	Outcome *intake.Outcome
	Into    string

	hinted map[string]bool
}

// How much of a preview is shown where not all is asked for.
const (
	firstPeople = 3
	mostRows    = 30
)

// JSON is the whole of it.
func (v *Intake) JSON() any {
	counts := map[string]int{}
	for s := range intake.States {
		counts[s.String()] = v.Outcome.Counts[s]
	}
	return struct {
		File    string          `json:"file"`
		Columns []intake.Column `json:"columns"`
		Left    []string        `json:"left"`
		Into    string          `json:"into"`
		Counts  map[string]int  `json:"counts"`
		Rows    []intake.Entry  `json:"rows"`
	}{v.Sheet.File, v.Mapping.Columns, append([]string{}, v.Mapping.Left...), v.Into, counts, v.Outcome.Entries}
}

// Table is what becomes of rows, a line for each change and each thing that is wrong.
func (v *Intake) Table() *Table {
	t := &Table{Columns: both("line", "state", "id", "name", "attribute", "from", "to", "says")}
	for i := range v.Outcome.Entries {
		e := &v.Outcome.Entries[i]
		row := func(attr, from, to, says string) { t.add(line(e.Line), e.State, e.ID, e.Name, attr, from, to, says) }
		for _, x := range e.Changes {
			row(x.Attr, x.From, x.To, "")
		}
		for n := range e.Wrong {
			row(e.Wrong[n].Attr, "", "", v.Mapping.Problem(e.Line, &e.Wrong[n]).Error())
		}
		for _, d := range e.Doubles {
			row("", "", "", d.Why+" as "+d.ID)
		}
		if e.Alike > 0 {
			row("", "", "", alike(e.Alike))
		}
		if len(e.Changes)+len(e.Wrong)+len(e.Doubles)+e.Alike == 0 {
			row("", "", "", "")
		}
	}
	return t
}

// alike is a new person who is called like one of an earlier row.
func alike(line int) string {
	return fmt.Sprintf("the same name as in line %d; if it is one person, keep one of the rows", line)
}

// Intake writes the preview of a spreadsheet.
func (p *Printer) Intake(v *Intake, full bool) {
	about := model.Count(len(v.Sheet.Rows)+len(v.Sheet.Problems), "row", "rows")
	if v.Sheet.Delimiter != 0 {
		about += ", separated by " + sheet.Name(v.Sheet.Delimiter) + "s"
	}
	if v.Sheet.Encoding != "" {
		about += ", " + v.Sheet.Encoding
	}
	p.Line(Strong(words.Clean(v.Sheet.File)) + "  " + Dim(about))
	p.Line()
	t := &Table{Columns: columns("column", "is taken as", "why")}
	for _, c := range v.Mapping.Columns {
		from := c.From
		if from == "" {
			from = "(none)"
		}
		t.add(from, c.Attr, c.How)
	}
	for _, c := range v.Mapping.Parts {
		t.add(c.From, "part of others", c.How)
	}
	for _, h := range v.Mapping.Left {
		if h == "" {
			h = "(without a name)"
		}
		t.add(h, "left out", "no attribute is called so; take it with --map extra.NAME=COLUMN")
	}
	p.Print(t)
	p.newcomers(v)
	p.Line()
	p.Line(v.counts())
	p.rows(v, full)
}

// newcomers shows the first new rows as people.
func (p *Printer) newcomers(v *Intake) {
	attrs := append([]string{"id", "userName"}, v.Mapping.Attrs()...)
	var cols []string
	for _, a := range attrs {
		if !hasFold(cols, a) {
			cols = append(cols, a)
		}
	}
	n := 0
	t := &Table{Columns: columns(cols...)}
	for i := range v.Outcome.Entries {
		e := &v.Outcome.Entries[i]
		if e.State != intake.New || n >= firstPeople {
			continue
		}
		n++
		row := make([]any, len(cols))
		for j, c := range cols {
			row[j] = e.Values[c]
		}
		t.add(row...)
	}
	if n == 0 {
		return
	}
	p.Line()
	p.Line("The first new ones as people" + into(v) + ":")
	p.Print(t)
}

func into(v *Intake) string {
	if v.Into == "" {
		return ""
	}
	return ", for " + words.Clean(v.Into)
}

func hasFold(list []string, s string) bool {
	for _, x := range list {
		if strings.EqualFold(x, s) {
			return true
		}
	}
	return false
}

func (v *Intake) counts() string {
	c := v.Outcome.Counts
	parts := []string{
		Effect(model.Widens, model.Thousands(c[intake.New])+" new"), model.Thousands(c[intake.Changed]) + " changed",
		Dim(model.Thousands(c[intake.Same]) + " the same"),
	}
	if c[intake.Missing] > 0 {
		parts = append(parts, Effect(model.Narrows, model.Thousands(c[intake.Missing])+" missing"))
	}
	if c[intake.Bad] > 0 {
		parts = append(parts, Alarm(model.Thousands(c[intake.Bad])+" wrong"))
	}
	text := strings.Join(parts, ", ")
	if n := v.Outcome.Doubles; n > 0 {
		text += "; " + Alarm(
			model.Count(n, "of the new ones may be there already", "of the new ones may be there already"),
		)
	}
	return text
}

// rows lists what becomes of rows: what is wrong first, then the others but those that stay.
func (p *Printer) rows(v *Intake, full bool) {
	v.hinted = map[string]bool{}
	wide := 0
	for i := range v.Outcome.Entries {
		wide = max(wide, len(fmt.Sprint(v.Outcome.Entries[i].Line)))
	}
	for _, state := range []intake.State{intake.Bad, intake.New, intake.Changed, intake.Missing} {
		shown := 0
		for i := range v.Outcome.Entries {
			e := &v.Outcome.Entries[i]
			if e.State != state {
				continue
			}
			if shown++; shown > mostRows && !full {
				continue
			}
			p.entry(v, e, wide)
		}
		if left := shown - mostRows; left > 0 && !full {
			p.Line(
				Dim(
					fmt.Sprintf(
						"  and %s %s; --full shows them all",
						model.Thousands(left),
						"more that are "+state.String(),
					),
				),
			)
		}
	}
}

func (p *Printer) entry(v *Intake, e *intake.Entry, wide int) {
	where := fmt.Sprintf("  line %*d  ", wide, e.Line)
	if e.Line == 0 {
		where = strings.Repeat(" ", len(where))
	}
	word := fmt.Sprintf("%-7s", e.State)
	switch e.State {
	case intake.New:
		word = Effect(model.Widens, word)
	case intake.Missing:
		word = Effect(model.Narrows, word)
	case intake.Bad:
		word = Alarm(word)
	}
	who := words.Clean(e.Name)
	if e.ID != "" {
		who += "  " + Dim(words.Clean(e.ID))
	}
	p.Line(strings.TrimRight(Dim(where)+word+"  "+who, " "))
	margin := strings.Repeat(" ", len(where)+9)
	for _, x := range e.Changes {
		p.wrapped(margin, words.Clean(x.Attr+": "+quoted(x.From)+" becomes "+quoted(x.To)), nil)
	}
	for _, d := range e.Doubles {
		p.wrapped(margin, words.Clean(d.Why+" as "+d.ID+"; if it is the same person, put that id into the "+
			"row"), Alarm)
	}
	if e.Alike > 0 {
		p.wrapped(margin, alike(e.Alike), Alarm)
	}
	for i := range e.Wrong {
		pr := v.Mapping.Problem(e.Line, &e.Wrong[i])
		if v.hinted[pr.Rule+pr.Hint] { // what to do is said once
			again := *pr
			again.Hint = ""
			pr = &again
		} else if pr.Hint != "" {
			v.hinted[pr.Rule+pr.Hint] = true
		}
		p.wrapped(margin, words.Clean(pr.Error()), nil)
	}
}

func quoted(v string) string {
	if v == "" {
		return "nothing"
	}
	return `"` + v + `"`
}
