package files

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"strings"
	"unicode/utf8"

	"pravet/internal/core/account"
	"pravet/internal/core/model"
	"pravet/internal/export"
	"pravet/internal/source"
)

// tape keeps the bytes that a CSV reader has read ahead, so that a record's
// own bytes can be copied.
type tape struct {
	src  io.Reader
	buf  []byte
	base int64 // offset of buf[0]
}

func (t *tape) Read(p []byte) (int, error) {
	n, err := t.src.Read(p)
	t.buf = append(t.buf, p[:n]...)
	return n, err
}

// until returns the bytes up to an offset and forgets those before.
func (t *tape) until(offset int64) []byte {
	out := t.buf[:offset-t.base]
	t.buf, t.base = t.buf[offset-t.base:], offset
	return out
}

// csv writes each CSV file anew: rows that no change is about as they are,
// other rows with only the changed fields written again, new rows at the end.
func (f *writer) csv(e *edits) error {
	if err := f.spreadOut(e); err != nil {
		return err
	}
	for i, path := range f.Spec.Paths {
		src, err := f.Tree.OpenAs(f.ctx, path.Text, f.Spec.Encoding)
		if err != nil {
			return err
		}
		last := i == len(f.Spec.Paths)-1
		s, err := f.Tree.Stage(
			path.Text,
			0o644,
			func(w io.Writer) error {
				out, err := source.Encoded(w, f.Spec.Encoding)
				if err != nil {
					return err
				}
				return errors.Join(f.csvFile(out, src, path.Text, e, last), out.Close())
			},
		)
		var sum string
		if err == nil {
			var info fs.FileInfo
			if info, err = src.Info(); err == nil {
				s.Replaces(info)
				sum, err = src.Digest()
			}
		}
		src.Close()
		if s != nil {
			f.add(s, path.Text, sum)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

var newline = []byte{'\n'}

type csvWriter struct {
	files  *writer
	layout *export.Layout
	w      *lines
	end    string // the file's line end
	err    error  // of a field that cannot hold what it should
}

// lines is a writer that knows whether the last line was ended.
type lines struct {
	io.Writer
	open bool
}

func (l *lines) Write(p []byte) (int, error) {
	if len(p) > 0 {
		l.open = p[len(p)-1] != '\n'
	}
	return l.Writer.Write(p)
}

func (f *writer) csvFile(w io.Writer, src *source.Reader, name string, e *edits, last bool) error {
	t := &tape{src: src}
	rd := export.NewCSV(t, f.Spec)
	layout, err := export.ReadLayout(rd, name, f.Spec, f.App)
	if err != nil {
		return err
	}
	out := &csvWriter{files: f, layout: layout, w: &lines{Writer: w}, end: "\n"}
	if src.HasBOM() {
		if _, err := io.WriteString(out.w, mark); err != nil {
			return err
		}
	}
	raw := t.until(rd.InputOffset())
	if bytes.HasSuffix(raw, []byte("\r\n")) {
		out.end = "\r\n"
	}
	line := 1
	for {
		if _, err := out.w.Write(raw); err != nil {
			return err
		}
		line += bytes.Count(raw, newline)
		src.Mark()
		row, err := rd.Read()
		if err == io.EOF {
			break
		}
		if err != nil {
			return source.CSVError(name, err)
		}
		if err := fits(layout, rd, name, row); err != nil {
			return err
		}
		raw = t.until(rd.InputOffset())
		key := layout.Name(f.Spec, row)
		if f.defines {
			key = export.DefKey(layout.KindOf(f.App, row), key)
		}
		if x := e.byKey[key]; x != nil {
			x.done = true
			if x.create && layout.Active >= 0 && f.Spec.State().StateOf(row[layout.Active]) == model.Removed {
				x.anew = true
			}
			// The lines are counted on the old bytes, so the new row is
			// written at once.
			if err := out.change(raw, line, rd, row, x); err != nil {
				return err
			}
			line += bytes.Count(raw, newline)
			raw = nil
		}
	}
	if rest := t.until(t.base + int64(len(t.buf))); len(rest) > 0 { // blank lines at the end
		if _, err := out.w.Write(rest); err != nil {
			return err
		}
	}
	if !last {
		return nil
	}
	create, err := e.toCreate()
	if err != nil {
		return err
	}
	return out.create(create)
}

// fits refuses a row that is shorter or longer than the header: the file is not the one that
// was read.
func fits(layout *export.Layout, rd *csv.Reader, name string, row []string) error {
	if len(row) == len(layout.Header) {
		return nil
	}
	line, _ := rd.FieldPos(0)
	return source.NewProblem(
		model.Pos{File: name, Line: line, Column: 1}, "wrong-fields",
		fmt.Sprintf("the row has %d fields, the header has %d", len(row), len(layout.Header)), "export it again",
	)
}

// change writes a row with the changed fields replaced. line is the number of
// the first line of raw.
func (o *csvWriter) change(raw []byte, line int, rd *csv.Reader, row []string, x *edit) error {
	switch {
	case x.remove:
		return nil
	case x.rows != nil:
		return o.changeHolding(raw, line, rd, row, x)
	case x.anew: // of what was removed nothing stays
		return o.create([]*edit{x})
	}
	return o.rewrite(raw, line, rd, row, func(i int) (string, bool) { return o.field(i, row[i], x) })
}

// rewrite writes a row with other values where there are such.
func (o *csvWriter) rewrite(
	raw []byte,
	line int,
	rd *csv.Reader,
	row []string,
	other func(i int) (string, bool),
) error {
	starts := make([]int, len(row)+1)
	lineAt := []int{0}
	for i, c := range raw {
		if c == '\n' {
			lineAt = append(lineAt, i+1)
		}
	}
	for i := range row {
		l, col := rd.FieldPos(i)
		starts[i] = lineAt[l-line] + col - 1
	}
	body := strings.TrimRight(string(raw), "\r\n")
	comma := utf8.RuneLen(o.files.Spec.Delimiter)
	starts[len(row)] = len(body) + comma
	at := 0
	var b strings.Builder
	if o.w.open {
		b.WriteString(o.end)
	}
	for i := range row {
		from, to := starts[i], starts[i+1]-comma
		value, changed := other(i)
		if !changed {
			continue
		}
		b.WriteString(string(raw[at:from]))
		b.WriteString(o.quote(value, strings.HasPrefix(string(raw[from:to]), `"`)))
		at = to
	}
	b.WriteString(string(raw[at:]))
	if o.err != nil {
		return o.err
	}
	_, err := io.WriteString(o.w, b.String())
	return err
}

// field returns the new value of field i of a row.
func (o *csvWriter) field(i int, is string, x *edit) (value string, changed bool) {
	app, spec, l := o.files.App, o.files.Spec, o.layout
	switch {
	case i == l.Active && x.state != model.NoAccount:
		value, _ = spec.State().Word(x.state)
		return value, value != is
	case i == l.Active:
		return is, false
	}
	for _, t := range l.Things {
		if t.At == i {
			return o.yesNo(&t, is, x)
		}
	}
	for n, at := range l.Attrs {
		if at != i {
			continue
		}
		if v, ok := x.attrs[app.Attrs[n].Name]; ok {
			if c := spec.Column(app.Attrs[n].Name); c != nil {
				v = c.Own(v)
			}
			return v, v != is
		}
		if app.Attrs[n].Name == model.Owned && (x.hands || len(x.gets) > 0) {
			value = account.Owns(app, is, x.hands, x.gets)
			return value, value != is
		}
	}
	for k, at := range l.Kinds {
		if at == i {
			value = o.names(model.Kind(k), is, x)
			return value, value != is
		}
	}
	if v, ok := x.attrs[app.Match]; ok && i == l.Key && x.create {
		return v, v != is
	}
	return is, false
}

// yesNo returns the new value of a thing's own column in an account's row.
func (o *csvWriter) yesNo(t *export.ThingColumn, is string, x *edit) (value string, changed bool) {
	yes, no := t.Col.Words()
	switch {
	case slices.Contains(x.gain[t.Kind], t.Name):
		value = yes
	case slices.Contains(x.lose[t.Kind], t.Name), x.create && is == "":
		value = no
	default:
		return is, false
	}
	return value, value != is
}

// names changes a list of names within one field; the names that stay keep
// their order and the spaces around them.
func (o *csvWriter) names(kind model.Kind, is string, x *edit) string {
	if len(x.gain[kind]) == 0 && len(x.lose[kind]) == 0 {
		return is
	}
	if n := len(x.gain[kind]); n > 0 && o.files.App.One[kind] {
		return x.gain[kind][n-1] // it is exchanged
	}
	split := o.files.Spec.Column(kind.Plural()).Split
	var parts, names []string
	if is != "" {
		parts = []string{is}
		if split != "" {
			parts = strings.Split(is, split)
		}
	}
	for _, p := range parts {
		names = append(names, strings.TrimSpace(p))
	}
	keep, add := x.list(kind, names)
	parts = slices.DeleteFunc(parts, func(p string) bool { return !keep(strings.TrimSpace(p)) })
	space := ""
	if len(parts) > 1 && strings.HasPrefix(parts[1], " ") {
		space = " "
	}
	if len(parts) > 0 && len(names) > 0 {
		parts[0] = strings.TrimLeft(parts[0], " ")
	}
	for _, a := range add {
		if len(parts) > 0 {
			a = space + a
		}
		parts = append(parts, a)
	}
	if split == "" && len(parts) > 1 {
		o.err = fmt.Errorf(
			"%s: a cell of %s holds one name only, and %s would have several; name a split in its columns",
			o.files.App.ID,
			kind.Plural(),
			x.key,
		)
	}
	return strings.Join(parts, split)
}

// quote writes a field as RFC 4180 has it: in quotes when it must be, or was.
func (o *csvWriter) quote(v string, was bool) string {
	if was || strings.ContainsAny(v, "\"\r\n") || strings.ContainsRune(v, o.files.Spec.Delimiter) ||
		strings.HasPrefix(v, " ") {
		return `"` + strings.ReplaceAll(v, `"`, `""`) + `"`
	}
	return v
}

// create writes the rows of new accounts.
func (o *csvWriter) create(toCreate []*edit) error {
	if o.files.Spec.ByHolding {
		toCreate = byHolding(toCreate)
	}
	for _, x := range toCreate {
		var b strings.Builder
		if o.w.open {
			b.WriteString(o.end)
		}
		for i := range o.layout.Header {
			if i > 0 {
				b.WriteRune(o.files.Spec.Delimiter)
			}
			v, _ := o.field(i, "", x)
			b.WriteString(o.quote(v, false))
		}
		b.WriteString(o.end)
		if _, err := io.WriteString(o.w, b.String()); err != nil {
			return err
		}
	}
	return o.err
}
