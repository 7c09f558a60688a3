// A rule works a value out of other values: by a table, as a constant, or joined of
// several and written otherwise. Account attributes follow people's by such rules, and columns
// of a spreadsheet become people's attributes by them.
//
//	r := model.Rule{From: []string{"name.givenName", "name.familyName"}, With: ".", Case: derive.Lower, Plain: true}
//	r.Value(get) // "soren.dahl", of "Søren" and "Dahl"

package model

import (
	"strings"
	"unicode"

	"pravet/internal/core/table"

	"golang.org/x/text/unicode/norm"
)

// A Case is how letters are written.
type Case uint8

// The cases.
const (
	AsIs Case = iota
	Lower
	Upper
)

// A Rule is how a value follows from others.
type Rule struct {
	From     []string // of whose values it is joined, those without one left out
	With     string   // between them
	Map      []Pair   // a table of values, case ignored; nil where the value itself counts
	Else     string   // where the table has none, or there is no value
	HasElse  bool
	Constant string // the value, where From is empty
	Case     Case
	Plain    bool // only unaccented letters, digits, and ".", "-" and "_"
}

// A Pair is a line of a table.
type Pair struct{ Value, Becomes string }

// Value works the value out; get returns the values that it follows from, "" for none. A value
// that the table lacks is "" where no other is given for it.
func (r *Rule) Value(get func(string) string) string {
	if len(r.From) == 0 {
		return r.Constant
	}
	var parts []string
	for _, name := range r.From {
		if v := strings.TrimSpace(get(name)); v != "" {
			parts = append(parts, r.written(v))
		}
	}
	value := strings.Join(parts, r.With)
	if r.Map != nil && value != "" {
		is := table.Fold(value)
		value = ""
		for _, p := range r.Map {
			if table.Fold(p.Value) == is {
				return p.Becomes
			}
		}
	}
	if value == "" && r.HasElse {
		return r.Else
	}
	return value
}

// Lacks reports whether a table has no line for a value, and no other value for that.
func (r *Rule) Lacks(value string) bool {
	if r.Map == nil || r.HasElse || value == "" {
		return false
	}
	for _, p := range r.Map {
		if table.Fold(p.Value) == table.Fold(value) {
			return false
		}
	}
	return true
}

func (r *Rule) written(v string) string {
	if r.Plain {
		v = Plain(v)
	}
	switch r.Case {
	case Lower:
		return strings.ToLower(v)
	case Upper:
		return strings.ToUpper(v)
	}
	return v
}

// otherwise are letters that are written with others where they cannot be typed, besides those
// that are a letter with a mark.
var otherwise = strings.NewReplacer(
	"ø", "o", "Ø", "O", "ł", "l", "Ł", "L", "đ", "d", "Đ", "D", "ð", "d", "Ð", "D", "þ", "th", "Þ", "Th",
	"æ", "ae", "Æ", "Ae", "œ", "oe", "Œ", "Oe", "ß", "ss", "ı", "i",
)

// Plain is a name in unaccented letters, digits, ".", "-" and "_": marks are left out, and so
// is everything else.
func Plain(s string) string {
	var b strings.Builder
	for _, c := range norm.NFKD.String(otherwise.Replace(s)) {
		if c < unicode.MaxASCII && (unicode.IsLetter(c) || unicode.IsDigit(c) || strings.ContainsRune(".-_", c)) {
			b.WriteRune(c)
		}
	}
	return b.String()
}
