package filter

import (
	"cmp"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"pravet/internal/core/day"
	"pravet/internal/core/table"
)

// A Catch is what one clause of a filter catches that would not match without
// it: how many rows, and by which values.
type Catch struct {
	Clause Clause
	Rows   int
	Values []Caught // the most frequent first
}

// Caught is a value that a clause catches. Within says that what the clause
// looks for is there only as a part of longer words: "lead" of "misleading".
type Caught struct {
	Value  string
	Rows   int
	Within bool
}

// Catches tells of each clause with an operator, such as co, which of the rows
// that the filter matches it alone lets in. matches tells which those are.
// O(rows) for the filter.
func (f *Filter) Catches(rows Rows, op string, matches func(row int) bool, today day.Day) (out []Catch) {
	columns := map[string]*table.Column{}
	any := false
	for _, c := range f.clauses {
		columns[c.Attr] = rows.Column(c.Attr)
		any = any || c.Op == op
	}
	if !any {
		return nil
	}
	counts := map[int]map[string]int{} // column of the clause → value → rows
	for i := range rows.Len() {
		if !matches(i) {
			continue
		}
		get := func(attr string) string {
			if c := columns[attr]; c != nil {
				return c.At(i)
			}
			return ""
		}
		for _, c := range f.OnlyBy(op, get, today) {
			if counts[c.Column] == nil {
				counts[c.Column] = map[string]int{}
			}
			counts[c.Column][get(c.Attr)]++
		}
	}
	for _, c := range f.clauses {
		if c.Op != op {
			continue
		}
		x := Catch{Clause: c}
		for v, n := range counts[c.Column] {
			x.Rows += n
			x.Values = append(x.Values, Caught{strings.Clone(v), n, within(table.Fold(v), c.folded)})
		}
		slices.SortFunc(
			x.Values,
			func(a, b Caught) int { return cmp.Or(cmp.Compare(b.Rows, a.Rows), cmp.Compare(a.Value, b.Value)) },
		)
		out = append(out, x)
	}
	return out
}

// within tells that a part stands in a text only inside longer words.
func within(text, part string) bool {
	if part == "" {
		return false
	}
	for at := 0; ; {
		n := strings.Index(text[at:], part)
		if n < 0 {
			return true
		}
		from, to := at+n, at+n+len(part)
		before, after := []rune(text[:from]), []rune(text[to:])
		letter := func(r rune) bool { return unicode.IsLetter(r) || unicode.IsDigit(r) }
		if (len(before) == 0 || !letter(before[len(before)-1])) && (len(after) == 0 || !letter(after[0])) {
			return false
		}
		_, size := utf8.DecodeRuneInString(text[from:])
		at = from + size
	}
}
