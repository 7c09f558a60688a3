package show

import (
	"bufio"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strings"

	"pravet/internal/core/model"
	"pravet/internal/core/report"
	"pravet/internal/core/words"
)

// ReportFormats are the formats of reports.
var ReportFormats = []string{"table", "csv", "json", "markdown", "html"}

// ReportCSV writes one report as CSV (RFC 4180), row by row.
func ReportCSV(w io.Writer, t *report.Table) error {
	buffered := bufio.NewWriterSize(w, 1<<18)
	out := csv.NewWriter(buffered)
	out.UseCRLF = true
	if err := out.Write(t.Columns); err != nil {
		return err
	}
	var err error
	safe := make([]string, len(t.Columns))
	t.Rows(func(row []string) bool {
		for i, c := range row {
			safe[i] = Harmless(c)
		}
		err = out.Write(safe)
		return err == nil
	})
	out.Flush()
	if err == nil {
		err = out.Error()
	}
	if err == nil {
		err = buffered.Flush()
	}
	return err
}

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
		x := out{t.Name, t.Title, t.About, []json.RawMessage{}}
		var err error
		t.Rows(func(row []string) bool {
			var b strings.Builder
			b.WriteByte('{')
			for i, c := range row {
				var key, value []byte
				if key, err = json.Marshal(t.Columns[i]); err == nil {
					value, err = json.Marshal(c)
				}
				if err != nil {
					return false
				}
				if i > 0 {
					b.WriteByte(',')
				}
				b.Write(key)
				b.WriteByte(':')
				b.Write(value)
			}
			b.WriteByte('}')
			x.Rows = append(x.Rows, json.RawMessage(b.String()))
			return true
		})
		if err != nil {
			return err
		}
		all = append(all, x)
	}
	return PrintJSON(w, struct {
		Organization string   `json:"organization"`
		Day          string   `json:"day"`
		Notes        []string `json:"notes"`
		Reports      []out    `json:"reports"`
	}{p.Organization, p.Day, append([]string{}, p.Notes...), all})
}

// ReportMarkdown writes reports as Markdown.
func ReportMarkdown(w io.Writer, p *Page) error {
	out := bufio.NewWriter(w)
	cell := func(s string) string {
		return strings.NewReplacer("|", `\|`, "\n", " ", "<", "&lt;", "`", "'").Replace(words.Clean(s))
	}
	fmt.Fprintf(out, "# %s, %s\n", cell(p.Organization), p.Day)
	for _, n := range p.Notes {
		fmt.Fprintf(out, "\n%s\n", cell(n))
	}
	for _, t := range p.Tables {
		fmt.Fprintf(out, "\n## %s\n\n%s\n\n", t.Title, cell(t.About))
		n := 0
		t.Rows(func(row []string) bool {
			if n++; n == 1 {
				rule := make([]string, len(t.Columns))
				for i := range rule {
					rule[i] = "---"
					if t.Right[i] {
						rule[i] = "---:"
					}
				}
				fmt.Fprintf(out, "| %s |\n| %s |\n", strings.Join(t.Columns, " | "), strings.Join(rule, " | "))
			}
			cells := make([]string, len(row))
			for i, c := range row {
				cells[i] = cell(c)
			}
			fmt.Fprintf(out, "| %s |\n", strings.Join(cells, " | "))
			return true
		})
		if n == 0 {
			fmt.Fprintln(out, t.None)
		}
	}
	return out.Flush()
}

// Report writes reports as text.
func (p *Printer) Report(page *Page) {
	for i, t := range page.Tables {
		if i > 0 {
			p.Line()
		}
		p.Line(Strong(t.Title))
		p.wrapped("", words.Clean(t.About), Dim)
		table := &Table{Headers: t.Columns, Right: t.Right}
		t.Rows(func(row []string) bool {
			table.Rows = append(table.Rows, slices.Clone(row))
			return true
		})
		if len(table.Rows) == 0 {
			p.Line(t.None)
			continue
		}
		p.Print(table)
		p.Line(Dim(model.Count(len(table.Rows), "row", "rows")))
	}
}
