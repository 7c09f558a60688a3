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
				return nil, &Error{
					column,
					"the text that begins here has no closing quote",
					`write department eq "Deck"`,
				}
			}
			n++
			out = append(out, token{text, src[i : i+n], column})
			column += utf8.RuneCountInString(src[i : i+n])
			i += n
		case c == '\'':
			return nil, &Error{
				column,
				"a text stands in double quotes here, not in single ones",
				`write department eq "Deck"`,
			}
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

// isLiteral reports whether a bare word is true, false, null or a number as
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
