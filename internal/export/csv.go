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

// csvRows takes the rows of a CSV file for accounts.
type csvRows struct {
	*Layout
	*builder
	spec   *Spec
	name   string // of the file
	rd     *csv.Reader
	active *Column
	taken  int            // the field that says when the export was taken, or -1
	rowOf  map[string]int // of accounts, where each has several rows
	sinks  []sink
	splits [model.Kinds]string
}

// A sink is a column that the values of a field go to.
type sink struct {
	col  *table.Column
	at   int
	date *Column // where dates have a form of their own
}

// begin finds what each field is for.
func (r *csvRows) begin() error {
	for n, at := range r.Attrs {
		if at < 0 {
			continue
		}
		s := sink{col: r.column(r.app.Attrs[n].Name), at: at}
		if c := r.spec.Column(r.app.Attrs[n].Name); c != nil && c.Date != "" {
			s.date = c
		}
		r.sinks = append(r.sinks, s)
	}
	if r.app.Attr(r.app.Match) < 0 && r.Key >= 0 {
		r.sinks = append(r.sinks, sink{col: r.column(r.app.Match), at: r.Key})
	}
	for k := range r.splits {
		if c := r.spec.Column(model.Kind(k).Plural()); c != nil {
			r.splits[k] = c.Split
			if r.out.Single[k] = c.Split == "" && c.Things == nil && !r.spec.ByHolding; r.out.Single[k] {
				r.out.Taken[k] = map[int32]bool{}
			}
		}
	}
	if r.spec.Taken == "" {
		return nil
	}
	if r.taken = slices.Index(r.Header, r.spec.Taken); r.taken < 0 {
		return source.NewProblem(
			model.Pos{File: r.name, Line: 1}, "missing-column",
			fmt.Sprintf(
				"the header has no column %q, which %s names for when the export was taken", r.spec.Taken, r.spec.TakenPos,
			),
			"",
		)
	}
	return nil
}

// add takes a row for an account, or for one more thing that an account holds. A row without a name
// is counted and left out.
func (r *csvRows) add(row []string) error {
	line, _ := r.rd.FieldPos(0)
	if len(row) != len(r.Header) {
		return source.NewProblem(
			model.Pos{File: r.name, Line: line, Column: 1}, "wrong-fields",
			fmt.Sprintf("the row has %s and the header has %d", model.Count(len(row), "field", "fields"), len(r.Header)),
			"the export is damaged; export it again",
		)
	}
	if named, err := r.named(row, line); !named {
		return err
	}
	if r.taken >= 0 && row[r.taken] > r.builder.taken {
		r.builder.taken = strings.Clone(row[r.taken])
	}
	state, err := r.state(row)
	if err != nil {
		return err
	}
	cells, err := r.cells(row)
	if err != nil {
		return err
	}
	if r.spec.ByHolding && r.Key >= 0 {
		if at, ok := r.rowOf[row[r.Key]]; ok {
			if held := r.builder.hold(cells); held != 0 {
				r.out.Held[at] = r.out.Sets.Union(r.out.Held[at], held)
			}
			return nil
		}
		r.rowOf[strings.Clone(row[r.Key])] = r.count
	}
	for _, s := range r.sinks {
		if err := r.put(s, row[s.at], line); err != nil {
			return err
		}
	}
	r.builder.add(state, r.builder.hold(cells))
	r.out.Line = append(r.out.Line, uint32(line))
	return nil
}

// named reports whether a row is of an account that can be called something.
func (r *csvRows) named(row []string, line int) (bool, error) {
	if r.Key < 0 {
		return true, nil
	}
	if row[r.Key] == "" {
		r.unnamed(model.Pos{File: r.name, Line: line}, func(n int) string {
			if at := r.Attrs[n]; at >= 0 {
				return row[at]
			}
			return ""
		})
		own := ""
		if !r.spec.ByHolding {
			own = r.Name(r.spec, row)
		}
		if own == "" {
			return false, nil
		}
		r.nameless(own)
	}
	if len(row[r.Key]) > model.MaxName {
		return false, r.wrong(
			r.Key, "too-long", fmt.Sprintf("the %s is longer than %d bytes", r.app.Match, model.MaxName),
			"look for a missing quote or a wrong column",
		)
	}
	return true, nil
}

// wrong is a problem of a field of the row that was read last.
func (r *csvRows) wrong(field int, rule, says, hint string) error {
	line, column := r.rd.FieldPos(field)
	return source.NewProblem(model.Pos{File: r.name, Line: line, Column: column}, rule, says, hint)
}

// state is the state of a row's account.
func (r *csvRows) state(row []string) (model.State, error) {
	if r.Active < 0 {
		return model.Open, nil
	}
	state := r.active.StateOf(row[r.Active])
	if state == model.NoAccount {
		return state, r.wrong(
			r.Active, "unknown-word", fmt.Sprintf("%s is %s here", r.active.Name, r.active.unknownWord(row[r.Active])),
			fmt.Sprintf("correct the words of %s in %s", r.active.Attr, r.active.Pos),
		)
	}
	return state, nil
}

// cells are what a row says of things, by kind.
func (r *csvRows) cells(row []string) (cells [model.Kinds]*cell, err error) {
	for k, at := range r.Kinds {
		if at >= 0 && row[at] != "" {
			cells[k] = r.field(model.Kind(k), row[at], r.splits[k])
			if r.out.Single[k] && len(cells[k].unmanaged) > 0 {
				r.out.Taken[k][int32(r.count)] = true
			}
		}
	}
	return cells, r.Layout.hold(r.builder, &cells, r.rd, r.name, row)
}

// put puts a value into its column.
func (r *csvRows) put(s sink, value string, line int) error {
	if s.date != nil && value != "" {
		iso, err := s.date.ISO(value)
		if err != nil {
			return r.wrong(s.at, "wrong-date", err.Error(), fmt.Sprintf("correct date of %s in %s", s.date.Attr, s.date.Pos))
		}
		value = iso
	}
	if !s.col.Append(value) {
		return source.NewProblem(
			model.Pos{File: r.name, Line: line}, "too-large", "one column holds more than 4 GiB", "",
		)
	}
	return nil
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
