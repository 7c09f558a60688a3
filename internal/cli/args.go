package cli

import (
	"github.com/spf13/cobra"

	"pravet/internal/say"
)

// takes says how many words a command takes besides its flags; missing asks for the
// first that is missing, with an example.
func takes(least, most int, missing, example string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		switch {
		case len(args) < least:
			return usage(say.Missing(missing, example))
		case most >= 0 && len(args) > most && most == 0:
			return usage(say.NoWords(cmd.CommandPath(), args[0]))
		case most >= 0 && len(args) > most:
			return usage(say.TooManyWords(args[most:], cmd.CommandPath(), example))
		}
		return nil
	}
}
