package export

import (
	"bufio"
	"encoding/csv"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"time"

	"pravet/internal/core/model"
	"pravet/internal/core/table"
	"pravet/internal/source"
)

// A Layout says which field of a CSV file holds what; -1 is none.
type Layout struct {
	Header []string
	Attrs  []int // field of each App.Attrs
	Key    int
	Active int
	Kinds  [model.Kinds]int
	Things []ThingColumn // of kinds that have a column for each thing
}

// Name is the name of the account of a row: its match value or, without one, its own name.
func (l *Layout) Name(spec *Spec, row []string) string {
	if row[l.Key] != "" {
		return row[l.Key]
	}
	return model.OwnName(func(attr string) string {
		c := spec.Column(attr)
		if c == nil {
			return ""
		}
		if at := slices.Index(l.Header, c.Name); at >= 0 && at < len(row) {
			return row[at]
		}
		return ""
	})
}

// A ThingColumn is a column of one thing: yes or no for each account.
type ThingColumn struct {
	Kind model.Kind
	Name string
	At   int
	Col  *Column
}

// NewCSV returns a reader of rows as Pravet reads them: fields are counted by
// the caller, and rows are reused.
func NewCSV(src io.Reader, spec *Spec) *csv.Reader {
	rd := csv.NewReader(bufio.NewReaderSize(src, source.ReadAhead))
	rd.ReuseRecord, rd.FieldsPerRecord, rd.Comma = true, -1, spec.Delimiter
	return rd
}

// ReadLayout reads the header row.
func ReadLayout(rd *csv.Reader, name string, spec *Spec, app *model.App) (*Layout, error) {
	header, err := rd.Read()
	if err == io.EOF {
		return nil, source.NewProblem(
			model.Pos{File: name, Line: 1},
			"empty-file",
			"the export is empty, not even a header is there",
			"export it again",
		)
	}
	if err != nil {
		return nil, source.CSVError(name, err)
	}
	l := &Layout{
		Header: slices.Clone(header),
		Key:    -1,
		Active: -1,
		Attrs:  make([]int, len(app.Attrs)),
	}
	for k := range l.Kinds {
		l.Kinds[k] = -1
	}
	find := func(c *Column) (int, error) {
		if c == nil {
			return -1, nil
		}
		at := slices.Index(l.Header, c.Name)
		if at < 0 {
			hint := "look at the header, and correct the name in columns"
			if near := table.Nearest(c.Name, l.Header); near != "" {
				hint = "did you mean " + near + "?"
			}
			return -1, source.NewProblem(model.Pos{File: name, Line: 1}, "missing-column",
				fmt.Sprintf("the header has no column %q, which %s names for %s", c.Name, c.Pos, c.Attr), hint)
		}
		if slices.Contains(l.Header[at+1:], c.Name) {
			return -1, source.NewProblem(
				model.Pos{File: name, Line: 1},
				"duplicate-key",
				fmt.Sprintf("the header has the column %q twice", c.Name),
				"give one of them another name",
			)
		}
		return at, nil
	}
	for n, a := range app.Attrs {
		if l.Attrs[n], err = find(spec.Column(a.Name)); err != nil {
			return nil, err
		}
	}
	if l.Key, err = find(spec.Column(app.Match)); err != nil {
		return nil, err
	}
	if l.Active, err = find(spec.State()); err != nil {
		return nil, err
	}
	for k := range model.Kinds {
		c := spec.Column(model.Kind(k).Plural())
		if c != nil && c.Things != nil {
			for _, name := range slices.Sorted(maps.Keys(c.Things)) {
				one := *c
				one.Name = c.Things[name]
				at, err := find(&one)
				if err != nil {
					return nil, err
				}
				l.Things = append(l.Things, ThingColumn{model.Kind(k), name, at, c})
			}
			continue
		}
		if l.Kinds[k], err = find(c); err != nil {
			return nil, err
		}
	}
	return l, nil
}

// Truth reads a field of active by the column's words; ok is false for any
// other word.
func (c *Column) Truth(v string) (open, ok bool) {
	if c.Worded {
		return v == c.True, v == c.True || v == c.False
	}
	switch {
	case strings.EqualFold(v, "true"):
		return true, true
	case strings.EqualFold(v, "false"):
		return false, true
	}
	return false, false
}

// unknownWord says that a word is none of the column's.
func (c *Column) unknownWord(v string) string {
	if c.States == nil {
		yes, no := c.Words()
		return fmt.Sprintf("neither %q nor %q", yes, no)
	}
	var words []string
	for _, s := range model.States() {
		if w, ok := c.States[s]; ok {
			words = append(words, fmt.Sprintf("%q", w))
		}
	}
	return fmt.Sprintf("%q and none of %s", v, strings.Join(words, ", "))
}

// Words are the words of true and false, for writing.
func (c *Column) Words() (yes, no string) {
	if c.Worded {
		return c.True, c.False
	}
	return "true", "false"
}

func readCSV(src *source.Reader, name string, spec *Spec, b *builder, only []string) error {
	var in io.Reader = src
	if only != nil {
		in = source.Sieve(src, only)
	}
	rd := NewCSV(in, spec)
	l, err := ReadLayout(rd, name, spec, b.app)
	if err != nil {
		return err
	}
	r := &csvRows{
		Layout: l, builder: b, spec: spec, name: name, rd: rd, active: spec.State(), taken: -1, rowOf: map[string]int{},
	}
	if err := r.begin(); err != nil {
		return err
	}
	for rows := 1; ; rows++ {
		src.Mark()
		row, err := rd.Read()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return source.CSVError(name, err)
		}
		if err := r.add(row); err != nil {
			return err
		}
		if rows == 8192 {
			b.reserve(int(src.Size() / (rd.InputOffset() / 8192)))
		}
	}
}

// hold adds to what a row holds what columns of single things say.
func (l *Layout) hold(b *builder, cells *[model.Kinds]*cell, rd *csv.Reader, name string, row []string) error {
	if len(l.Things) == 0 {
		return nil
	}
	var held [model.Kinds][]string
	for _, t := range l.Things {
		yes, ok := t.Col.Truth(row[t.At])
		if !ok {
			line, column := rd.FieldPos(t.At)
			return source.NewProblem(
				model.Pos{File: name, Line: line, Column: column}, "unknown-word",
				fmt.Sprintf("%s is %s here", t.Col.Things[t.Name], t.Col.unknownWord(row[t.At])),
				fmt.Sprintf("correct true and false of %s in %s", t.Col.Attr, t.Col.Pos),
			)
		}
		if yes {
			held[t.Kind] = append(held[t.Kind], t.Name)
		}
	}
	for k := range held {
		if len(held[k]) > 0 {
			cells[k] = b.field(model.Kind(k), strings.Join(held[k], "\x00"), "\x00")
		}
	}
	return nil
}

// ISO is a date of the column's own form as ISO 8601 has it, with the time where it has one.
func (c *Column) ISO(v string) (string, error) {
	t, err := time.Parse(c.Date, v)
	if err != nil {
		return "", fmt.Errorf("%q is not a valid date in the format that %s sets", v, c.Name)
	}
	if t.Equal(t.Truncate(24 * time.Hour)) {
		return t.Format(time.DateOnly), nil
	}
	return t.Format("2006-01-02T15:04:05Z"), nil
}

// Own is a date of ISO 8601 in the column's own form; v itself where it is no date.
func (c *Column) Own(v string) string {
	for _, form := range []string{time.DateOnly, "2006-01-02T15:04:05Z"} {
		if t, err := time.Parse(form, v); err == nil && c.Date != "" {
			return t.Format(c.Date)
		}
	}
	return v
}
