// Package filter selects people, accounts and changes by SCIM filters
// (RFC 7644 §3.4.2.2), the one language of selection in files and on the
// command line:
//
//	department eq "Deck" and not (title sw "Trainee")
//
// The whole grammar is read. Comparison ignores case. A value that is an
// ISO 8601 duration is counted from the day of the plan: lastActive lt "-P30D".
// People and accounts are flat, so name[givenName eq "Ines"] is the same as
// name.givenName eq "Ines", and "value" is the attribute itself.
//
// A filter is parsed once; Classify then evaluates many filters over many rows
// at the cost of their distinct values.
package filter

import (
	"fmt"
	"math/big"
	"strconv"
	"strings"

	scim "github.com/scim2/filter-parser/v2"

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
	columns, err := check(tokens)
	if err != nil {
		return nil, err
	}
	tree, err := scim.ParseFilterNumber([]byte(normal(tokens)))
	if err != nil {
		return nil, &Error{1, "this is not a SCIM filter", "see RFC 7644, section 3.4.2.2"}
	}
	f := &Filter{source: src}
	b := builder{f: f, columns: columns}
	if f.root, err = b.build(tree, ""); err != nil {
		return nil, err
	}
	return f, nil
}

// normal writes the tokens again with the single spaces and the lower-case
// literals that the parser asks for.
func normal(tokens []token) string {
	var b strings.Builder
	for i, t := range tokens {
		if i > 0 && t.kind != closed && t.kind != closedBracket && t.kind != openBracket && t.kind != end {
			if k := tokens[i-1].kind; k != open && k != openBracket {
				b.WriteByte(' ')
			}
		}
		if t.kind == word && isLiteral(t.text) && !strings.ContainsAny(t.text, "0123456789") {
			t.text = strings.ToLower(t.text)
		}
		b.WriteString(t.text)
	}
	return b.String()
}

type builder struct {
	f       *Filter
	columns []int
}

func (b *builder) build(e scim.Expression, prefix string) (node, error) {
	switch e := e.(type) {
	case *scim.LogicalExpression:
		left, err := b.build(e.Left, prefix)
		if err != nil {
			return nil, err
		}
		right, err := b.build(e.Right, prefix)
		if err != nil {
			return nil, err
		}
		if e.Operator == scim.AND {
			return and{left, right}, nil
		}
		return or{left, right}, nil
	case *scim.NotExpression:
		of, err := b.build(e.Expression, prefix)
		return not{of}, err
	case *scim.ValuePath:
		return b.build(e.ValueFilter, e.AttributePath.AttributeName+".")
	case *scim.AttributeExpression:
		return b.clause(e, prefix)
	}
	return nil, &Error{1, "this is not a SCIM filter", ""}
}

func (b *builder) clause(e *scim.AttributeExpression, prefix string) (node, error) {
	n := len(b.f.clauses)
	if n >= len(b.columns) {
		return nil, &Error{1, "this is not a SCIM filter", ""}
	}
	c := Clause{Op: strings.ToLower(string(e.Operator)), Column: b.columns[n]}
	c.Attr = prefix + e.AttributePath.AttributeName
	if sub := e.AttributePath.SubAttributeName(); sub != "" {
		c.Attr += "." + sub
	}
	if len(c.Attr) > len(".value") && strings.EqualFold(c.Attr[len(c.Attr)-len(".value"):], ".value") {
		c.Attr = c.Attr[:len(c.Attr)-len(".value")]
	}
	if err := c.setValue(e.CompareValue); err != nil {
		return nil, &Error{Column: c.Column, Says: err.Error()}
	}
	b.f.clauses = append(b.f.clauses, c)
	return leaf(n), nil
}

func (c *Clause) ordered() bool {
	return c.Op == "gt" || c.Op == "ge" || c.Op == "lt" || c.Op == "le"
}

func (c *Clause) setValue(v any) error {
	substring := c.Op == "co" || c.Op == "sw" || c.Op == "ew"
	switch v := v.(type) {
	case nil:
		c.kind = isNull
		if c.Op != "pr" && c.Op != "eq" && c.Op != "ne" {
			return fmt.Errorf("%s cannot be compared with null by %s; use eq, ne or pr", c.Attr, c.Op)
		}
	case bool:
		c.kind, c.Value = isBool, strconv.FormatBool(v)
		c.folded = c.Value
		if c.ordered() || substring {
			return fmt.Errorf("%s cannot be compared with %v by %s; use eq or ne", c.Attr, v, c.Op)
		}
	case string:
		c.Value, c.folded = v, table.Fold(v)
		if substring {
			break
		}
		if day.LooksLikeDuration(v) {
			p, err := day.ParseDuration(v)
			if err != nil {
				return err
			}
			c.kind, c.period = isPeriod, p
		} else if d, ok := day.ParseLoose(v); ok && c.ordered() {
			c.kind, c.day = isDay, d
		}
	default:
		c.Value = fmt.Sprint(v)
		if substring {
			return fmt.Errorf("%s cannot be compared with the number %s by %s; write the number in double quotes", c.Attr, c.Value, c.Op)
		}
		n, _, err := big.ParseFloat(c.Value, 10, 128, big.ToNearestEven)
		if err != nil {
			return fmt.Errorf("the number %s is too large", c.Value)
		}
		c.kind, c.number = isNumber, n
	}
	return nil
}

// String returns the filter as it was written.
func (f *Filter) String() string { return f.source }

// Clauses returns the filter's comparisons in the order in which they stand.
func (f *Filter) Clauses() []Clause { return f.clauses }

// Match evaluates the filter for one row; get returns the value of an
// attribute, "" where there is none, and is asked with the name as written.
func (f *Filter) Match(get func(attr string) string, today day.Day) bool {
	return f.root.truth(func(i int) bool {
		return f.clauses[i].Match(get(f.clauses[i].Attr), today)
	})
}

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
	case isNumber, isPeriod:
		sign, ok := c.compare(v, today)
		return ok && sign == 0
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
