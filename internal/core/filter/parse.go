package filter

import (
	"encoding/json"
	"fmt"
	"strings"
	"unicode/utf8"
)

// parser reads the grammar of RFC 7644 §3.4.2.2 by recursive descent: "and" binds
// closer than "or", and "not" stands before parentheses only. An error names its
// column and what was expected there.
type parser struct {
	f      *Filter
	tokens []token
	at     int
}

func (p *parser) peek() token { return p.tokens[p.at] }

func (p *parser) next() token {
	t := p.tokens[p.at]
	if t.kind != end {
		p.at++
	}
	return t
}

func (p *parser) isWord(w string) bool {
	t := p.peek()
	return t.kind == word && strings.EqualFold(t.text, w)
}

// filter reads the whole filter.
func (p *parser) filter() (node, error) {
	n, err := p.either(0, "")
	if err != nil {
		return nil, err
	}
	if t := p.peek(); t.kind != end {
		return nil, &Error{
			t.column,
			fmt.Sprintf("%v is not expected here", t),
			`join two conditions with "and" or "or"`,
		}
	}
	return n, nil
}

// either reads what is joined by "or". within is the attribute in whose brackets
// it stands, with a dot behind it, or "".
func (p *parser) either(depth int, within string) (node, error) {
	if depth > maxDepth {
		return nil, &Error{
			p.peek().column,
			"the filter is nested too deeply",
			fmt.Sprintf("at most %d levels are read", maxDepth),
		}
	}
	left, err := p.both(depth, within)
	for err == nil && p.isWord("or") {
		p.next()
		var right node
		if right, err = p.both(depth, within); err == nil {
			left = or{left, right}
		}
	}
	return left, err
}

// both reads what is joined by "and".
func (p *parser) both(depth int, within string) (node, error) {
	left, err := p.condition(depth, within)
	for err == nil && p.isWord("and") {
		p.next()
		var right node
		if right, err = p.condition(depth, within); err == nil {
			left = and{left, right}
		}
	}
	return left, err
}

func (p *parser) condition(depth int, within string) (node, error) {
	if p.isWord("not") {
		p.next()
		if t := p.peek(); t.kind != open {
			return nil, &Error{t.column, fmt.Sprintf(`"not" is followed by "(", not by %v`, t), `write not (title pr)`}
		}
		of, err := p.enclosed(depth, within, closed, ")", "(")
		return not{of}, err
	}
	if p.peek().kind == open {
		return p.enclosed(depth, within, closed, ")", "(")
	}
	name, err := p.attribute()
	if err != nil {
		return nil, err
	}
	if bracket := p.peek(); bracket.kind == openBracket {
		if within != "" {
			return nil, &Error{bracket.column, "brackets do not stand within brackets", ""}
		}
		return p.enclosed(depth, path(name.text)+".", closedBracket, "]", "[")
	}
	return p.comparison(name, within)
}

// enclosed reads an expression between two marks, of which the first comes next.
func (p *parser) enclosed(depth int, within string, shut tokenKind, closing, opening string) (node, error) {
	first := p.next()
	n, err := p.either(depth+1, within)
	if err != nil {
		return nil, err
	}
	if last := p.next(); last.kind != shut {
		return nil, &Error{
			last.column,
			fmt.Sprintf(
				`%q is expected here, not %v; it closes the %q in column %d`,
				closing,
				last,
				opening,
				first.column,
			),
			"",
		}
	}
	return n, nil
}

