// Package show writes what people read: tables, plans, lists, in colour on a
// terminal and plain elsewhere. It computes nothing.
package show

import (
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/colorprofile"
	"golang.org/x/term"

	"pravet/internal/core/model"
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

// NewScreen returns a Printer for a part of a screen that somebody else draws: in colour, so many columns wide.
func NewScreen(w io.Writer, columns int) *Printer {
	return &Printer{w: &colorprofile.Writer{Forward: Safe(w), Profile: colorprofile.TrueColor}, columns: max(columns, leastColumns/2), narrow: true}
}

// Text writes a text as it is.
func (p *Printer) Text(text string) { p.write(text) }

// Err is the first error of writing.
func (p *Printer) Err() error { return p.err }
