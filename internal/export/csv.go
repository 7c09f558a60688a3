package export

import (
	"bufio"
	"encoding/csv"
	"fmt"
	"io"
	"slices"
	"strings"

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
		Kinds:  [model.Kinds]int{-1, -1, -1},
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
		if l.Kinds[k], err = find(spec.Column(model.Kind(k).Plural())); err != nil {
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

// neither says that a word is none of the column's.
func (c *Column) neither(v string) string {
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
	type sink struct {
		col *table.Column
		at  int
	}
	var sinks []sink
	for n, at := range l.Attrs {
		if at >= 0 {
			sinks = append(sinks, sink{b.column(b.app.Attrs[n].Name), at})
		}
	}
	if b.app.Attr(b.app.Match) < 0 && l.Key >= 0 {
		sinks = append(sinks, sink{b.column(b.app.Match), l.Key})
	}
	taken := -1
	if spec.Taken != "" {
		if taken = slices.Index(l.Header, spec.Taken); taken < 0 {
			return source.NewProblem(
				model.Pos{File: name, Line: 1},
				"missing-column",
				fmt.Sprintf(
					"the header has no column %q, which %s names for when the export was taken",
					spec.Taken,
					spec.TakenPos,
				),
				"",
			)
		}
	}
	active := spec.State()
	var splits [model.Kinds]string
	for k := range splits {
		if c := spec.Column(model.Kind(k).Plural()); c != nil {
			splits[k] = c.Split
			if b.out.Single[k] = c.Split == ""; b.out.Single[k] {
				b.out.Taken[k] = map[int32]bool{}
			}
		}
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
		line, _ := rd.FieldPos(0)
		if len(row) != len(l.Header) {
			return source.NewProblem(
				model.Pos{File: name, Line: line, Column: 1},
				"wrong-fields",
				fmt.Sprintf("the row has %s and the header has %d",
					model.Count(len(row), "field", "fields"), len(l.Header)),
				"the export is damaged; export it again",
			)
		}
		if l.Key >= 0 && row[l.Key] == "" {
			b.unnamed(model.Pos{File: name, Line: line}, func(n int) string {
				if at := l.Attrs[n]; at >= 0 {
					return row[at]
				}
				return ""
			})
			continue
		}
		if l.Key >= 0 && len(row[l.Key]) > model.MaxName {
			line, column := rd.FieldPos(l.Key)
			return source.NewProblem(
				model.Pos{File: name, Line: line, Column: column},
				"too-long",
				fmt.Sprintf("the %s is longer than %d bytes", b.app.Match, model.MaxName),
				"look for a missing quote or a wrong column",
			)
		}
		if taken >= 0 && row[taken] > b.taken {
			b.taken = strings.Clone(row[taken])
		}
		state := model.Open
		if l.Active >= 0 {
			if state = active.StateOf(row[l.Active]); state == model.NoAccount {
				line, column := rd.FieldPos(l.Active)
				return source.NewProblem(
					model.Pos{File: name, Line: line, Column: column},
					"unknown-word",
					fmt.Sprintf("%s is %s here", active.Name, active.neither(row[l.Active])),
					fmt.Sprintf("correct the words of %s in %s", active.Attr, active.Pos),
				)
			}
		}
		for _, s := range sinks {
			if !s.col.Append(row[s.at]) {
				return source.NewProblem(
					model.Pos{File: name, Line: line},
					"too-large",
					"one column holds more than 4 GiB",
					"",
				)
			}
		}
		var cells [model.Kinds]*cell
		for k, at := range l.Kinds {
			if at >= 0 && row[at] != "" {
				cells[k] = b.field(model.Kind(k), row[at], splits[k])
				if b.out.Single[k] && len(cells[k].unmanaged) > 0 {
					b.out.Taken[k][int32(b.count)] = true
				}
			}
		}
		b.add(state, b.hold(cells))
		b.out.Line = append(b.out.Line, uint32(line))
		if rows == 8192 {
			b.reserve(int(src.Size() / (rd.InputOffset() / 8192)))
		}
	}
}

func (b *builder) reserve(rows int) {
	for _, c := range b.out.Attrs {
		if c != nil {
			c.Reserve(rows)
		}
	}
	if b.own != nil {
		b.own.Reserve(rows)
	}
	b.out.States = slices.Grow(b.out.States, rows)
	b.out.Held = slices.Grow(b.out.Held, rows)
	b.out.Line = slices.Grow(b.out.Line, rows)
}
