package cli

import (
	"strings"

	"github.com/spf13/cobra"
)

// takes says how many words a command takes besides its flags; missing asks for the
// first that is missing, with an example.
func takes(least, most int, missing, example string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		switch {
		case len(args) < least:
			return usage("%s For example: %s", missing, example)
		case most >= 0 && len(args) > most && most == 0:
			return usage("%s takes no word besides its flags, and %q stands there", cmd.CommandPath(), args[0])
		case most >= 0 && len(args) > most:
			return usage(
				"%q is one word too many; %s is called as: %s", strings.Join(args[most:], " "), cmd.CommandPath(), example,
			)
		}
		return nil
	}
}
