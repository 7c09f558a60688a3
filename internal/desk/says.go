package desk

import (
	"fmt"
	"strings"
)

// SayNotOneOf is a value of a flag that takes only some.
func SayNotOneOf(flag, value string, known []string) error {
	return fmt.Errorf("--%s cannot be %q; use one of %s", flag, value, strings.Join(known, ", "))
}

// meant asks whether the nearest name was meant; where there is none, it gives a hint.
func meant(before, near, hint string) string {
	switch {
	case near != "":
		return before + "did you mean " + near + "?"
	case hint != "":
		return before + hint
	}
	return ""
}
