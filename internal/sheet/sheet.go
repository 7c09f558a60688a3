// Package sheet reads what people are handed over in: a spreadsheet saved as CSV, an LDIF
// file, a SCIM list of users. Each becomes a table of texts under a header, with the place of
// every cell; what cannot be read is a problem with its place.
package sheet

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/transform"

	"pravet/internal/core/model"
	"pravet/internal/core/table"
	"pravet/internal/source"
)

// A Table is what a file lists.
type Table struct {
	File      string
	Header    []string
	Rows      []Row
	Delimiter rune // 0 for what is no CSV
	Encoding  string
	Problems  []*source.Problem // of rows, which are left out
}

// A Row is one record.
type Row struct {
	Line  int
	Cells []string
	at    []uint32 // column of each cell within its line, where the line is Line
}

// Pos is the place of a cell.
func (t *Table) Pos(r *Row, cell int) model.Pos {
	pos := model.Pos{File: t.File, Line: r.Line}
	if cell >= 0 && cell < len(r.at) {
		pos.Column = int(r.at[cell])
	}
	return pos
}

// Column is the number of a column, case ignored, or -1.
func (t *Table) Column(name string) int {
	for i, h := range t.Header {
		if table.Fold(h) == table.Fold(name) {
			return i
		}
	}
	return -1
}

// maxSheet is how many bytes a file may have, and maxCell one of its cells.
const (
	maxSheet = 512 << 20
	maxCell  = 64 << 10
)

// Options say how a file is written where that is not to be found out.
type Options struct {
	Encoding  string // as IANA names it; "" for UTF-8, or UTF-16 with a mark of its byte order
	Delimiter rune   // 0 for the one that the header has most of
	Format    string // csv, ldif or scim; "" by the name of the file
}

// Formats are the formats that can be read.
var Formats = []string{"csv", "ldif", "scim"}

// Open reads a file. Errors are of type *source.Problem where they have a place.
func Open(path, name string, o Options) (*Table, error) {
	data, err := source.ReadFile(path, name, maxSheet)
	if err != nil {
		return nil, err
	}
	if o.Format == "" {
		switch strings.ToLower(filepath.Ext(path)) {
		case ".ldif":
			o.Format = "ldif"
		case ".json":
			o.Format = "scim"
		}
	}
	return Read(data, name, o)
}

// Read reads the content of a file.
func Read(data []byte, name string, o Options) (*Table, error) {
	t := &Table{File: name, Encoding: o.Encoding}
	text, err := decode(data, t)
	if err != nil {
		return nil, err
	}
	if len(bytes.TrimSpace(text)) == 0 {
		return nil, source.NewProblem(
			model.Pos{File: name, Line: 1},
			"empty-file",
			"the file is empty",
			"a header row and a row for each person are expected",
		)
	}
	switch o.Format {
	case "ldif":
		return t, t.ldif(text)
	case "scim":
		return t, t.scim(text)
	}
	if first := bytes.TrimSpace(text)[0]; first == '{' || first == '[' || bytes.HasPrefix(text, []byte("PK")) {
		return nil, source.NewProblem(
			model.Pos{File: name, Line: 1}, "not-csv", "this is no CSV file",
			"save the spreadsheet as CSV (UTF-8); a SCIM list of users ends in .json, or is named with --in scim",
		)
	}
	return t, t.csv(text, o.Delimiter)
}

// decode makes UTF-8 of a file, without a mark of the byte order.
func decode(data []byte, t *Table) ([]byte, error) {
	var from encoding.Encoding
	switch {
	case bytes.HasPrefix(data, []byte("\xff\xfe")) || bytes.HasPrefix(data, []byte("\xfe\xff")):
		from = unicode.UTF16(unicode.LittleEndian, unicode.ExpectBOM)
		t.Encoding = "UTF-16"
	case t.Encoding != "":
		var err error
		if from, err = source.Encoding(t.Encoding); err != nil {
			return nil, err
		}
	}
	if from != nil {
		out, _, err := transform.Bytes(from.NewDecoder(), data)
		if err != nil {
			return nil, source.NewProblem(
				model.Pos{File: t.File},
				"not-encoded",
				"this is not "+t.Encoding,
				"name the encoding that the file is really in",
			)
		}
		data = out
	}
	data = bytes.TrimPrefix(data, []byte("\ufeff"))
	if i := bytes.IndexByte(data, 0); i >= 0 {
		return nil, source.NewProblem(
			at(t.File, data, i),
			"not-text",
			"there is a NUL byte here, and text is expected",
			"save the spreadsheet as CSV (UTF-8)",
		)
	}
	if i := invalid(data); i >= 0 {
		return nil, source.NewProblem(
			at(t.File, data, i),
			"not-utf-8",
			"this is not UTF-8",
			"save the file as UTF-8, or name its encoding, for example --encoding windows-1252",
		)
	}
	return data, nil
}

