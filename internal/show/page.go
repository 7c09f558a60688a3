package show

import (
	"bytes"
	_ "embed"
	"fmt"
	"html"
	"html/template"
	"image/color"
	"io"
	"regexp"
	"strings"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/text"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgsvg"

	"pravet/internal/core/model"
	"pravet/internal/core/report"
	"pravet/internal/core/words"
)

// A Page is reports on one page.
type Page struct {
	Organization string
	Day          string      // that they are of
	Notes        []string    // what they follow from, and what is not known
	Sources      [][4]string // the exports: application, title, when it was taken, accounts
	From         string      // which files, in words
	Head         string      // the newest entry of the ledger, in words
	Tables       []*report.Table
}

// mostPageRows is how many rows of a table a page has: more are for CSV.
const mostPageRows = 2000

// section is a table as a page has it.
type section struct {
	*report.Table
	Heads []head
	Body  []pageRow
	Count string // how many rows it has
	More  string
	Chart template.HTML
	Says  string // what the chart shows, for those who cannot see it
}

type head struct {
	Text  string
	Right bool
}

// A pageRow is a row; Blocked where it is about an account that nobody may sign in to.
type pageRow struct {
	Cells   []cell
	Blocked bool
}

type cell struct {
	Text    string
	Right   bool
	Blocked bool
}

// sectionOf makes a table ready for the page. A column in which no row has anything is left out.
func sectionOf(t *report.Table) (*section, error) {
	s := &section{Table: t}
	n, used := 0, make([]bool, len(t.Columns))
	t.Rows(func(row []string) bool {
		n++
		for i, c := range row {
			used[i] = used[i] || c != ""
		}
		if n <= mostPageRows {
			cells := make([]cell, len(row))
			blocked := false
			for i, c := range row {
				is := c == "blocked" || strings.HasPrefix(c, "blocked: ") || t.Columns[i] == "open" && c == "no"
				cells[i] = cell{words.Clean(c), t.Right[i], is}
				blocked = blocked || is && (t.Columns[i] == "open" || t.Columns[i] == "state")
			}
			s.Body = append(s.Body, pageRow{cells, blocked})
		}
		return true
	})
	for i, c := range t.Columns {
		if used[i] {
			s.Heads = append(s.Heads, head{c, t.Right[i]})
		}
	}
	for k := range s.Body {
		kept := s.Body[k].Cells[:0]
		for i, c := range s.Body[k].Cells {
			if used[i] {
				kept = append(kept, c)
			}
		}
		s.Body[k].Cells = kept
	}
	s.Count = model.Thousands(n)
	if n > mostPageRows {
		s.More = fmt.Sprintf("The first %s of %s rows; all of them: pravet report %s --format csv",
			model.Thousands(mostPageRows), model.Thousands(n), t.Name)
	}
	if len(t.Bars) > 1 {
		var err error
		if s.Chart, s.Says, err = charted(t); err != nil {
			return nil, err
		}
	}
	return s, nil
}

// HTML writes a page that needs nothing else: no script, no other file.
func (p *Page) HTML(w io.Writer) error {
	var sections []*section
	for _, t := range p.Tables {
		s, err := sectionOf(t)
		if err != nil {
			return err
		}
		sections = append(sections, s)
	}
	title := "Access"
	if len(p.Tables) == 1 {
		title = p.Tables[0].Title
	}
	return pageTemplate.Execute(w, struct {
		*Page
		Title     string
		Sections  []*section
		Style     template.CSS
		StyleHash template.HTMLAttr
	}{p, title, sections, template.CSS(paperCSS), template.HTMLAttr(hashOf(paperCSS))}) //nolint:gosec // our own file
}

// The colours of bars, those of effects darkened enough for a white page.
func barColour(e model.Effect) color.Color {
	switch e {
	case model.Widens:
		return color.RGBA{0xe6, 0x9f, 0x00, 0xff}
	case model.Narrows:
		return color.RGBA{0x56, 0xb4, 0xe9, 0xff}
	}
	return needed
}

// mostBars is how many bars a chart has; the others are in the table.
const mostBars = 16

