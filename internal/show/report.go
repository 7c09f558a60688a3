package show

import (
	"bufio"
	"encoding/json"
	"errors"
	"io"

	"pravet/internal/core/model"
	"pravet/internal/core/words"
)

// ReportFormats are the formats of reports.
var ReportFormats = []string{"table", "csv", "json", "markdown", "html"}

// ReportJSON writes reports as JSON: of each its name, title and rows as objects.
func ReportJSON(w io.Writer, p *Page) error {
	type out struct {
		Report string            `json:"report"`
		Title  string            `json:"title"`
		About  string            `json:"about"`
		Rows   []json.RawMessage `json:"rows"`
	}
	var all []out
	for _, t := range p.Tables {
		rows, err := ReportTable(t).objects()
		if err != nil {
			return err
		}
		all = append(all, out{t.Name, t.Title, t.About, rows})
	}
	return PrintJSON(w, struct {
		Organization string   `json:"organization"`
		Day          string   `json:"day"`
		Notes        []string `json:"notes"`
		Reports      []out    `json:"reports"`
	}{p.Organization, p.Day, append([]string{}, p.Notes...), all})
}

// ReportMarkdown writes reports as Markdown.
func ReportMarkdown(w io.Writer, page *Page) error {
	out := bufio.NewWriter(w)
	p := &Printer{w: out, columns: usualColumns}
	p.Linef("# %s, %s", markdown(page.Organization), page.Day)
	for _, n := range page.Notes {
		p.Linef("\n%s", markdown(n))
	}
	for _, t := range page.Tables {
		p.Linef("\n## %s\n\n%s\n", t.Title, markdown(t.About))
		if p.Markdown(ReportTable(t), false) == 0 {
			p.Line(t.None)
		}
	}
	return errors.Join(p.Err(), out.Flush())
}

// Report writes reports as text.
func (p *Printer) Report(page *Page) {
	for i, t := range page.Tables {
		if i > 0 {
			p.Line()
		}
		p.Line(Strong(t.Title))
		p.wrapped("", words.Clean(t.About), Dim)
		some := false
		t.Rows(func([]string) bool { some = true; return false })
		if !some {
			p.Line(t.None)
			continue
		}
		p.Line(Dim(model.Count(p.Print(ReportTable(t)), "row", "rows")))
	}
}
