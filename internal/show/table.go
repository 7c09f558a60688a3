package show

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"charm.land/lipgloss/v2"

	"pravet/internal/core/report"
	"pravet/internal/core/words"
)

// A Column is one column of a table.
type Column struct {
	Title  string // over it, where people read it; "" for a column that only programs get
	Key    string // in CSV and JSON; "" for a column that only people get
	Number bool   // aligned to the right
}

// both are columns that people and programs know by one name.
func both(names ...string) (out []Column) {
	for _, n := range names {
		out = append(out, Column{Title: n, Key: n})
	}
	return out
}

// columns are columns for people alone.
func columns(titles ...string) (out []Column) {
	for _, t := range titles {
		out = append(out, Column{Title: t})
	}
	return out
}

// A Table is rows of cells under columns: what lists, questions, reports and plans are written by, one writer for each
// format. A cell is a text, a number, true or false, a list of texts, or nil for nothing.
type Table struct {
	Columns []Column
	Rows    [][]any
	Each    func(yield func(row []string) bool) // instead of Rows, one by one; a row is good until the next
	Items   any                                 // for JSON, instead of the rows
	Objects func(yield func(any) bool)          // instead of Items, one by one
}

// tableOf is a table with a row for each of a list.
func tableOf[T any](list []T, columns []Column, cells func(x *T) []any) *Table {
	t := &Table{Columns: columns, Items: list}
	if list == nil {
		t.Items = []T{}
	}
	for i := range list {
		t.Rows = append(t.Rows, cells(&list[i]))
	}
	return t
}

// add adds a row.
func (t *Table) add(cells ...any) { t.Rows = append(t.Rows, cells) }

// ReportTable is a report as a table.
func ReportTable(r *report.Table) *Table {
	t := &Table{Each: r.Rows}
	for i, c := range r.Columns {
		t.Columns = append(t.Columns, Column{Title: c, Key: c, Number: r.Right[i]})
	}
	return t
}

// cellOf is a cell as a text.
func cellOf(v any) string {
	switch x := v.(type) {
	case nil:
		return ""
	case string:
		return x
	case []string:
		return strings.Join(x, ", ")
	case *int:
		if x == nil {
			return ""
		}
		return strconv.Itoa(*x)
	}
	return fmt.Sprint(v)
}

// each calls f with each row of a table, as texts; of the columns those that are kept.
func (t *Table) each(kept func(*Column) bool, f func(row []string) bool) {
	if t.Each != nil {
		t.Each(f) // a report has all of them
		return
	}
	for _, r := range t.Rows {
		row := make([]string, 0, len(r))
		for i := range r {
			if kept(&t.Columns[i]) {
				row = append(row, cellOf(r[i]))
			}
		}
		if !f(row) {
			return
		}
	}
}

func (c *Column) read() bool { return c.Title != "" || c.Key == "" }

func (c *Column) kept() bool { return c.Key != "" }

// titles are the columns that people get, and which of them are numbers.
func (t *Table) titles() (titles []string, right map[int]bool) {
	right = map[int]bool{}
	for i := range t.Columns {
		if c := &t.Columns[i]; c.read() {
			right[len(titles)] = c.Number
			titles = append(titles, c.Title)
		}
	}
	return titles, right
}

// keys are the columns that programs get.
func (t *Table) keys() (out []string) {
	for i := range t.Columns {
		if c := &t.Columns[i]; c.kept() {
			out = append(out, c.Key)
		}
	}
	return out
}

// Print writes a table as text: of three rows or of 300,000, with aligned columns, and no
// wider than a terminal. It returns how many rows that were.
func (p *Printer) Print(t *Table) int {
	var rows [][]string
	t.each((*Column).read, func(r []string) bool {
		row := make([]string, len(r))
		for j, c := range r {
			row[j] = words.Clean(c)
		}
		rows = append(rows, row)
		return true
	})
	titles, right := t.titles()
	if p.narrow && !fits(titles, rows, p.columns) {
		titles, right = withoutEmpty(titles, right, rows)
		switch {
		case breaks(titles, rows, p.columns):
		case len(titles) > 2 && breaks(titles[1:], tails(rows), p.columns-len(hangingMargin)):
			p.hanging(titles, rows, right)
			return len(rows)
		default:
			p.stacked(titles, rows)
			return len(rows)
		}
	}
	widths := p.fit(titles, rows)
	p.row(titles, widths, right, Dim)
	for _, r := range rows {
		p.row(r, widths, right, nil)
	}
	return len(rows)
}

