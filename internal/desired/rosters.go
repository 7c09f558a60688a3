package desired

import (
	"fmt"
	"slices"
	"strings"

	"pravet/internal/core/table"
	"pravet/internal/export"
	"pravet/internal/form"
)

var rosterForm = &form.Object{
	Name: "a roster", Doc: "How one file of people is to be read that others write",
	Keys: []form.Key{
		{Name: "columns", Is: form.MapOf("our attribute", form.Text("their column")), Doc: "Other columns are left alone"},
		{Name: "delimiter", Is: form.Simple(form.Char), Doc: "What stands between cells; a comma unless given"},
		{Name: "encoding", Is: form.Text("an encoding"), Doc: "As IANA names it, for example windows-1252; UTF-8 unless given"},
		{Name: "date", Is: form.Text("a form of dates"), Doc: "How dates are written, for example DD.MM.YYYY"},
	},
}

// A roster says how one file of people is to be read that others write: by which columns, in
// which encoding, with which form of dates.
type roster struct {
	columns   map[string]string // their header → our attribute; nil where headers are attributes
	delimiter rune
	encoding  string
	date      string
}

// readRosters reads how files of people are laid out, by their names.
func (r *Repo) readRosters(of values) {
	d := of.d
	r.rosters = map[string]*roster{}
	for _, e := range of.entries("rosters") {
		f := d.object(e.value, rosterForm)
		x := &roster{
			delimiter: f.delimiter("delimiter", ','), encoding: d.encoding(f.node("encoding")), date: d.dateForm(f.node("date")),
		}
		if f.has("columns") {
			x.columns = map[string]string{}
			for _, c := range f.entries("columns") {
				if r.attribute(c.name, func(says, hint string) { d.problem(c.key, "unknown-attribute", says, hint) }) {
					x.columns[d.text(c.value, c.name)] = c.name
				}
			}
		}
		if !strings.HasPrefix(e.name, "people/") || !strings.HasSuffix(e.name, ".csv") {
			d.problem(
				e.key,
				"wrong-path",
				fmt.Sprintf("%s is no CSV file of people", e.name),
				"name it like people/staff.csv",
			)
			continue
		}
		if ok, err := r.Tree.Exists(e.name); err == nil && !ok {
			d.problem(e.key, "missing-file", "there is no file "+e.name, "correct the name, or take the entry out")
		}
		r.rosters[e.name] = x
	}
}

// own is how a file of people is laid out, the usual way where nothing is said.
func (r *Repo) own(file string) *roster {
	if x := r.rosters[file]; x != nil {
		return x
	}
	return &roster{delimiter: ','}
}

// A Layout is how a CSV file of people is written.
type Layout struct {
	Columns   map[string]string // our attribute → their header; nil where headers are attributes
	Delimiter rune
	Encoding  string // as IANA names it, "" for UTF-8
	date      string
}

// Layout is how a CSV file of people is written.
func (r *Repo) Layout(file string) Layout {
	own := r.own(file)
	l := Layout{Delimiter: own.delimiter, Encoding: own.encoding, date: own.date}
	if own.columns != nil {
		l.Columns = map[string]string{}
		for theirs, ours := range own.columns {
			l.Columns[ours] = theirs
		}
	}
	return l
}

// Own is an attribute's value as the file writes it.
func (l Layout) Own(attr, value string) string {
	if l.date == "" || value == "" || !slices.Contains(dates, attr) {
		return value
	}
	return (&export.Column{Date: l.date}).Own(value)
}

// dates are the attributes that are days.
var dates = []string{"starts", "ends", "away.from", "away.to", "newPassword"}

// IsDate reports whether an attribute of people is a day.
func IsDate(attr string) bool {
	return slices.ContainsFunc(dates, func(d string) bool { return table.Fold(d) == table.Fold(attr) })
}

// Attribute is the name of a person attribute as Pravet, or the files, spell it; an
// unknown one is an error with the nearest.
func (r *Repo) Attribute(name string) (string, error) {
	var err error
	if !r.attribute(name, func(says, hint string) { err = fmt.Errorf("%s; %s", says, hint) }) {
		return "", err
	}
	for _, k := range slices.Concat(r.People.Attributes(), known) {
		if table.Fold(k) == table.Fold(name) {
			return k, nil
		}
	}
	return name, nil
}
