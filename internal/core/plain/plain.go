// Package plain says in plain words what libraries say in their own.
package plain

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strings"
)

var (
	character = regexp.MustCompile(`^invalid character ('.+'|'\\''|'"') (.*)$`)
	field     = regexp.MustCompile(`^json: unknown field (".*")$`)
)

// expected are what encoding/json says of where it was, and what that means.
var expected = []struct{ in, means string }{
	{"looking for beginning of value", "a value is expected"},
	{"looking for beginning of object key string", "a key in quotes is expected"},
	{"after object key:value pair", "a comma or the end of the object is expected"},
	{"after object key", "a colon is expected"},
	{"after array element", "a comma or the end of the list is expected"},
	{"after top-level value", "nothing more is expected"},
	{"in string literal", "a text goes on, and it has to be escaped there"},
	{"in string escape code", "a text goes on after a backslash, where it means nothing"},
	{`in \u hexadecimal character escape`, "four hexadecimal digits are expected"},
	{"in literal", "a word is expected, and true, false and null are the only ones"},
	{"in numeric literal", "a digit is expected"},
	{"in exponent of numeric literal", "a digit is expected"},
	{"after decimal point in numeric literal", "a digit is expected"},
}

// JSON says what is wrong with a text that is to be JSON (RFC 8259), by the error of encoding/json; any other error
// as it is.
func JSON(err error) error {
	if err == nil {
		return nil
	}
	var syntax *json.SyntaxError
	var kind *json.UnmarshalTypeError
	text := err.Error()
	switch {
	case errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, io.EOF),
		strings.Contains(text, "unexpected end of JSON input"):
		return errors.New("it ends in the middle")
	case errors.As(err, &kind):
		where := "it"
		if kind.Field != "" {
			where = kind.Field
		}
		return fmt.Errorf("%s is a %s, which is not expected there", where, kind.Value)
	case errors.As(err, &syntax):
		text = syntax.Error()
	}
	if m := field.FindStringSubmatch(text); m != nil {
		return fmt.Errorf("%s is no key that is expected there", m[1])
	}
	if m := character.FindStringSubmatch(text); m != nil {
		for _, e := range expected {
			if strings.HasPrefix(m[2], e.in) {
				return fmt.Errorf("%s stands where %s", m[1], e.means)
			}
		}
		return fmt.Errorf("%s is not expected there", m[1])
	}
	return err
}
