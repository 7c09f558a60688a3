package edit

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"

	"pravet/internal/core/model"
	"pravet/internal/core/table"
	"pravet/internal/source"
)

const mark = "\ufeff" // of the byte order

// A CSV is a text as rows under a header (RFC 4180).
type CSV struct {
	Header []string // as it is written, without spaces around names

	text  *Text
	comma string
	rows  map[int][2]int         // line → the bytes of the record that begins there
	sets  map[int]map[int]string // line → column → value
	wide  []string               // columns that are to be added
	first int                    // the line of the header
}

// ReadCSV finds the rows of a text. Errors are of type *source.Problem.
func ReadCSV(t *Text, comma rune) (*CSV, error) {
	x := &CSV{text: t, comma: string(comma), rows: map[int][2]int{}, sets: map[int]map[int]string{}}
	data := t.Old
	skip := 0
	if bytes.HasPrefix(data, []byte(mark)) {
		skip = len(mark)
	}
	rd := csv.NewReader(bytes.NewReader(data[skip:]))
	rd.Comma, rd.FieldsPerRecord, rd.ReuseRecord = comma, -1, true
	for {
		row, err := rd.Read()
		if err == io.EOF {
			return x, nil
		}
		if err != nil {
			return nil, source.CSVError(t.Name, err)
		}
		line, _ := rd.FieldPos(0)
		from, to := t.begin(line), skip+int(rd.InputOffset())
		if x.Header == nil {
			from, x.first = max(from, skip), line
			for _, h := range row {
				x.Header = append(x.Header, strings.TrimSpace(h))
			}
		}
		x.rows[line] = [2]int{from, to}
	}
}

// NewCSV begins a text that is empty with a header.
func NewCSV(t *Text, header []string) (*CSV, error) {
	if len(t.Old) > 0 {
		return nil, fmt.Errorf("%s is there already", t.Name)
	}
	x := &CSV{Header: header, text: t, comma: ",", rows: map[int][2]int{}, sets: map[int]map[int]string{}}
	t.Append(Row(',', header...))
	return x, nil
}

// column is the number of a column by its name, case ignored, or -1.
func (x *CSV) column(name string) int {
	for i, h := range x.Header {
		if table.Fold(h) == table.Fold(name) {
			return i
		}
	}
	return -1
}

// Has reports whether there is a column, or will be.
func (x *CSV) Has(name string) bool { return x.column(name) >= 0 }

// AddColumn adds a column at the right, empty in every row. O(rows).
func (x *CSV) AddColumn(name string) {
	if x.Has(name) {
		return
	}
	x.Header = append(x.Header, name)
	x.wide = append(x.wide, name)
}

// Set gives columns of the row that begins in a line other values, once Finish is called.
// Of a column that is set twice, the last value counts.
func (x *CSV) Set(line int, values map[string]string) error {
	if _, ok := x.rows[line]; !ok {
		return fmt.Errorf("%s:%d: no row begins in this line", x.text.Name, line)
	}
	if x.sets[line] == nil {
		x.sets[line] = map[int]string{}
	}
	for name, value := range values {
		i := x.column(name)
		if i < 0 {
			return fmt.Errorf("%s has no column %s", x.text.Name, name)
		}
		x.sets[line][i] = value
	}
	return nil
}

// Finish makes the changes of rows. It is called once, after all others.
// O(changed rows), or O(rows) where a column was added.
func (x *CSV) Finish() error {
	for line, values := range x.sets {
		if err := x.change(line, values); err != nil {
			return err
		}
	}
	if len(x.wide) == 0 {
		return nil
	}
	for line := range x.rows {
		switch {
		case line == x.first:
			x.widen(line, x.wide)
		case x.sets[line] == nil:
			x.widen(line, make([]string, len(x.wide)))
		}
	}
	return nil
}

