package desired

import (
	"bufio"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	yaml "go.yaml.in/yaml/v4"

	"pravet/internal/core/day"
	"pravet/internal/core/filter"
	"pravet/internal/core/model"
	"pravet/internal/core/table"
	"pravet/internal/source"
)

// known are the person attributes: those of RFC 7643 §4.1 and §4.3 that have
// one value, and Pravet's own dates. An organization's own are extra.NAME.
var known = []string{
	"id", "userName", "displayName", "name.givenName", "name.familyName", "name.middleName", "name.formatted",
	"nickName",
	"email", "phone", "title", "department", "division", "organization", "costCenter", "employeeNumber", "manager",
	"userType",
	"externalId", "locale", "timezone", "preferredLanguage", "country", "location", "profileUrl",
	"starts", "ends", "away", "away.from", "away.to", "formerly",
}

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

// FindPeople reads, of all people files, the people who may be the one with an
// id or a user name: at least those, and of CSV files few more. What can only be
// told of all people together is not checked.
func (r *Repo) FindPeople(name string) {
	r.only = []string{name}
	r.readPeople()
	r.People.Close()
}

// ReadPeople reads all people files into r.People.
func (r *Repo) ReadPeople() {
	r.readPeople()
	r.People.Close()
	r.checkPeople()
	r.resolve()
}

func (r *Repo) readPeople() {
	files := r.list("people", ".csv", ".yaml", ".yml")
	if len(files) == 0 {
		r.fail(
			model.Pos{File: "people"},
			"missing-file",
			"there is no people file",
			"add people/NAME.csv with the columns id and userName",
		)
	}
	for _, file := range files {
		if strings.HasSuffix(file, ".csv") {
			r.peopleCSV(file)
		} else {
			r.peopleYAML(file)
		}
	}
}

