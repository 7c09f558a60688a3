// Package filter selects people, accounts and changes by SCIM filters
// (RFC 7644 §3.4.2.2), the one language of selection in files and on the
// command line:
//
//	department eq "Deck" and not (title sw "Trainee")
//
// The whole grammar is read. Values are written as in JSON, and comparison ignores
// case. A text that is an ISO 8601 duration is counted from the day of the plan
// where it is compared with a date: lastActive lt "-P30D".
// People and accounts are flat, so name[givenName eq "Ines"] is the same as
// name.givenName eq "Ines", and "value" is the attribute itself.
//
// A filter is parsed once; Classify then evaluates many filters over many rows
// at the cost of their distinct values.
package filter

import (
	"fmt"
	"math/big"
	"slices"
	"strings"

	"pravet/internal/core/day"
	"pravet/internal/core/table"
)

// A Filter is a parsed filter; it never changes and may be shared.
type Filter struct {
	source  string
	root    node
	clauses []Clause
}

// A Clause is one comparison of a filter.
type Clause struct {
	Attr   string // the attribute as written, without its schema URN
	Op     string // eq ne co sw ew gt ge lt le pr
	Column int    // where it begins in the filter, characters from 1
	Value  string // the value as written, without quotes; "" for pr
	kind   valueKind
	folded string
	number *big.Float
	day    day.Day
	period day.Duration
}

type valueKind int

const (
	isText valueKind = iota
	isNumber
	isBool
	isNull
	isDay
	isPeriod
)

type node interface {
	truth(leaf func(int) bool) bool
}

type (
	leaf int
	not  struct{ of node }
	and  struct{ left, right node }
	or   struct{ left, right node }
)

func (n leaf) truth(f func(int) bool) bool { return f(int(n)) }
func (n not) truth(f func(int) bool) bool  { return !n.of.truth(f) }
func (n and) truth(f func(int) bool) bool  { return n.left.truth(f) && n.right.truth(f) }
func (n or) truth(f func(int) bool) bool   { return n.left.truth(f) || n.right.truth(f) }

// Parse reads a filter. Its errors are of type *Error.
func Parse(src string) (*Filter, error) {
	if strings.TrimSpace(src) == "" {
		return nil, &Error{1, "the filter is empty", `for example department eq "Deck"`}
	}
	if len(src) > maxBytes {
		return nil, &Error{1, "the filter is too long", fmt.Sprintf("at most %d bytes are read", maxBytes)}
	}
	tokens, err := scan(src)
	if err != nil {
		return nil, err
	}
	f := &Filter{source: src}
	f.root, err = (&parser{f: f, tokens: tokens}).filter()
	if err != nil {
		return nil, err
	}
	return f, nil
}

func (c *Clause) ordered() bool {
	return c.Op == "gt" || c.Op == "ge" || c.Op == "lt" || c.Op == "le"
}

func (c *Clause) substring() bool { return c.Op == "co" || c.Op == "sw" || c.Op == "ew" }

// dates are the attributes that hold dates and nothing else, so that what looks
// like a duration has to be one.
var dates = []string{"starts", "ends", "away.from", "away.to", "newPassword", "lastActive", "created", "until"}

// setText sets a text to compare with. One that is a duration is counted from the
// day of the plan where the value that it is compared with is a date.
func (c *Clause) setText(v string) error {
	c.Value, c.folded = v, table.Fold(v)
	if c.substring() {
		return nil
	}
	if day.LooksLikeDuration(v) {
		p, err := day.ParseDuration(v)
		if err == nil {
			c.kind, c.period = isPeriod, p
		} else if slices.ContainsFunc(dates, func(d string) bool { return strings.EqualFold(d, c.Attr) }) {
			return err
		}
	} else if d, ok := day.ParseLoose(v); ok && c.ordered() {
		c.kind, c.day = isDay, d
	}
	return nil
}

// setLiteral sets true, false, null or a number, in lower case.
func (c *Clause) setLiteral(v string) error {
	switch v {
	case "null":
		c.kind = isNull
		if c.Op != "eq" && c.Op != "ne" {
			return fmt.Errorf("%s cannot be compared with null by %s; use eq, ne or pr", c.Attr, c.Op)
		}
		return nil
	case "true", "false":
		c.kind, c.Value, c.folded = isBool, v, v
		if c.ordered() || c.substring() {
			return fmt.Errorf("%s cannot be compared with %v by %s; use eq or ne", c.Attr, v, c.Op)
		}
		return nil
	}
	c.Value = v
	if c.substring() {
		return fmt.Errorf(
			"%s cannot be compared with the number %s by %s; write the number in double quotes",
			c.Attr,
			c.Value,
			c.Op,
		)
	}
	n, _, err := big.ParseFloat(v, 10, 128, big.ToNearestEven)
	if err != nil {
		return fmt.Errorf("the number %s is too large", c.Value)
	}
	c.kind, c.number = isNumber, n
	return nil
}

