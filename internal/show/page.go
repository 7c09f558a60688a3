package show

import (
	"bytes"
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
	Day          string   // that they are of
	Notes        []string // what they follow from, and what is not known
	Tables       []*report.Table
}

// mostPageRows is how many rows of a table a page has: more are for CSV.
const mostPageRows = 2000

// section is a table as a page has it.
type section struct {
	*report.Table
	Heads []head
	Body  [][]cell
	More  string
	Chart template.HTML
	Says  string // what the chart shows, for those who cannot see it
}

type head struct {
	Text  string
	Right bool
}

type cell struct {
	Text  string
	Right bool
}

// HTML writes a page that needs nothing else: no script, no other file.
func (p *Page) HTML(w io.Writer) error {
	var sections []section
	for _, t := range p.Tables {
		s := section{Table: t}
		for i, c := range t.Columns {
			s.Heads = append(s.Heads, head{c, t.Right[i]})
		}
		n := 0
		t.Rows(func(row []string) bool {
			if n++; n <= mostPageRows {
				cells := make([]cell, len(row))
				for i, c := range row {
					cells[i] = cell{words.Clean(c), t.Right[i]}
				}
				s.Body = append(s.Body, cells)
			}
			return true
		})
		if n > mostPageRows {
			s.More = fmt.Sprintf("The first %s of %s rows; all of them: pravet report %s --format csv",
				model.Thousands(mostPageRows), model.Thousands(n), t.Name)
		}
		if len(t.Bars) > 1 {
			var err error
			if s.Chart, s.Says, err = charted(t); err != nil {
				return err
			}
		}
		sections = append(sections, s)
	}
	title := "Access"
	if len(p.Tables) == 1 {
		title = p.Tables[0].Title
	}
	return pageTemplate.Execute(w, struct {
		*Page
		Title    string
		Sections []section
	}{p, title, sections})
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

var pageTemplate = template.Must(template.New("page").Parse(`<!DOCTYPE html>
<html lang="en">
<head>
<meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1">
<title>{{.Title}} · {{.Organization}} · {{.Day}}</title>
<style>
:root { color: #1d2733; background: #fff; font: 15px/1.45 system-ui, "Liberation Sans", Arial, sans-serif; }
body { max-width: 76rem; margin: 0 auto; padding: 1.5rem; }
h1 { font-size: 1.7rem; margin: 0 0 .2rem; }
h2 { font-size: 1.2rem; margin: 2.2rem 0 .2rem; border-top: 2px solid #0072b2; padding-top: .7rem; }
p { margin: .2rem 0 .7rem; max-width: 60rem; }
.dim { color: #566573; }
nav ul { list-style: none; padding: 0; display: flex; flex-wrap: wrap; gap: .3rem 1.2rem; }
a { color: #00578a; }
figure { margin: .6rem 0 1rem; }
figure svg { max-width: 100%; height: auto; }
table { border-collapse: collapse; width: 100%; font-size: .88rem; }
caption { text-align: left; color: #566573; padding: .2rem 0; }
th, td { text-align: left; vertical-align: top; padding: .28rem .6rem .28rem 0; border-bottom: 1px solid #dde3e8; overflow-wrap: break-word; }
thead th { border-bottom: 2px solid #8795a1; white-space: nowrap; }
.n { text-align: right; font-variant-numeric: tabular-nums; white-space: nowrap; }
@media print {
  :root { font-size: 10pt; }
  body { max-width: none; padding: 0; }
  nav { display: none; }
  h2 { break-after: avoid; }
  thead { display: table-header-group; }
  tr, figure { break-inside: avoid; }
  a { color: inherit; text-decoration: none; }
}
</style>
</head>
<body>
<header>
<h1>{{.Title}}</h1>
<p>{{.Organization}}, {{.Day}}</p>
{{range .Notes}}<p class="dim">{{.}}</p>
{{end}}</header>
{{if gt (len .Sections) 1}}<nav aria-label="Reports on this page"><ul>
{{range .Sections}}<li><a href="#{{.Name}}">{{.Title}}</a></li>
{{end}}</ul></nav>
{{end}}<main>
{{range .Sections}}<section id="{{.Name}}" aria-labelledby="h-{{.Name}}">
<h2 id="h-{{.Name}}">{{.Title}}</h2>
<p>{{.About}}</p>
{{if .Chart}}<figure role="img" aria-label="{{.Says}}">{{.Chart}}</figure>
{{end}}{{if .Body}}<table>
<caption>{{len .Body}} {{if eq (len .Body) 1}}row{{else}}rows{{end}}{{with .More}}. {{.}}{{end}}</caption>
<thead><tr>{{range .Heads}}<th scope="col"{{if .Right}} class="n"{{end}}>{{.Text}}</th>{{end}}</tr></thead>
<tbody>
{{range .Body}}<tr>{{range .}}<td{{if .Right}} class="n"{{end}}>{{.Text}}</td>{{end}}</tr>
{{end}}</tbody>
</table>
{{else}}<p>{{.None}}</p>
{{end}}</section>
{{end}}</main>
</body>
</html>
`))