// peopleCSV reads a roster (RFC 4180) whose header names attributes.
func (r *Repo) peopleCSV(file string) {
	src, err := r.Tree.Open(r.ctx, file)
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
	rd := csv.NewReader(bufio.NewReaderSize(in, 1<<18))
	rd.ReuseRecord, rd.FieldsPerRecord = true, -1
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
	attrs, ok := r.peopleHeader(file, rd, header)
	if !ok {
		return
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
		if len(row) != len(attrs) {
			r.fail(
				model.Pos{File: file, Line: line, Column: 1},
				"wrong-fields",
				fmt.Sprintf(
					"the row has %s and the header has %d",
					model.Count(len(row), "field", "fields"),
					len(attrs),
				),
				"look for a missing or an unquoted comma",
			)
			continue
		}
		if row[idAt] == "" || row[nameAt] == "" {
			at, what := idAt, "id"
			if row[idAt] != "" {
				at, what = nameAt, "userName"
			}
			line, column := rd.FieldPos(at)
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

// peopleHeader reads the header row into attribute numbers.
func (r *Repo) peopleHeader(file string, rd *csv.Reader, header []string) (attrs []int, ok bool) {
	ok = true
	seen := map[string]bool{}
	for i, h := range header {
		line, column := rd.FieldPos(i)
		pos := model.Pos{File: file, Line: line, Column: column}
		name := strings.TrimSpace(h)
		if seen[table.Fold(name)] {
			r.fail(pos, "duplicate-key", fmt.Sprintf("the column %s stands twice", name), "keep one of them")
			ok = false
		}
		seen[table.Fold(name)] = true
		if !r.attribute(name, func(says, hint string) { r.fail(pos, "unknown-attribute", says, hint) }) {
			ok = false
			continue
		}
		attrs = append(attrs, r.People.Attribute(name))
	}
	for _, need := range []string{"id", "userName"} {
		if !seen[table.Fold(need)] {
			r.fail(
				model.Pos{File: file, Line: 1},
				"missing-column",
				"the header lacks the column "+need,
				"every person needs an id and a userName",
			)
			ok = false
		}
	}
	return attrs, ok
}

// peopleYAML reads hand-kept people: a list under people.
func (r *Repo) peopleYAML(file string) {
	d, root := r.open(file)
	if root == nil {
		return
	}
	f := d.fields(root, "a file of people", "people")
	number := r.People.File(file)
	for _, n := range d.list(f["people"], "people") {
		var attrs []int
		var values []string
		var places []model.Pos
		has := map[string]bool{}
		add := func(key *yaml.Node, name, value string) {
			if r.attribute(name, func(says, hint string) { d.problem(key, "unknown-attribute", says, hint) }) &&
				value != "" {
				has[table.Fold(name)] = true
				attrs = append(attrs, r.People.Attribute(name))
				values = append(values, value)
				places = append(places, d.pos(key))
			}
		}
		for _, e := range d.entries(n, "a person") {
			if e.value.Kind == yaml.MappingNode {
				for _, sub := range d.entries(e.value, e.name) {
					add(sub.key, e.name+"."+sub.name, d.text(sub.value, e.name+"."+sub.name))
				}
				continue
			}
			add(e.key, e.name, d.text(e.value, e.name))
		}
		if !has["id"] || !has["username"] {
			d.problem(n, "missing-value", "the person lacks id or userName", "every person needs both")
			continue
		}
		r.People.Add(number, n.Line, attrs, values)
		for i, a := range attrs {
			r.People.SetPlace(a, places[i])
		}
	}
}

// A finding is something wrong with an attribute of a person, before its place is
// looked up.
type finding struct {
	person int
	attr   string
	other  int // another person whose place the words name, or -1
	rule   string
	says   func(other model.Pos) string
	hint   string
}

func (r *Repo) find(f *[]finding, person int, attr, rule, says string) {
	*f = append(*f, finding{person, attr, -1, rule, func(model.Pos) string { return says }, ""})
}

// checkPeople checks what can only be told of all people together: that ids
// and user names are unique, case ignored, and that dates are dates.
func (r *Repo) checkPeople() {
	var all []finding
	for _, attr := range []string{"id", "userName"} {
		for _, c := range r.People.Clashes(attr) {
			a, b := r.People.Get(int(c.First), attr), r.People.Get(int(c.Second), attr)
			differs := ""
			if a != b {
				differs = fmt.Sprintf(" (written %s there)", a)
			}
			const hint = "every person needs one of their own"
			all = append(
				all,
				finding{int(c.Second), attr, int(c.First), "duplicate-entry", func(first model.Pos) string {
					return fmt.Sprintf("the %s %s is already in %s%s", attr, b, first, differs)
				}, hint},
				finding{
					int(c.First),
					attr,
					int(c.Second),
					"duplicate-entry",
					func(second model.Pos) string { return fmt.Sprintf("the %s %s stands again in %s", attr, a, second) },
					hint,
				},
			)
		}
	}
	isDate := func(v string) error { _, err := day.Parse(v); return err }
	for _, attr := range []string{"starts", "ends", "away.from", "away.to"} {
		r.validate(&all, attr, "wrong-date", isDate)
	}
	r.validate(&all, "away", "wrong-type", func(v string) error {
		if !strings.EqualFold(v, "true") && !strings.EqualFold(v, "false") {
			return fmt.Errorf("%q is not true or false", v)
		}
		return nil
	})
	r.datesInOrder(&all, "starts", "ends")
	r.datesInOrder(&all, "away.from", "away.to")
	r.report(all)
}

// report gives findings their places, reading each file once more, and reports
// them. Beyond those that are kept of a file anyway, they are only counted.
func (r *Repo) report(all []finding) {
	kept := all[:0:0]
	perFile := map[string]int{}
	for _, f := range all {
		file := r.People.Pos(f.person).File
		if perFile[file]++; perFile[file] > source.MaxPerFile {
			r.Problems.Skip(file)
			continue
		}
		kept = append(kept, f)
	}
	wanted := map[placed]bool{}
	for _, f := range kept {
		wanted[placed{f.person, f.attr}] = true
		if f.other >= 0 {
			wanted[placed{f.other, f.attr}] = true
		}
	}
	at := r.places(wanted)
	for _, f := range kept {
		r.fail(at[placed{f.person, f.attr}], f.rule, f.says(at[placed{f.other, f.attr}]), f.hint)
	}
}

// validate checks every value of an attribute, once where values repeat.
func (r *Repo) validate(all *[]finding, attr, rule string, check func(string) error) {
	col := r.People.Column(attr)
	if col == nil {
		return
	}
	bad := map[string]error{}
	values, codes, coded := col.Codes()
	if coded {
		for _, v := range values {
			if v == "" {
				continue
			}
			if err := check(v); err != nil {
				bad[v] = err
			}
		}
		if len(bad) == 0 {
			return
		}
	}
	for i := range col.Len() {
		v := ""
		if coded {
			v = values[codes[i]]
		} else if v = col.At(i); v != "" {
			if err := check(v); err != nil {
				bad[v] = err
			}
		}
		if err := bad[v]; err != nil {
			r.find(all, i, attr, rule, attr+": "+err.Error())
		}
	}
}

func (r *Repo) datesInOrder(all *[]finding, first, last string) {
	from, to := r.People.Column(first), r.People.Column(last)
	if from == nil || to == nil {
		return
	}
	for i := range r.People.Len() {
		// ISO dates sort as text; wrong ones are reported already.
		if f, t := from.At(i), to.At(i); t != "" && f > t {
			r.find(all, i, last, "wrong-date", fmt.Sprintf("%s %s is before %s %s", last, t, first, f))
		}
	}
}

// placed is an attribute of a person.
type placed struct {
	person int
	attr   string
}

// places finds the places of attributes of people. CSV files are read again, each
// once, as columns are not kept; only problems ask for it.
func (r *Repo) places(wanted map[placed]bool) map[placed]model.Pos {
	out := make(map[placed]model.Pos, len(wanted))
	byFile := map[string]map[int][]placed{} // file → line → what is wanted there
	for w := range wanted {
		pos := r.People.Place(w.person, w.attr)
		out[w] = pos
		if strings.HasSuffix(pos.File, ".csv") {
			if byFile[pos.File] == nil {
				byFile[pos.File] = map[int][]placed{}
			}
			byFile[pos.File][pos.Line] = append(byFile[pos.File][pos.Line], w)
		}
	}
	for file, lines := range byFile {
		r.placesIn(file, lines, out)
	}
	return out
}

func (r *Repo) placesIn(file string, lines map[int][]placed, out map[placed]model.Pos) {
	src, err := r.Tree.Open(r.ctx, file)
	if err != nil {
		return
	}
	defer src.Close()
	rd := csv.NewReader(bufio.NewReaderSize(src, 1<<18))
	rd.ReuseRecord, rd.FieldsPerRecord = true, -1
	var header []string
	for left := len(lines); left > 0; {
		src.Mark()
		row, err := rd.Read()
		if err != nil {
			return
		}
		if header == nil {
			header = slices.Clone(row)
			continue
		}
		line, _ := rd.FieldPos(0)
		at, ok := lines[line]
		if !ok {
			continue
		}
		left--
		for _, w := range at {
			i := slices.IndexFunc(
				header,
				func(h string) bool { return strings.EqualFold(strings.TrimSpace(h), w.attr) },
			)
			if i >= 0 && i < len(row) {
				pos := out[w]
				pos.Line, pos.Column = rd.FieldPos(i)
				out[w] = pos
			}
		}
	}
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
			hint = "add them to a people file, or mend the id"
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
					"mend atLeast",
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
