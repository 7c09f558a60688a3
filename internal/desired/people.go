package desired

import (
	"bufio"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"pravet/internal/core/filter"
	"pravet/internal/core/model"
	"pravet/internal/core/table"
	"pravet/internal/export"
	"pravet/internal/source"
)

// IsAttribute reports whether a name is that of a person attribute.
func IsAttribute(name string) bool {
	return (&Repo{}).attribute(name, func(string, string) {})
}

// formerly are the earlier user names and addresses of a person.
const formerly = "formerly"

// attribute reports a name that is no person attribute.
func (r *Repo) attribute(name string, report func(says, hint string)) bool {
	folded := table.Fold(name)
	if strings.HasPrefix(folded, "extra.") && len(folded) > len("extra.") {
		return true
	}
	for _, k := range known {
		if table.Fold(k) == folded {
			return true
		}
	}
	hint := didYouMean(name, known, "")
	if hint == "" {
		hint = "an organization's own attributes are named extra." + name
	}
	report(fmt.Sprintf("a person has no attribute %q", name), hint)
	return false
}

// Only is the repository with those of its people who may be the one with an id or a user
// name: at least those, and of CSV files few more. What can only be told of all people
// together is not checked.
func (r *Repo) Only(name string) *Repo {
	only := *r
	only.only, only.whole, only.remembered, only.of = []string{name}, false, nil, r.All()
	only.People, only.Problems = r.People.Afresh(), r.Problems.Copy()
	only.readPeople()
	only.People.Close()
	return &only
}

// All is the repository of which this is a part, as Only makes one; else the repository itself.
func (r *Repo) All() *Repo {
	if r.of != nil {
		return r.of
	}
	return r
}

// ReadPeople reads all people files into r.People, once.
func (r *Repo) ReadPeople() {
	if r.whole {
		return
	}
	r.whole = true
	r.readPeople()
	r.People.Close()
	r.checkPeople()
	r.resolve()
}

// beginning reports whether the repository has nothing yet that is about people: no application and no kit.
func (r *Repo) beginning() bool { return len(r.Apps)+len(r.Kits) == 0 }

func (r *Repo) readPeople() {
	files := r.list("people", ".csv", ".yaml", ".yml")
	if len(files) == 0 && r.beginning() {
		r.warn(
			model.Pos{File: "people"}, "missing-file", "there are no people yet",
			"take them in from a spreadsheet: pravet intake FILE --write; or write people/NAME.csv with the columns id and userName",
		)
		return
	}
	if len(files) == 0 {
		r.fail(
			model.Pos{File: "people"},
			"missing-file",
			"there is no people file",
			"add people/NAME.csv with the columns id and userName",
		)
	}
	r.peopleFiles = files
	for _, file := range files {
		if strings.HasSuffix(file, ".csv") {
			r.peopleCSV(file)
		} else {
			r.peopleYAML(file)
		}
	}
}

// PeopleFiles lists the files that people were read from.
func (r *Repo) PeopleFiles() []string { return r.peopleFiles }