// row writes the cells of a row beside each other; one that was broken takes several
// lines.
func (p *Printer) row(cells []string, widths []int, right map[int]bool, style func(string) string) {
	lines := 1
	for _, c := range cells {
		lines = max(lines, strings.Count(c, "\n")+1)
	}
	rest := slices.Clone(cells)
	for range lines {
		var line strings.Builder
		for j := range rest {
			var text string
			text, rest[j], _ = strings.Cut(rest[j], "\n")
			gap := strings.Repeat(" ", max(0, widths[j]-width(text)))
			if right[j] {
				line.WriteString(gap + text + "  ")
			} else {
				line.WriteString(text + gap + "  ")
			}
		}
		text := strings.TrimRight(line.String(), " ")
		if style != nil {
			text = style(text)
		}
		p.Line(text)
	}
}

// width is how many columns of a terminal a text takes.
func width(text string) int {
	for i := range len(text) {
		if text[i] < ' ' || text[i] >= 0x7f {
			return lipgloss.Width(text)
		}
	}
	return len(text)
}

// leastCell is how narrow a column is made at the least.
const leastCell = 8

// fits reports whether a table is no wider than some columns as it is.
func fits(titles []string, rows [][]string, columns int) bool {
	total := -2
	for j := range titles {
		wide := width(titles[j])
		for _, r := range rows {
			wide = max(wide, width(r[j]))
		}
		total += wide + 2
	}
	return total <= columns
}

// longest is the width of the longest word of a text: no line of it can be narrower, as ids and amounts are never broken.
func longest(text string) (wide int) {
	for word := range strings.FieldsSeq(text) {
		wide = max(wide, width(word))
	}
	return wide
}

// least is how narrow each column of a table can be.
func least(titles []string, rows [][]string) []int {
	out := make([]int, len(titles))
	for j := range titles {
		out[j] = max(leastCell, longest(titles[j]))
		natural := width(titles[j])
		for _, r := range rows {
			out[j], natural = max(out[j], longest(r[j])), max(natural, width(r[j]))
		}
		out[j] = min(out[j], natural)
	}
	return out
}

// breaks reports whether a table can be made so narrow as to fit by breaking cells between words.
func breaks(titles []string, rows [][]string, columns int) bool {
	total := -2
	for _, w := range least(titles, rows) {
		total += w + 2
	}
	return total <= columns
}

// withoutEmpty leaves the columns out in which no row has anything.
func withoutEmpty(titles []string, right map[int]bool, rows [][]string) ([]string, map[int]bool) {
	var keep []int
	for j := range titles {
		if slices.ContainsFunc(rows, func(r []string) bool { return r[j] != "" }) {
			keep = append(keep, j)
		}
	}
	if len(keep) == len(titles) || len(keep) == 0 {
		return titles, right
	}
	pick := func(from []string) []string {
		out := make([]string, len(keep))
		for i, j := range keep {
			out[i] = from[j]
		}
		return out
	}
	numbers := map[int]bool{}
	for i, j := range keep {
		numbers[i] = right[j]
	}
	for n := range rows {
		rows[n] = pick(rows[n])
	}
	return pick(titles), numbers
}

// hangingMargin stands before the cells of a row whose first has a line of its own.
const hangingMargin = "  "

// tails are rows without their first cells.
func tails(rows [][]string) [][]string {
	out := make([][]string, len(rows))
	for i, r := range rows {
		out[i] = r[1:]
	}
	return out
}

