package cli

import (
	"fmt"
	"regexp"
	"strings"
)

// together is how Cobra says that flags exclude each other.
var together = regexp.MustCompile(`^if any flags in the group .* \[([a-z -]+)\] were all set$`)

// number is how pflag says that a flag takes a number.
var number = regexp.MustCompile(`(?s)^invalid argument (".*") for "(.*)" flag: strconv\.Parse(Int|Uint|Float|Bool): `)

// plainly says in our words what Cobra finds wrong.
func plainly(text string) string {
	if m := together.FindStringSubmatch(text); m != nil {
		return sayExclusive(strings.Fields(m[1]))
	}
	if m := number.FindStringSubmatch(text); m != nil {
		switch m[3] {
		case "Float":
			return sayNoFraction(m[2], m[1])
		case "Bool":
			return sayNotYesOrNo(m[2], m[1])
		}
		return sayNoNumber(m[2], m[1])
	}
	return text
}

// sayNoFraction is a flag that takes a number and was given something else, in quotes.
func sayNoFraction(flag, value string) string {
	return fmt.Sprintf("%s: %s is no number; write it like 80 or 12.5", flag, value)
}

// sayNotYesOrNo is a flag that takes nothing, true or false and was given something else, in quotes.
func sayNotYesOrNo(flag, value string) string {
	return fmt.Sprintf("%s: %s is neither true nor false; the flag alone means true", flag, value)
}