// invalid is where the first byte stands that is not UTF-8, or -1.
func invalid(data []byte) int {
	if utf8.Valid(data) {
		return -1
	}
	for i := 0; i < len(data); {
		r, size := utf8.DecodeRune(data[i:])
		if r == utf8.RuneError && size == 1 {
			return i
		}
		i += size
	}
	return -1
}

func at(file string, data []byte, i int) model.Pos {
	before := data[:i]
	from := bytes.LastIndexByte(before, '\n') + 1
	return model.Pos{File: file, Line: 1 + bytes.Count(before, []byte{'\n'}), Column: 1 + utf8.RuneCount(before[from:])}
}

// csv reads rows (RFC 4180).
func (t *Table) csv(text []byte, delimiter rune) error {
	if delimiter == 0 {
		delimiter = guess(text)
	}
	t.Delimiter = delimiter
	rd := csv.NewReader(bytes.NewReader(text))
	rd.Comma, rd.FieldsPerRecord = delimiter, -1
	for {
		row, err := rd.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return source.CSVError(t.File, err)
		}
		line, _ := rd.FieldPos(0)
		if t.Header == nil {
			if err := t.header(row, rd); err != nil {
				return err
			}
			continue
		}
		if blank(row) {
			continue
		}
		r := Row{Line: line, Cells: row, at: make([]uint32, len(row))}
		for i := range row {
			if l, c := rd.FieldPos(i); l == line {
				r.at[i] = uint32(c)
			}
			if len(row[i]) > maxCell {
				t.wrong(&r, i, "cell-too-long", fmt.Sprintf("this cell has %s bytes, and at most %s are read",
					model.Thousands(len(row[i])), model.Thousands(maxCell)), "look for a quote that is never closed")
				row = nil
				break
			}
		}
		if row == nil {
			continue
		}
		if len(row) != len(t.Header) {
			t.wrong(&r, -1, "wrong-fields", fmt.Sprintf(
				"the row has %s and the header has %d",
				model.Count(len(row), "field", "fields"),
				len(t.Header),
			), "look for a missing or an unquoted "+Name(delimiter))
			continue
		}
		t.Rows = append(t.Rows, r)
	}
	if t.Header == nil {
		return source.NewProblem(model.Pos{File: t.File, Line: 1}, "empty-file", "the file has no header row", "")
	}
	return nil
}

func (t *Table) wrong(r *Row, cell int, rule, says, hint string) {
	t.Problems = append(t.Problems, source.NewProblem(t.Pos(r, cell), rule, says, hint))
}

func blank(row []string) bool {
	for _, c := range row {
		if strings.TrimSpace(c) != "" {
			return false
		}
	}
	return true
}

// header reads the names of the columns.
func (t *Table) header(row []string, rd *csv.Reader) error {
	seen := map[string]bool{}
	for i, h := range row {
		h = strings.TrimSpace(h)
		line, column := rd.FieldPos(i)
		pos := model.Pos{File: t.File, Line: line, Column: column}
		if len(h) > 256 {
			return source.NewProblem(
				pos,
				"not-a-header",
				"this is no name of a column",
				"the first row names the columns",
			)
		}
		if h != "" && seen[table.Fold(h)] {
			return source.NewProblem(
				pos,
				"duplicate-key",
				fmt.Sprintf("there are two columns named %s", h),
				"give one of them another name, or take it out",
			)
		}
		seen[table.Fold(h)] = true
		t.Header = append(t.Header, h)
	}
	return nil
}

// delimiters are what separates the cells of a row, the usual one first.
var delimiters = []rune{',', ';', '\t', '|'}

// guess is the delimiter that the first line has most of, outside of quotes.
func guess(text []byte) rune {
	counts := map[rune]int{}
	quoted := false
	for _, r := range string(text[:min(len(text), maxCell)]) {
		if r == '"' {
			quoted = !quoted
		}
		if r == '\n' && !quoted {
			break
		}
		if !quoted {
			counts[r]++
		}
	}
	best := delimiters[0]
	for _, d := range delimiters {
		if counts[d] > counts[best] {
			best = d
		}
	}
	return best
}

// Name is how a delimiter is called.
func Name(delimiter rune) string {
	switch delimiter {
	case ',':
		return "comma"
	case ';':
		return "semicolon"
	case '\t':
		return "tab"
	}
	return fmt.Sprintf("%q", delimiter)
}

// Formula reports whether a spreadsheet would take a cell for a formula, or has failed to
// work one out: that is no value of a person.
func Formula(cell string) bool {
	if cell == "" {
		return false
	}
	switch cell[0] {
	case '=', '@':
		return true
	case '#':
		return strings.HasSuffix(cell, "!") || cell == "#N/A" || cell == "#NAME?"
	case '+', '-':
		return len(cell) > 1 && !strings.ContainsAny(cell[1:2], "0123456789 (.")
	}
	return false
}
