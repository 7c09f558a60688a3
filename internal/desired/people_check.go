package desired

import (
	"bufio"
	"encoding/csv"
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode"

	"pravet/internal/core/day"
	"pravet/internal/core/model"
	"pravet/internal/source"
)

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
			const hint = "every person needs a unique one"
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
					func(second model.Pos) string {
						return fmt.Sprintf("the %s %s is used again at "+"%s", attr, a, second)
					},
					hint,
				},
			)
		}
	}
	isDate := func(v string) error { _, err := day.Parse(v); return err }
	for _, attr := range []string{"starts", "ends", "away.from", "away.to", "newPassword"} {
		r.validate(&all, attr, "wrong-date", isDate)
	}
	r.validate(&all, "away", "wrong-type", func(v string) error {
		if !strings.EqualFold(v, "true") && !strings.EqualFold(v, "false") {
			return fmt.Errorf("%q is not true or false", v)
		}
		return nil
	})
	r.validate(&all, "email", "bad-address", func(v string) error {
		if strings.ContainsFunc(v, unicode.IsControl) {
			return errors.New("a line end or another control character is in it, and no address has one")
		}
		return nil
	})
	r.datesInOrder(&all, "starts", "ends")
	r.datesInOrder(&all, "away.from", "away.to")
	r.earlier(&all)
	r.checkFields(&all)
	r.report(all)
}

// earlier checks that nobody's earlier user name is the present one of somebody else: the
// account of that name could be either's. O(people).
func (r *Repo) earlier(all *[]finding) {
	former := r.People.Column(formerly)
	if former == nil {
		return
	}
	for p := range former.Len() {
		for _, name := range strings.Fields(former.At(p)) {
			names, _ := r.People.Index("userName")
			if names == nil {
				return
			}
			if other := names.Find(name); other >= 0 && other != p {
				*all = append(*all, finding{p, formerly, -1, "two-people", func(model.Pos) string {
					return fmt.Sprintf(
						"formerly names %s, which is the user name of %s now",
						name,
						r.People.Get(other, "id"),
					)
				}, "take it out, or give one of them another user name"})
			}
		}
	}
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
	rd := csv.NewReader(bufio.NewReaderSize(src, source.ReadAhead))
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
