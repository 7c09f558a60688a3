package cli

import (
	"fmt"

	"pravet/internal/core/day"
	"pravet/internal/core/table"
	"pravet/internal/desired"
	"pravet/internal/say"
	"pravet/internal/sheet"
	"pravet/internal/source"
)

// A listed is a row of a list of people.
type listed struct {
	person int
	values map[string]string // of its other columns
}

// readListed reads a list of people: a CSV file with a column id or userName. Its other
// columns are values of people where they are named like attributes.
func (c *program) readListed(w *whom, repo *desired.Repo) error {
	t, err := sheet.Open(c.path(w.from), w.from, sheet.Options{})
	if err != nil {
		return err
	}
	key := t.Column("id")
	if key < 0 {
		key = t.Column("userName")
	}
	if key < 0 {
		return fail(Failed, say.ListNamesNobody(w.from))
	}
	attrs := make([]string, len(t.Header))
	for i, h := range t.Header {
		if i == key || h == "" {
			continue
		}
		name, err := repo.Attribute(h)
		if err != nil {
			w.odd = append(w.odd, h)
			continue
		}
		attrs[i] = name
	}
	wrong, named := t.Problems, repo.People.Names()
	for n := range t.Rows {
		row := &t.Rows[n]
		p := named(row.Cells[key])
		if p < 0 {
			wrong = append(
				wrong,
				source.NewProblem(
					t.Pos(row, key),
					"unknown-person",
					say.NobodyBy(row.Cells[key]),
					say.CorrectTheList(),
				),
			)
			continue
		}
		l := listed{person: p, values: map[string]string{}}
		for i, name := range attrs {
			if name == "" {
				continue
			}
			value := row.Cells[i]
			if desired.IsDate(name) && value != "" {
				if _, err := day.Parse(value); err != nil {
					wrong = append(wrong, source.NewProblem(t.Pos(row, i), "wrong-date", err.Error(), ""))
				}
			}
			if table.Fold(name) != "id" {
				l.values[name] = value
			}
		}
		w.rows = append(w.rows, l)
	}
	if len(wrong) > 0 {
		for _, p := range wrong[:min(len(wrong), source.MaxPerFile)] {
			fmt.Fprintln(c.Stderr, p)
		}
		return fail(Failed, say.ListWrong(w.from, len(wrong)))
	}
	return nil
}