// String returns the filter as it was written.
func (f *Filter) String() string { return f.source }

// Clauses returns the filter's comparisons in the order in which they stand.
func (f *Filter) Clauses() []Clause { return f.clauses }

// CountsDays reports whether the filter compares with a duration, so that what it matches changes as days go by.
func (f *Filter) CountsDays() bool {
	return slices.ContainsFunc(f.clauses, func(c Clause) bool { return c.kind == isPeriod })
}

// Match evaluates the filter for one row; get returns the value of an
// attribute, "" where there is none, and is asked with the name as written.
func (f *Filter) Match(get func(attr string) string, today day.Day) bool {
	return f.root.truth(func(i int) bool {
		return f.clauses[i].Match(get(f.clauses[i].Attr), today)
	})
}

// Truth evaluates the filter where the truth of each clause is known, by its
// number among Clauses.
func (f *Filter) Truth(clause func(int) bool) bool { return f.root.truth(clause) }

// MatchAny evaluates the filter for one row whose attributes may have several
// values: a comparison is true when it is for one of them, and "ne" when it is
// for all (RFC 7644 §3.4.2.2 speaks of the former only).
func (f *Filter) MatchAny(get func(attr string) []string, today day.Day) bool {
	return f.root.truth(func(i int) bool {
		c := &f.clauses[i]
		values := get(c.Attr)
		if len(values) == 0 {
			return c.Match("", today)
		}
		all := c.Op == "ne"
		for _, v := range values {
			if c.Match(v, today) != all {
				return !all
			}
		}
		return all
	})
}

// Match compares one value, "" being no value. An absent value equals nothing
// but null, is unequal to everything else, and stands in no order.
func (c *Clause) Match(v string, today day.Day) bool {
	switch c.Op {
	case "pr":
		return v != ""
	case "eq":
		return c.equal(v, today)
	case "ne":
		return !c.equal(v, today)
	}
	if v == "" {
		return false
	}
	switch c.Op {
	case "co":
		return strings.Contains(table.Fold(v), c.folded)
	case "sw":
		return strings.HasPrefix(table.Fold(v), c.folded)
	case "ew":
		return strings.HasSuffix(table.Fold(v), c.folded)
	}
	sign, ok := c.compare(v, today)
	if !ok {
		return false
	}
	switch c.Op {
	case "gt":
		return sign > 0
	case "ge":
		return sign >= 0
	case "lt":
		return sign < 0
	}
	return sign <= 0
}

func (c *Clause) equal(v string, today day.Day) bool {
	switch c.kind {
	case isNull:
		return v == ""
	case isNumber:
		sign, ok := c.compare(v, today)
		return ok && sign == 0
	case isPeriod:
		if sign, ok := c.compare(v, today); ok {
			return sign == 0
		}
	}
	if v == "" {
		return c.folded == ""
	}
	return table.Fold(v) == c.folded
}

// compare orders v against the clause's value; ok is false where the two are
// not of a kind.
func (c *Clause) compare(v string, today day.Day) (sign int, ok bool) {
	switch c.kind {
	case isNumber:
		if len(v) > 40 {
			return 0, false
		}
		n, _, err := big.ParseFloat(v, 10, 128, big.ToNearestEven)
		if err != nil {
			return 0, false
		}
		return n.Cmp(c.number), true
	case isDay, isPeriod:
		d, ok := day.ParseLoose(v)
		if !ok {
			return 0, false
		}
		than := c.day
		if c.kind == isPeriod {
			than = today.Add(c.period)
		}
		return int(d) - int(than), true
	}
	return strings.Compare(table.Fold(v), c.folded), true
}

// OfPeople parses a filter over people in which an attribute may be called
// person.department as well as department, as filters over changes and accounts do.
func OfPeople(text string) (*Filter, error) {
	f, err := Parse(text)
	if err != nil {
		return nil, err
	}
	for i := range f.clauses {
		c := &f.clauses[i]
		if attr := strings.TrimPrefix(table.Fold(c.Attr), "person."); len(attr) < len(c.Attr) {
			c.Attr = c.Attr[len(c.Attr)-len(attr):]
		}
	}
	return f, nil
}
