package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"pravet/internal/core/access"
	"pravet/internal/core/model"
	"pravet/internal/desk"
	"pravet/internal/show"
)

func (c *program) why() *cobra.Command {
	var format, on, at, other string
	var with []string
	cmd := &cobra.Command{
		Use:     "why PERSON [THING]",
		Short:   "Say what a person has and should have, and which line of the files is why",
		GroupID: seeing,
		Long: `Why answers as a tree: from the person to the rules that match, to the kits, to
the things that they give, to what those bring along. Each rule stands with its
file and line, and with who changed that line last. Of what an application
exported it says what the person has, what is to come and what is to go.

With a thing, APPLICATION/KIND/NAME, it shows only what has to do with that; of
a thing that is not due it says what stands in the way, the nearest reason
first. PERSON is an id or a user name.

--on asks what is due on a day by the files and the exports of today; --at how it
was at the end of a past day, by the files and exports that are on record.

--with asks what the person would gain, lose and keep with other attributes, and what
guards would hold of that; someone who is not in the files is taken for new. --beside
puts two people side by side. A question writes nothing.`,
		Example: example(
			"pravet why E0042",
			"pravet why oskar.nyman tickets/role/refund-approver",
			"pravet why E0056 --on 2026-12-01 --format json",
			"pravet why E0056 --with department=Planning --with 'title=Berth planner'",
			"pravet why E0042 --beside E0045",
		),
		Args: takes(1, 2, "about whom?", "pravet why E0042"),
	}
	formatFlag(cmd, &format, "table", "json", "csv")
	dayFlags(cmd, &on, &at)
	cmd.Flags().StringSliceVar(
		&with, "with", nil, "what would become of the person with this: ATTRIBUTE=VALUE (may be repeated)",
	)
	cmd.Flags().StringVar(&other, "beside", "", "what this other person has, side by side")
	cmd.MarkFlagsMutuallyExclusive("with", "beside", "at")
	offer(cmd, "beside", c.completePeople)
	cmd.ValidArgsFunction = func(cmd *cobra.Command, args []string, begin string) ([]string, cobra.ShellCompDirective) {
		switch len(args) {
		case 0:
			return c.completePeople(cmd, args, begin)
		case 1:
			return c.completeThings(cmd, args, begin)
		}
		return nil, noFiles
	}
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		d, day, err := c.on(on)
		if err != nil {
			return err
		}
		if len(with) > 0 || other != "" {
			if len(args) == 2 {
				return usage(sayThingBeside(args[1]))
			}
			if other != "" {
				return c.beside(d, args[0], other, day, format)
			}
			return c.whatIf(d, args[0], with, day, format)
		}
		var x *desk.Sight
		var person int
		if at != "" {
			if x, err = d.Past(nil, at); err == nil {
				person = x.State.Repo.People.Named(args[0])
			}
		} else {
			x, person, err = d.Person(args[0], day)
		}
		if err != nil {
			return err
		}
		if at == "" || format != "table" {
			c.missing(x)
		}
		if person < 0 {
			return usage(sayNoPersonThen(args[0], at))
		}
		answer, err := c.answered(d, x, person, args[1:])
		if err != nil {
			return err
		}
		if format != "table" {
			return show.Output(c.Stdout, c.Environ, format, show.AnswerTable(answer))
		}
		p := show.NewPrinter(c.Stdout, c.Environ)
		p.Answer(answer)
		if err := p.Err(); err != nil || at == "" {
			return err
		}
		return c.follows(x)
	}
	return cmd
}

// answered says what a person has and should have, of a thing where one is named; with who changed
// the lines last, and what was decided about differences.
func (c *program) answered(d *desk.Desk, x *desk.Sight, person int, things []string) (*access.Answer, error) {
	var thing *model.AppThing
	if len(things) > 0 {
		of, err := desk.Thing(x.State.Repo, things[0])
		if err != nil {
			return nil, err
		}
		thing = &of
	}
	answer := x.Why(person, thing)
	if x.Known == nil {
		rejected, err := d.Rejected(x)
		if err != nil {
			return nil, err
		}
		answer.Opens(func(o access.Open) string {
			if r := rejected(o); r != nil {
				return sayRejectedBy(r)
			}
			return ""
		})
	}
	d.Blame(x, answer)
	return answer, nil
}

// sayThingBeside is a thing beside a question about all that a person has.
func sayThingBeside(thing string) error {
	return fmt.Errorf("--with and --beside ask about all that a person has; leave out %s", thing)
}

// sayNoPersonThen is a person who was not there on a past day.
func sayNoPersonThen(name, on string) error {
	return fmt.Errorf("there was no person with the id or the user name %q on %s", name, on)
}
