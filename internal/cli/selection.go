package cli

import (
	"github.com/spf13/cobra"

	"pravet/internal/desk"
)

// selection is how commands are told which changes of a plan are meant.
type selection struct{ desk.Choice }

func (s *selection) flags(c *program, cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringSliceVar(&s.Apps, "app", nil, "only changes in this application (may be repeated)")
	f.StringSliceVar(&s.Persons, "person", nil, "only changes of this person, by id or account (may be repeated)")
	f.StringSliceVar(
		&s.Things,
		"thing",
		nil,
		"only changes about this thing, as APPLICATION/KIND/NAME (may be repeated)",
	)
	f.StringVar(&s.Only, "only", "", "only changes that this filter matches")
	offer(cmd, "only", c.completeFilter)
	offer(cmd, "app", s.of(c, "app", appOf))
	offer(cmd, "person", s.of(c, "person", personOf))
	offer(cmd, "thing", s.of(c, "thing", addressOf))
}
