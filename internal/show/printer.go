// Package show writes what people read: tables, plans, lists, in colour on a
// terminal and plain elsewhere. It computes nothing.
package show

import (
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
	"github.com/charmbracelet/colorprofile"
	"golang.org/x/term"

	"pravet/internal/core/model"
	"pravet/internal/core/words"
)

// The colours of effects, the same everywhere: a palette that colour-blind
// readers can tell apart. Each stands beside its word.
var (
	widens  = lipgloss.NewStyle().Foreground(lipgloss.Color("#E69F00"))
	narrows = lipgloss.NewStyle().Foreground(lipgloss.Color("#56B4E9"))
	alarm   = lipgloss.NewStyle().Foreground(lipgloss.Color("#D55E00")).Bold(true)
	dim     = lipgloss.NewStyle().Faint(true)
	strong  = lipgloss.NewStyle().Bold(true)
)

// Effect colours a word about an effect.
func Effect(effect model.Effect, word string) string {
	switch effect {
	case model.Widens:
		return widens.Render(word)
	case model.Narrows:
		return narrows.Render(word)
	}
	return dim.Render(word)
}

// Alarm colours what is held or for good, Dim what stands back, Strong what
// stands out.
func Alarm(s string) string { return alarm.Render(s) }

// Dim shows what stands back.
func Dim(s string) string { return dim.Render(s) }

// Strong shows what stands out.
func Strong(s string) string { return strong.Render(s) }

// A Printer writes to one output.
type Printer struct {
	w       io.Writer
	err     error
	columns int
	narrow  bool // tables have to fit into the columns
	spare   int  // lines that long texts of a summary may go on in
}

// NewPrinter returns a Printer that colours only for a terminal that wants it;
// env is the environment (NO_COLOR, TERM).
func NewPrinter(w io.Writer, env []string) *Printer {
	out := colorprofile.NewWriter(w, env)
	for _, e := range env {
		if v, ok := strings.CutPrefix(e, "NO_COLOR="); ok && v != "" && out.Profile > colorprofile.ASCII {
			out.Profile = colorprofile.ASCII // whatever else the environment says
		}
	}
	columns, _ := Size(w, env)
	return &Printer{w: out, columns: columns, narrow: sized(w, env)}
}

// How many columns and lines there are where nothing says so, and the columns that
// are used at the least and at the most.
const (
	usualColumns = 100
	usualLines   = 100
	leastColumns = 80
	mostColumns  = 200
)

// Size is how many columns are written to an output, and how many of its lines can
// be seen at once: what COLUMNS and LINES say in the environment, else those of the
// terminal that it is.
func Size(w io.Writer, env []string) (columns, lines int) {
	columns, lines = usualColumns, usualLines
	if f, ok := w.(interface{ Fd() uintptr }); ok {
		if c, l, err := term.GetSize(int(f.Fd())); err == nil && c > 0 && l > 0 {
			columns, lines = c, l
		}
	}
	for _, e := range env {
		name, value, _ := strings.Cut(e, "=")
		n, err := strconv.Atoi(value)
		if err != nil || n <= 0 {
			continue
		}
		switch name {
		case "COLUMNS":
			columns = n
		case "LINES":
			lines = n
		}
	}
	return min(max(columns, leastColumns), mostColumns), lines
}

// sized reports whether an output has a width: it is a terminal, or the environment
// says so.
func sized(w io.Writer, env []string) bool {
	f, ok := w.(interface{ Fd() uintptr })
	return ok && term.IsTerminal(int(f.Fd())) ||
		slices.ContainsFunc(env, func(e string) bool { return strings.HasPrefix(e, "COLUMNS=") && e != "COLUMNS=" })
}

// Line writes one line.
func (p *Printer) Line(parts ...string) { p.write(strings.Join(parts, "") + "\n") }

// Linef writes one line by a format.
func (p *Printer) Linef(format string, args ...any) { p.write(fmt.Sprintf(format, args...) + "\n") }

func (p *Printer) write(s string) {
	if p.err == nil {
		_, p.err = io.WriteString(p.w, s)
	}
}

// To is a Printer of the same width that writes into a text; its colours are taken out
// where p writes none.
func (p *Printer) To(w io.Writer) *Printer {
	out := &Printer{w: w, columns: p.columns, narrow: p.narrow}
	if c, ok := p.w.(*colorprofile.Writer); ok {
		out.w = &colorprofile.Writer{Forward: w, Profile: c.Profile}
	}
	return out
}

// Text writes a text as it is.
func (p *Printer) Text(text string) { p.write(text) }

// Err is the first error of writing.
func (p *Printer) Err() error { return p.err }

// A Table is rows of cells under headers. JSON output has an object a row,
// under the headers' keys.
type Table struct {
	Headers []string // as shown
	Keys    []string // in JSON and CSV
	Rows    [][]string
	CSV     [][]string   // for CSV, instead of the rows
	Items   any          // for JSON, instead of the rows
	Right   map[int]bool // columns aligned to the right
}

// Print writes a table as text: of three rows or of 300,000, with aligned columns, and no
// wider than a terminal.
func (p *Printer) Print(t *Table) {
	rows := make([][]string, len(t.Rows))
	for i, r := range t.Rows {
		rows[i] = make([]string, len(r))
		for j, c := range r {
			rows[i][j] = words.Clean(c)
		}
	}
	widths := p.fit(t.Headers, rows)
	p.row(t.Headers, widths, t.Right, Dim)
	for _, r := range rows {
		p.row(r, widths, t.Right, nil)
	}
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

// PrintCSV writes a table as CSV (RFC 4180).
func PrintCSV(w io.Writer, t *Table) error {
	out := csv.NewWriter(w)
	out.UseCRLF = true
	if err := out.Write(t.Keys); err != nil {
		return err
	}
	rows := t.Rows
	if t.CSV != nil {
		rows = t.CSV
	}
	for _, r := range rows {
		safe := make([]string, len(r))
		for i, c := range r {
			safe[i] = Harmless(c)
		}
		if err := out.Write(safe); err != nil {
			return err
		}
	}
	out.Flush()
	return out.Error()
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
		return PrintJSON(w, t.Items)
	case "csv":
		return PrintCSV(w, t)
	}
	p := NewPrinter(w, env)
	p.Print(t)
	return p.Err()
}
