package table

import (
	"strings"
	"unicode"
	"unicode/utf8"
)

// Fold returns s with the differences of case removed, so that two strings
// are equal after Fold exactly when strings.EqualFold says they are. User
// names and filters are compared so (RFC 7643 §2.2, caseExact false). A string
// of lower-case ASCII is returned as it is, without a copy.
func Fold(s string) string {
	for i := 0; i < len(s); i++ {
		if c := s[i]; c >= utf8.RuneSelf || 'A' <= c && c <= 'Z' {
			return foldSlow(s)
		}
	}
	return s
}

func foldSlow(s string) string {
	return strings.Map(func(r rune) rune {
		if r < utf8.RuneSelf {
			if 'A' <= r && r <= 'Z' {
				r += 'a' - 'A'
			}
			return r
		}
		// The smallest rune of the orbit stands for all of it; ASCII letters
		// stand in lower case.
		least := r
		for f := unicode.SimpleFold(r); f != r; f = unicode.SimpleFold(f) {
			least = min(least, f)
		}
		if 'A' <= least && least <= 'Z' {
			least += 'a' - 'A'
		}
		return least
	}, s)
}