// attribute reads the name of an attribute.
func (p *parser) attribute() (token, error) {
	name := p.next()
	switch {
	case name.kind != word:
		return name, &Error{
			name.column,
			fmt.Sprintf("an attribute is expected here, not %v", name),
			`for example department eq "Deck"`,
		}
	case isOperator(name.text) || strings.EqualFold(name.text, "and") || strings.EqualFold(name.text, "or"):
		return name, &Error{
			name.column,
			fmt.Sprintf("an attribute is expected here, not the word %q", name.text),
			`for example department eq "Deck"`,
		}
	}
	wrong := func(at int) error {
		hint := `for example department eq "Deck"`
		if strings.ContainsAny(name.text, "=<>") {
			hint = `comparisons are words: eq, ne, co, sw, ew, gt, ge, lt, le, pr`
		}
		return &Error{
			name.column + utf8.RuneCountInString(name.text[:at]),
			fmt.Sprintf("%q is not the name of an attribute", name.text),
			hint,
		}
	}
	if bad := strings.IndexFunc(name.text, func(r rune) bool { return !isNameChar(r) && r != '.' && r != ':' }); bad >= 0 {
		return name, wrong(bad)
	}
	for _, part := range strings.Split(path(name.text), ".") {
		if part == "" || !isLetter(rune(part[0])) && part[0] != '$' {
			return name, wrong(0)
		}
	}
	return name, nil
}

func isLetter(r rune) bool { return 'a' <= r && r <= 'z' || 'A' <= r && r <= 'Z' }

func isNameChar(r rune) bool {
	return isLetter(r) || '0' <= r && r <= '9' || r == '-' || r == '_' || r == '$'
}

// path is an attribute without the URN of its schema.
func path(name string) string { return name[strings.LastIndexByte(name, ':')+1:] }

// comparison reads an operator and its value.
func (p *parser) comparison(name token, within string) (node, error) {
	c := Clause{Attr: within + path(name.text), Column: name.column}
	if value := ".value"; len(c.Attr) > len(value) && strings.EqualFold(c.Attr[len(c.Attr)-len(value):], value) {
		c.Attr = c.Attr[:len(c.Attr)-len(value)]
	}
	op := p.next()
	if op.kind != word || !isOperator(op.text) {
		return nil, &Error{
			op.column,
			fmt.Sprintf("a comparison is expected after %q, not %v", name.text, op),
			instead(op.text),
		}
	}
	c.Op = strings.ToLower(op.text)
	if c.Op != "pr" {
		if err := p.value(&c, op); err != nil {
			return nil, err
		}
	}
	p.f.clauses = append(p.f.clauses, c)
	return leaf(len(p.f.clauses) - 1), nil
}

// instead is what to write for a comparison that other languages write otherwise.
func instead(op string) string {
	switch op {
	case "=", "==", "is":
		return "write eq"
	case "!=", "<>":
		return "write ne"
	case "<":
		return "write lt"
	case ">":
		return "write gt"
	case "<=":
		return "write le"
	case ">=":
		return "write ge"
	}
	return "use one of eq, ne, co, sw, ew, gt, ge, lt, le, pr"
}

// value reads the value of a comparison, written as in JSON.
func (p *parser) value(c *Clause, op token) error {
	v := p.next()
	var err error
	switch {
	case v.kind == text:
		var s string
		if json.Unmarshal([]byte(v.text), &s) != nil {
			return &Error{
				v.column,
				fmt.Sprintf("%s is not a text as JSON writes it", v.text),
				`a backslash stands before ", \, /, b, f, n, r, t or uXXXX only`,
			}
		}
		err = c.setText(s)
	case v.kind == word && isLiteral(v.text):
		err = c.setLiteral(strings.ToLower(v.text))
	default:
		hint := `a text stands in double quotes: department eq "Deck"`
		if v.kind == word {
			hint = fmt.Sprintf("write %q in double quotes", v.text)
		}
		return &Error{v.column, fmt.Sprintf("a value is expected after %q, not %v", op.text, v), hint}
	}
	if err != nil {
		return &Error{Column: c.Column, Says: err.Error()}
	}
	return nil
}

// Quote writes a text as a value of a filter: a JSON string (RFC 7644 §3.4.2.2).
func Quote(s string) string {
	text, err := json.Marshal(s)
	if err != nil {
		return `""` // no text is refused
	}
	return string(text)
}