// peopleCSV reads a roster (RFC 4180) whose header names attributes.
func (r *Repo) peopleCSV(file string) {
	own := r.own(file)
	src, err := r.Tree.OpenAs(r.ctx, file, own.encoding)
	if err != nil {
		r.addError(err)
		return
	}
	defer src.Close()
	r.Files++
	var in io.Reader = src
	if r.only != nil {
		in = source.Sieve(src, r.only)
	}
	rd := csv.NewReader(bufio.NewReaderSize(in, source.ReadAhead))
	rd.ReuseRecord, rd.FieldsPerRecord, rd.Comma = true, -1, own.delimiter
	header, err := rd.Read()
	if err == io.EOF {
		r.fail(
			model.Pos{File: file, Line: 1},
			"missing-key",
			"the file is empty, and a header row is expected",
			"begin with id,userName,displayName",
		)
		return
	}
	if err != nil {
		r.addError(source.CSVError(file, err))
		return
	}
	width := len(header)
	attrs, fields, ok := r.peopleHeader(file, rd, header, own)
	if !ok {
		return
	}
	var dates []int
	if own.date != "" {
		for i, name := range r.People.Attributes() {
			if name == "starts" || name == "ends" || strings.HasPrefix(name, "away.") {
				dates = append(dates, slices.Index(attrs, i))
			}
		}
	}
	number := r.People.File(file)
	idAt, nameAt := slices.Index(attrs, r.People.Attribute("id")), slices.Index(attrs, r.People.Attribute("userName"))
	for rows := 1; ; rows++ {
		src.Mark()
		row, err := rd.Read()
		if err == io.EOF {
			break
		}
		if err != nil {
			r.addError(source.CSVError(file, err))
			return
		}
		line, _ := rd.FieldPos(0)
		if len(row) != width {
			r.fail(
				model.Pos{File: file, Line: line, Column: 1},
				"wrong-fields",
				fmt.Sprintf(
					"the row has %s and the header has %d",
					model.Count(len(row), "field", "fields"),
					width,
				),
				"look for a missing or an unquoted comma",
			)
			continue
		}
		for i := range row {
			row[i] = cell(row[i])
		}
		if row, ok = r.row(file, rd, row, fields, dates, own); !ok {
			continue
		}
		if row[idAt] == "" || row[nameAt] == "" {
			at, what := idAt, "id"
			if row[idAt] != "" {
				at, what = nameAt, "userName"
			}
			line, column := rd.FieldPos(fields[at])
			r.fail(
				model.Pos{File: file, Line: line, Column: column},
				"missing-value",
				"the person has no "+what,
				"every person needs an id and a userName",
			)
			continue
		}
		if !r.People.Add(number, line, attrs, row) {
			r.fail(
				model.Pos{File: file, Line: line},
				"too-large",
				"one attribute of all people together holds more than 4 GiB",
				"split the organization",
			)
			return
		}
		if rows == 8192 {
			r.People.Reserve(int(src.Size() / (rd.InputOffset() / 8192)))
		}
	}
	if r.only == nil {
		r.digest(file, src)
	}
}

func (r *Repo) digest(file string, src *source.Reader) {
	sum, err := src.Digest()
	if err != nil {
		r.addError(err)
		return
	}
	r.sums[file] = sum
}

func (r *Repo) addError(err error) {
	var p *source.Problem
	if !errors.As(err, &p) {
		p = source.NewProblem(model.Pos{}, "unreadable-file", err.Error(), "")
	}
	r.Problems.Add(p)
}

// cell is a value as people have it: without the spaces around it, which nobody sees and which make it
// another one.
func cell(text string) string { return strings.TrimSpace(text) }

// row is what of a row of people counts, with its dates as ISO 8601 has them.
func (r *Repo) row(
	file string, rd *csv.Reader, row []string, fields, dates []int, own *roster,
) (out []string, ok bool) {
	if own.columns == nil && own.date == "" {
		return row, true
	}
	ok = true
	for _, at := range fields {
		out = append(out, row[at])
	}
	for _, i := range dates {
		if i < 0 || out[i] == "" {
			continue
		}
		iso, err := (&export.Column{Name: "the dates of this roster", Date: own.date}).ISO(out[i])
		if err != nil {
			line, column := rd.FieldPos(fields[i])
			r.fail(
				model.Pos{File: file, Line: line, Column: column}, "wrong-date", err.Error(),
				"correct date under rosters in "+Root,
			)
			ok = false
		}
		out[i] = iso
	}
	return out, ok
}

// peopleHeader reads the header row into attribute numbers, and the numbers of their fields.
func (r *Repo) peopleHeader(
	file string, rd *csv.Reader, header []string, own *roster,
) (attrs, fields []int, ok bool) {
	ok = true
	left := maps.Clone(own.columns)
	seen := map[string]bool{}
	for i, h := range header {
		line, column := rd.FieldPos(i)
		pos := model.Pos{File: file, Line: line, Column: column}
		name := strings.TrimSpace(h)
		if own.columns != nil {
			ours, mapped := own.columns[name]
			delete(left, name)
			if !mapped {
				continue // of their own
			}
			name = ours
		}
		if seen[table.Fold(name)] {
			r.fail(pos, "duplicate-key", fmt.Sprintf("there are two columns named %s", name), "keep one of them")
			ok = false
		}
		seen[table.Fold(name)] = true
		if !r.attribute(name, func(says, hint string) { r.fail(pos, "unknown-attribute", says, hint) }) {
			ok = false
			continue
		}
		attrs, fields = append(attrs, r.People.Attribute(name)), append(fields, i)
	}
	for theirs := range left {
		r.fail(
			model.Pos{File: file, Line: 1}, "missing-column",
			fmt.Sprintf("the header has no column %q, which rosters names for %s", theirs, own.columns[theirs]),
			didYouMean(theirs, header, "correct it under rosters in "+Root+"; there are "),
		)
		ok = false
	}
	for _, need := range []string{"id", "userName"} {
		if !seen[table.Fold(need)] {
			r.fail(
				model.Pos{File: file, Line: 1},
				"missing-column",
				"the header has no column "+need,
				"every person needs an id and a userName",
			)
			ok = false
		}
	}
	return attrs, fields, ok
}