func (x *CSV) change(line int, values map[int]string) error {
	at := x.rows[line]
	fields, err := x.fields(at[0], at[1])
	if err != nil {
		return source.NewProblem(
			model.Pos{File: x.text.Name, Line: line},
			"bad-quotes",
			err.Error(),
			"correct the row first",
		)
	}
	had := len(x.Header) - len(x.wide)
	if len(fields) != had {
		return source.NewProblem(
			model.Pos{File: x.text.Name, Line: line}, "wrong-fields",
			fmt.Sprintf("the row has %d fields and the header has %d", len(fields), had), "correct the row first",
		)
	}
	added := make([]string, len(x.wide))
	for i, value := range values {
		if i >= had {
			added[i-had] = value
			continue
		}
		old := string(x.text.Old[fields[i][0]:fields[i][1]])
		if unquote(old) != value {
			x.text.Replace(fields[i][0], fields[i][1], x.quote(value, strings.HasPrefix(old, `"`)))
		}
	}
	x.widen(line, added)
	return nil
}

// widen adds fields at a row's end.
func (x *CSV) widen(line int, values []string) {
	at := x.rows[line]
	end := at[0] + len(bytes.TrimRight(x.text.Old[at[0]:at[1]], "\r\n"))
	var b strings.Builder
	for _, v := range values {
		b.WriteString(x.comma + x.quote(v, false))
	}
	x.text.Replace(end, end, b.String())
}

// fields are where the fields of a record begin and end.
func (x *CSV) fields(from, to int) ([][2]int, error) {
	var out [][2]int
	text := x.text.Old
	for to > from && (text[to-1] == '\n' || text[to-1] == '\r') {
		to--
	}
	for at := from; ; {
		end := at
		if end < to && text[end] == '"' {
			for end++; ; end++ {
				if end >= to {
					return nil, fmt.Errorf("a quote is never closed")
				}
				if text[end] == '"' {
					if end+1 < to && text[end+1] == '"' {
						end++
						continue
					}
					end++
					break
				}
			}
		} else if i := bytes.Index(text[end:to], []byte(x.comma)); i >= 0 {
			end += i
		} else {
			end = to
		}
		out = append(out, [2]int{at, end})
		if end >= to {
			return out, nil
		}
		at = end + len(x.comma)
	}
}

// Append adds a row at the end. Columns without a value stay empty; a value of
// a column that there is not is an error.
func (x *CSV) Append(values map[string]string) error {
	left := len(values)
	cells := make([]string, len(x.Header))
	for i, h := range x.Header {
		for name, v := range values {
			if table.Fold(name) == table.Fold(h) {
				cells[i] = x.quote(v, false)
				left--
			}
		}
	}
	if left > 0 {
		return fmt.Errorf("%s has not all of the columns of a row that is to be added", x.text.Name)
	}
	x.text.Append(strings.Join(cells, x.comma))
	return nil
}

// Remove takes the row that begins in a line out.
func (x *CSV) Remove(line int) {
	if at, ok := x.rows[line]; ok {
		x.text.Replace(at[0], at[1], "")
		delete(x.rows, line)
	}
}

// quote writes a field, in quotes where it needs them or had them.
func (x *CSV) quote(value string, had bool) string {
	if !had && !strings.ContainsAny(value, "\"\r\n") && !strings.Contains(value, x.comma) &&
		strings.TrimSpace(value) == value && utf8.ValidString(value) {
		return value
	}
	return `"` + strings.ReplaceAll(value, `"`, `""`) + `"`
}

func unquote(field string) string {
	if !strings.HasPrefix(field, `"`) {
		return field
	}
	return strings.ReplaceAll(field[1:len(field)-1], `""`, `"`)
}

// Row writes one row of CSV without its line end.
func Row(comma rune, cells ...string) string {
	x := &CSV{comma: string(comma)}
	out := make([]string, len(cells))
	for i := range cells {
		out[i] = x.quote(cells[i], false)
	}
	return strings.Join(out, x.comma)
}