// bars draws a table's bars, the first at the top, each with its number.
func bars(t *report.Table) (string, error) {
	list := t.Bars[:min(len(t.Bars), mostBars)]
	p := plot.New()
	p.BackgroundColor = color.Transparent
	for _, style := range []*text.Style{&p.X.Tick.Label, &p.Y.Tick.Label, &p.X.Label.TextStyle} {
		style.Font.Variant = "Sans"
		style.Font.Size = 11
	}
	p.X.Label.Text = t.Unit
	p.X.Tick.Marker = wholeTicks{}
	p.X.Min = 0
	p.Y.Tick.LineStyle.Width, p.Y.LineStyle.Width = 0, 0
	names := make([]string, len(list))
	most := 1.0
	var labels plotter.XYLabels
	for i, b := range list {
		at := len(list) - 1 - i
		names[at] = clip(words.Clean(b.Label))
		bar, err := plotter.NewBarChart(plotter.Values{b.Value}, 14)
		if err != nil {
			return "", err
		}
		bar.Horizontal, bar.XMin, bar.LineStyle.Width = true, float64(at), 0
		bar.Color = barColour(b.Effect)
		p.Add(bar)
		most = max(most, b.Value)
		labels.XYs = append(labels.XYs, plotter.XY{X: b.Value, Y: float64(at)})
		labels.Labels = append(labels.Labels, model.Thousands(int(b.Value)))
	}
	numbers, err := plotter.NewLabels(labels)
	if err != nil {
		return "", err
	}
	for i := range numbers.TextStyle {
		numbers.TextStyle[i].Font.Variant, numbers.TextStyle[i].Font.Size = "Sans", 11
		numbers.TextStyle[i].YAlign = text.YCenter
	}
	numbers.Offset = vg.Point{X: 3, Y: 2}
	p.Add(numbers)
	p.NominalY(names...)
	p.X.Max = most * 1.12
	p.Y.Min, p.Y.Max = -0.6, float64(len(list))-0.4
	c := vgsvg.NewWith(vgsvg.UseWH(720*vg.Inch/96, vg.Length(60+24*len(list))*vg.Inch/96))
	p.Draw(draw.New(c))
	var b bytes.Buffer
	if _, err := c.WriteTo(&b); err != nil {
		return "", err
	}
	svg := b.String()
	if i := strings.Index(svg, "<svg"); i > 0 {
		svg = svg[i:]
	}
	svg = strings.Replace(attributed(svg), "<svg", `<svg aria-hidden="true"`, 1)
	return fitted(svg, p.Y.Tick.Label), nil
}

// written is a text within a drawing.
var written = regexp.MustCompile(`<text ([^>]*)>([^<]*)</text>`)

// fitted has every text be as wide as it was drawn, whatever font a reader has (SVG 2, §11.7).
func fitted(svg string, style text.Style) string {
	return written.ReplaceAllStringFunc(svg, func(all string) string {
		parts := written.FindStringSubmatch(all)
		wide := style.Width(html.UnescapeString(parts[2])).Points()
		return fmt.Sprintf(`<text textLength="%.1f" lengthAdjust="spacingAndGlyphs" %s>%s</text>`, wide, parts[1], parts[2])
	})
}

// styled is a style within a drawing.
var styled = regexp.MustCompile(`\sstyle="([^"]*)"`)

// attributed writes the styles of a drawing as attributes, which a content security policy lets through and a style sheet may
// overrule (SVG 2, §6.6).
func attributed(svg string) string {
	return styled.ReplaceAllStringFunc(svg, func(style string) string {
		var out strings.Builder
		for part := range strings.SplitSeq(styled.FindStringSubmatch(style)[1], ";") {
			name, value, ok := strings.Cut(part, ":")
			if strings.HasPrefix(value, "#-") { // the drawing package's word for transparent
				value = "none"
			}
			if ok {
				fmt.Fprintf(&out, " %s=%q", name, value)
			}
		}
		return out.String()
	})
}

// clip shortens a label.
func clip(s string) string {
	const most = 34
	if r := []rune(s); len(r) > most {
		return string(r[:most-1]) + "…"
	}
	return s
}

//go:embed paper/report.html
var pageHTML string

var pageTemplate = template.Must(template.New("page").Parse(pageHTML))