// maxCandidates bounds the search for a nearest name among people, and maxHints for
// how many names it is searched.
const (
	maxCandidates = 100_000
	maxHints      = 10
)

// resolve checks what refers to people: owners, holders, filters.
func (r *Repo) resolve() {
	wanted := map[string]bool{}
	for _, ref := range r.refs {
		wanted[ref.id] = true
	}
	found := r.People.Rows("id", wanted)
	ids := r.People.Column("id")
	var all []string // ids, once something is to be compared with them
	hints := 0
	for _, ref := range r.refs {
		if _, ok := found[ref.id]; ok {
			continue
		}
		hint := ""
		if names, _ := r.People.Index("userName"); names != nil {
			if p := names.Find(ref.id); p >= 0 {
				hint = "people are named by id here: " + ids.At(p)
			}
		}
		if hints++; hint == "" && ids != nil && hints <= maxHints {
			if all == nil {
				for i := range min(ids.Len(), maxCandidates) {
					all = append(all, ids.At(i))
				}
			}
			hint = didYouMean(ref.id, all, "")
		}
		if hint == "" {
			hint = "add them to a people file, or correct the id"
		}
		r.fail(ref.pos, "unknown-person", fmt.Sprintf("there is no person with the id %q", ref.id), hint)
	}
	for _, app := range r.Apps {
		for i := range app.Things {
			if t := &app.Things[i]; t.AtLeast > r.People.Len() {
				r.fail(
					t.Pos,
					"too-many",
					fmt.Sprintf(
						"at least %d must hold %s %s, and there are %s",
						t.AtLeast,
						t.Kind,
						t.Name,
						model.Count(r.People.Len(), "person", "people"),
					),
					"correct atLeast",
				)
			}
		}
	}
	for _, u := range r.uses {
		for _, c := range u.f.Clauses() {
			before := r.Problems.Errors()
			r.attributeUsed(u, c.Attr, c.Column)
			if r.Problems.Errors() > before {
				r.odd[u.f] = true
			}
		}
	}
}

// NearestPerson is the id or the user name that is nearest to a name, of the
// first so many people; "" where none is near.
func (r *Repo) NearestPerson(name string) string {
	var all []string
	for i := range min(r.People.Len(), maxCandidates) {
		all = append(all, r.People.Get(i, "id"), r.People.Get(i, "userName"))
	}
	return table.Nearest(name, all)
}

func (r *Repo) attributeUsed(u use, attr string, column int) {
	if r.People.Column(attr) != nil {
		return
	}
	given := r.People.Attributes()
	folded := table.Fold(attr)
	if strings.HasPrefix(folded, "extra.") {
		r.fail(
			u.at(column),
			"unknown-attribute",
			fmt.Sprintf("no people file gives %s", attr),
			didYouMean(attr, given, ""),
		)
		return
	}
	r.attribute(attr, func(says, hint string) {
		if near := table.Nearest(attr, given); near != "" {
			hint = "did you mean " + near + "?"
		}
		r.fail(u.at(column), "unknown-attribute", says, hint)
	})
}

// CheckFilter checks the attributes of a filter from the command line; nil is
// fine.
func (r *Repo) CheckFilter(f *filter.Filter, what string) error {
	if f == nil {
		return nil
	}
	probs := &source.Problems{}
	check := &Repo{People: r.People, Problems: probs}
	for _, c := range f.Clauses() {
		check.attributeUsed(use{f: f, at: func(column int) model.Pos { return model.Pos{} }}, c.Attr, c.Column)
		if all := probs.Sorted(); len(all) > 0 {
			return fmt.Errorf("%s, column %d: %w", what, c.Column, all[0])
		}
	}
	return nil
}
