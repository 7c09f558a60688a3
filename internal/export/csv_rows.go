package export

import (
	"encoding/csv"
	"fmt"
	"slices"
	"strings"

	"pravet/internal/core/model"
	"pravet/internal/core/table"
	"pravet/internal/source"
)

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
