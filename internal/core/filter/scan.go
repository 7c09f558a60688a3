package filter

import (
	"fmt"
	"strings"
	"unicode/utf8"
)

// Limits of a filter, so that one line of a file cannot exhaust the program.
const (
	maxBytes = 64 << 10
	maxDepth = 64
)

// An Error is a filter that cannot be read. Column counts characters from 1
// within the filter's text.
type Error struct {
	Column int
	Says   string // what is wrong
	Hint   string // what to write instead; may be empty
}

func (e *Error) Error() string {
	s := fmt.Sprintf("column %d: %s", e.Column, e.Says)
	if e.Hint != "" {
		s += "; " + e.Hint
	}
	return s
}

type tokenKind int

const (
	word tokenKind = iota
	text
	open
	closed
	openBracket
	closedBracket
	end
)

type token struct {
	kind   tokenKind
	text   string
	column int
}

func (t token) String() string {
	switch t.kind {
	case end:
		return "the end of the filter"
	case text:
		return "the text " + t.text
	}
	return fmt.Sprintf("%q", t.text)
}

// scan splits a filter into tokens (RFC 7644 §3.4.2.2, figure 1).
func scan(src string) ([]token, error) {
	var out []token
	column := 1
	for i := 0; i < len(src); {
		switch c := src[i]; {
		case c == ' ' || c == '\t' || c == '\n' || c == '\r':
			i++
			column++
		case strings.IndexByte("()[]", c) >= 0:
			kinds := map[byte]tokenKind{'(': open, ')': closed, '[': openBracket, ']': closedBracket}
			out = append(out, token{kinds[c], string(c), column})
			i++
			column++
		case c == '"':
			n := 1
			for i+n < len(src) && src[i+n] != '"' {
				if src[i+n] == '\\' {
					n++
				}
				n++
			}
			if i+n >= len(src) {
				return nil, &Error{column, "the text that begins here has no closing quote", `write department eq "Deck"`}
			}
			n++
			out = append(out, token{text, src[i : i+n], column})
			column += utf8.RuneCountInString(src[i : i+n])
			i += n
		case c == '\'':
			return nil, &Error{column, "a text stands in double quotes here, not in single ones", `write department eq "Deck"`}
		default:
			n := strings.IndexAny(src[i:], " \t\r\n()[]\"'")
			if n < 0 {
				n = len(src) - i
			}
			out = append(out, token{word, src[i : i+n], column})
			column += utf8.RuneCountInString(src[i : i+n])
			i += n
		}
	}
	return append(out, token{end, "", column}), nil
}

var operators = []string{"eq", "ne", "co", "sw", "ew", "gt", "ge", "lt", "le", "pr"}

func isOperator(s string) bool {
	for _, o := range operators {
		if strings.EqualFold(o, s) {
			return true
		}
	}
	return false
}

// check walks the tokens by the grammar, so that an error names its column
// and what was expected there, and returns the column of every clause in the
// order in which the clauses stand.
func check(tokens []token) (columns []int, err error) {
	c := checker{tokens: tokens}
	if err := c.expression(0, false); err != nil {
		return nil, err
	}
	if t := c.peek(); t.kind != end {
		return nil, &Error{t.column, fmt.Sprintf("%v is not expected here", t), `join two conditions with "and" or "or"`}
	}
	return c.columns, nil
}

type checker struct {
	tokens  []token
	at      int
	columns []int
}

func (c *checker) peek() token { return c.tokens[c.at] }
func (c *checker) next() token {
	t := c.tokens[c.at]
	if t.kind != end {
		c.at++
	}
	return t
}

func (c *checker) isWord(w string) bool {
	t := c.peek()
	return t.kind == word && strings.EqualFold(t.text, w)
}

func (c *checker) expression(depth int, inBrackets bool) error {
	if depth > maxDepth {
		return &Error{c.peek().column, "the filter is nested too deeply", fmt.Sprintf("at most %d levels are read", maxDepth)}
	}
	for {
		if err := c.condition(depth, inBrackets); err != nil {
			return err
		}
		if !c.isWord("and") && !c.isWord("or") {
			return nil
		}
		c.next()
	}
}

