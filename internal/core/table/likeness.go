package table

import (
	"strings"
	"unicode"

	"golang.org/x/text/unicode/norm"
)

// likenesses are letters that are written otherwise where they cannot be
// typed, besides those that are a letter with a mark.
var likenesses = strings.NewReplacer(
	"ø",
	"o",
	"ł",
	"l",
	"đ",
	"d",
	"ð",
	"d",
	"þ",
	"th",
	"æ",
	"ae",
	"œ",
	"oe",
	"ß",
	"ss",
	"ı",
	"i",
)

// Likeness returns what is left of a name when it is written without case,
// marks, spaces and punctuation: names that look alike have the same likeness
// ("Maren.Hølt " and "maren-holt"). It is "" for a name without letters and
// digits.
func Likeness(s string) string {
	var b strings.Builder
	for _, r := range norm.NFKD.String(likenesses.Replace(strings.ToLower(s))) {
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			b.WriteRune(r)
		}
	}
	return b.String()
}