// hanging writes the first cell of each row on a line of its own, and the others below it as a table. The same first cell is not
// said twice in a row.
func (p *Printer) hanging(titles []string, rows [][]string, right map[int]bool) {
	rest, numbers := tails(rows), map[int]bool{}
	for j := range titles[1:] {
		numbers[j] = right[j+1]
	}
	in := *p
	in.columns -= len(hangingMargin)
	widths := in.fit(titles[1:], rest)
	p.Line(Dim(titles[0]))
	p.indented(titles[1:], widths, numbers, Dim)
	for i, r := range rest {
		if i == 0 || rows[i][0] != rows[i-1][0] {
			p.Line(Strong(rows[i][0]))
		}
		p.indented(r, widths, numbers, nil)
	}
}

// indented writes the cells of a row further to the right.
func (p *Printer) indented(cells []string, widths []int, right map[int]bool, style func(string) string) {
	var text bytes.Buffer
	p.To(&text).row(cells, widths, right, style)
	for line := range strings.SplitSeq(strings.TrimRight(text.String(), "\n"), "\n") {
		p.Line(hangingMargin + line)
	}
}

// stacked writes each row as lines, one for each cell that has something, where a table is wider than the terminal however it is
// broken.
func (p *Printer) stacked(titles []string, rows [][]string) {
	wide := 0
	for _, t := range titles[1:] {
		wide = max(wide, width(t))
	}
	for _, r := range rows {
		first := 0
		for first < len(r)-1 && r[first] == "" {
			first++
		}
		p.Line(Strong(r[first]))
		for j := first + 1; j < len(r); j++ {
			if r[j] != "" {
				p.labelled("  "+titles[j]+strings.Repeat(" ", wide-width(titles[j]))+"  ", strings.ReplaceAll(r[j], "\n", " "), nil)
			}
		}
	}
}

// fit returns how wide the columns of a table are. On a terminal it breaks the cells of
// the widest, so that the table is no wider than that.
func (p *Printer) fit(headers []string, rows [][]string) []int {
	widths := make([]int, len(headers))
	total := 0
	for j, h := range headers {
		widths[j] = width(h)
		for _, r := range rows {
			widths[j] = max(widths[j], width(r[j]))
		}
		total += widths[j] + 2
	}
	if !p.narrow {
		return widths
	}
	natural, floor := slices.Clone(widths), least(headers, rows)
	for total-2 > p.columns {
		widest := -1
		for j := 1; j < len(widths); j++ { // the first says what a row is of
			if widths[j] > floor[j] && (widest < 0 || widths[j] > widths[widest]) {
				widest = j
			}
		}
		if widest < 0 && widths[0] > floor[0] {
			widest = 0
		}
		if widest < 0 {
			break
		}
		widths[widest]--
		total--
	}
	for j := range widths {
		if widths[j] == natural[j] {
			continue
		}
		broken := width(headers[j])
		for _, r := range rows {
			if width(r[j]) > widths[j] {
				r[j] = wrap(r[j], widths[j])
			}
			for line := range strings.SplitSeq(r[j], "\n") {
				broken = max(broken, width(line))
			}
		}
		widths[j] = broken
	}
	return widths
}

// PrintCSV writes a table as CSV (RFC 4180), row by row.
func PrintCSV(w io.Writer, t *Table) error {
	buffered := bufio.NewWriterSize(w, 1<<16)
	out := csv.NewWriter(buffered)
	out.UseCRLF = true
	if err := out.Write(t.keys()); err != nil {
		return err
	}
	var safe []string
	var err error
	write := func(row []string) bool {
		safe = safe[:0]
		for _, c := range row {
			safe = append(safe, Harmless(c))
		}
		err = out.Write(safe)
		return err == nil
	}
	t.each((*Column).kept, write)
	out.Flush()
	if err == nil {
		err = out.Error()
	}
	if err == nil {
		err = buffered.Flush()
	}
	return err
}

