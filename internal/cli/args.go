package cli

import (
	"fmt"

	"github.com/spf13/cobra"
)

// takes says how many words a command takes besides its flags; missing asks for the
// first that is missing, with an example.
func takes(least, most int, missing, example string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		switch {
		case len(args) < least:
			return usage(sayMissing(missing, example))
		case most >= 0 && len(args) > most && most == 0:
			return usage(sayNoWords(cmd.CommandPath(), args[0]))
		case most >= 0 && len(args) > most:
			return usage(sayTooManyWords(args[most:], cmd.CommandPath(), example))
		}
		return nil
	}
}

// sayMissing asks for a word that a command needs.
func sayMissing(question, example string) error {
	return fmt.Errorf("%s For example: %s", question, example)
}

// sayNoWords is a word after a command that takes none.
func sayNoWords(command, word string) error {
	return fmt.Errorf("%s takes flags only, and %q is none", command, word)
}
