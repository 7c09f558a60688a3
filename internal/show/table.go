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
	natural := slices.Clone(widths)
	for total > p.columns {
		widest := len(widths) - 1
		for j := 1; j < len(widths); j++ { // the first says what a row is of
			if widths[j] > widths[widest] {
				widest = j
			}
		}
		if widths[widest] <= leastCell {
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