// objects are the rows of a table as JSON objects, with the keys in their order.
func (t *Table) objects() (rows []json.RawMessage, err error) {
	rows = []json.RawMessage{}
	keys := t.keys()
	t.each((*Column).kept, func(row []string) bool {
		var b bytes.Buffer
		for i, c := range row {
			var key, value []byte
			if key, err = json.Marshal(keys[i]); err == nil {
				value, err = json.Marshal(c)
			}
			if err != nil {
				return false
			}
			b.WriteByte("{,"[min(i, 1)])
			b.Write(key)
			b.WriteByte(':')
			b.Write(value)
		}
		b.WriteByte('}')
		rows = append(rows, b.Bytes())
		return true
	})
	return rows, err
}

// Markdown writes a table as one of Markdown, its cells escaped where they are not marked up
// already, and returns how many rows that were. Without any, nothing is written.
func (p *Printer) Markdown(t *Table, marked bool) (n int) {
	line := func(cells []string) { p.Line("| " + strings.Join(cells, " | ") + " |") }
	titles, right := t.titles()
	t.each((*Column).read, func(row []string) bool {
		if n++; n == 1 {
			line(titles)
			rule := make([]string, len(titles))
			for i := range rule {
				rule[i] = "---"
				if right[i] {
					rule[i] = "---:"
				}
			}
			line(rule)
		}
		cells := slices.Clone(row)
		for i := range cells {
			if !marked {
				cells[i] = markdown(cells[i])
			}
		}
		line(cells)
		return p.err == nil
	})
	return n
}

// markdown escapes a text for Markdown, on one line.
func markdown(s string) string {
	return strings.NewReplacer(
		`\`, `\\`, "|", `\|`, "*", `\*`, "_", `\_`, "`", "\\`", "<", "&lt;", ">", "&gt;", "[", `\[`, "]", `\]`, "\n", " ",
	).Replace(words.Clean(s))
}

// number is a cell that a spreadsheet takes for a number, which is harmless.
var number = regexp.MustCompile(`^-?[0-9]+(\.[0-9]+)?$`)

// Harmless puts a quote before a cell that a spreadsheet would take for a
// formula.
func Harmless(cell string) string {
	if cell != "" && strings.IndexByte("=+-@\t\r", cell[0]) >= 0 && !number.MatchString(cell) {
		return "'" + cell
	}
	return cell
}

// PrintJSON writes a value as indented JSON, in which characters that are not
// safe to show are escaped.
func PrintJSON(w io.Writer, v any) error {
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(false)
	enc.SetIndent("", "  ")
	if err := enc.Encode(v); err != nil {
		return err
	}
	_, err := w.Write(escaped(b.Bytes()))
	return err
}

// printEach writes a list as PrintJSON does, one object after the other.
func printEach(w io.Writer, objects func(yield func(any) bool)) (err error) {
	out := bufio.NewWriterSize(w, 1<<16)
	before := "[\n  "
	for x := range objects {
		var b bytes.Buffer
		enc := json.NewEncoder(&b)
		enc.SetEscapeHTML(false)
		enc.SetIndent("  ", "  ")
		if err = enc.Encode(x); err != nil {
			return err
		}
		_, _ = out.WriteString(before) // Flush tells
		_, _ = out.Write(escaped(bytes.TrimRight(b.Bytes(), "\n")))
		before = ",\n  "
	}
	if before == "[\n  " {
		_, _ = out.WriteString("[]\n")
	} else {
		_, _ = out.WriteString("\n]\n")
	}
	return out.Flush()
}

// escaped escapes, in JSON, what Safe would replace: there it can only stand
// within texts.
func escaped(text []byte) []byte {
	if !bytes.ContainsFunc(text, words.Hostile) {
		return text
	}
	var out bytes.Buffer
	for _, r := range string(text) {
		if words.Hostile(r) {
			fmt.Fprintf(&out, `\u%04x`, r)
		} else {
			out.WriteRune(r)
		}
	}
	return out.Bytes()
}

// Output writes a table in a format: table, json or csv.
func Output(w io.Writer, env []string, format string, t *Table) error {
	switch format {
	case "json":
		if t.Objects != nil {
			return printEach(w, t.Objects)
		}
		return PrintJSON(w, t.Items)
	case "csv":
		return PrintCSV(w, t)
	}
	p := NewPrinter(w, env)
	p.Print(t)
	return p.Err()
}