func (c *checker) condition(depth int, inBrackets bool) error {
	if c.isWord("not") {
		c.next()
		if t := c.peek(); t.kind != open {
			return &Error{t.column, fmt.Sprintf(`"not" is followed by "(", not by %v`, t), `write not (title pr)`}
		}
	}
	if t := c.peek(); t.kind == open {
		c.next()
		if err := c.expression(depth+1, inBrackets); err != nil {
			return err
		}
		if end := c.next(); end.kind != closed {
			return &Error{end.column, fmt.Sprintf(`")" is expected here, not %v; it closes the "(" in column %d`, end, t.column), ""}
		}
		return nil
	}
	name := c.next()
	switch {
	case name.kind != word:
		return &Error{name.column, fmt.Sprintf("an attribute is expected here, not %v", name), `for example department eq "Deck"`}
	case isOperator(name.text) || strings.EqualFold(name.text, "and") || strings.EqualFold(name.text, "or"):
		return &Error{name.column, fmt.Sprintf("an attribute is expected here, not the word %q", name.text), `for example department eq "Deck"`}
	}
	if bad := strings.IndexFunc(name.text, func(r rune) bool {
		return !(r == '.' || r == ':' || r == '-' || r == '_' || r == '$' || '0' <= r && r <= '9' || 'a' <= r && r <= 'z' || 'A' <= r && r <= 'Z')
	}); bad >= 0 {
		hint := `for example department eq "Deck"`
		if strings.ContainsAny(name.text, "=<>") {
			hint = `comparisons are words: eq, ne, co, sw, ew, gt, ge, lt, le, pr`
		}
		return &Error{name.column + utf8.RuneCountInString(name.text[:bad]), fmt.Sprintf("%q is not the name of an attribute", name.text), hint}
	}
	if c.peek().kind == openBracket {
		bracket := c.next()
		if inBrackets {
			return &Error{bracket.column, "brackets do not stand within brackets", ""}
		}
		if err := c.expression(depth+1, true); err != nil {
			return err
		}
		if end := c.next(); end.kind != closedBracket {
			return &Error{end.column, fmt.Sprintf(`"]" is expected here, not %v; it closes the "[" in column %d`, end, bracket.column), ""}
		}
		return nil
	}
	c.columns = append(c.columns, name.column)
	op := c.next()
	if op.kind != word || !isOperator(op.text) {
		hint := "use one of eq, ne, co, sw, ew, gt, ge, lt, le, pr"
		switch op.text {
		case "=", "==", "is":
			hint = "write eq"
		case "!=", "<>":
			hint = "write ne"
		case "<":
			hint = "write lt"
		case ">":
			hint = "write gt"
		case "<=":
			hint = "write le"
		case ">=":
			hint = "write ge"
		}
		return &Error{op.column, fmt.Sprintf("a comparison is expected after %q, not %v", name.text, op), hint}
	}
	if strings.EqualFold(op.text, "pr") {
		return nil
	}
	v := c.next()
	if v.kind == text || v.kind == word && isLiteral(v.text) {
		return nil
	}
	hint := `a text stands in double quotes: department eq "Deck"`
	if v.kind == word {
		hint = fmt.Sprintf("write %q in double quotes", v.text)
	}
	return &Error{v.column, fmt.Sprintf("a value is expected after %q, not %v", op.text, v), hint}
}

// isLiteral tells whether a bare word is true, false, null or a number as
// JSON writes it (RFC 8259 §6).
func isLiteral(s string) bool {
	switch strings.ToLower(s) {
	case "true", "false", "null":
		return true
	}
	digits := func(s string) (n int) {
		for n < len(s) && '0' <= s[n] && s[n] <= '9' {
			n++
		}
		return n
	}
	s = strings.TrimPrefix(s, "-")
	n := digits(s)
	if n == 0 || n > 1 && s[0] == '0' {
		return false
	}
	s = s[n:]
	if strings.HasPrefix(s, ".") {
		if n = digits(s[1:]); n == 0 {
			return false
		}
		s = s[1+n:]
	}
	if s != "" && (s[0] == 'e' || s[0] == 'E') {
		s = strings.TrimLeft(s[1:], "+-")
		n = digits(s)
		return n > 0 && n == len(s)
	}
	return s == ""
}
