package words

import "strings"

// Clean is a text of an application or a file as it may stand in a sentence: on
// one line, and without what a terminal would obey.
func Clean(s string) string {
	return strings.Map(func(r rune) rune {
		if r == '\n' || r == '\t' || Hostile(r) {
			return '\ufffd'
		}
		return r
	}, s)
}

// Hostile reports whether a character does something to a terminal, or to the
// order in which others are shown.
func Hostile(r rune) bool {
	switch {
	case r == '\n', r == '\t':
		return false
	case r < ' ', r >= 0x7f && r < 0xa0, r == '\u2028', r == '\u2029':
		return true
	}
	return r >= '\u202a' && r <= '\u202e' || r >= '\u2066' && r <= '\u2069'
}

// Also is what is said, and what is to be said besides; either may be "".
func Also(says, besides string) string {
	if says == "" || besides == "" {
		return says + besides
	}
	return says + "; " + besides
}
