package cli

import (
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"pravet/internal/amend"
	"pravet/internal/core/day"
	"pravet/internal/core/model"
	"pravet/internal/desired"
	"pravet/internal/desk"
)

func (c *program) amend() *cobra.Command {
	cmd := &cobra.Command{
		Use:     "amend",
		Short:   "Edit the files as a person would, for one or for many",
		GroupID: keeping,
		Long: `Amend edits the files of the desired state as a person would in an editor, and
keeps every other byte: comments, order, columns of your own. It shows first which lines
of which files would be others, and whose access changes by that. Nothing is written
without --write or --commit.

Choose the people with --for (ids or user names), --only (a SCIM filter over people) or
--from (a CSV file that names them in a column id or userName).

Exit status: 0 done, or shown; 1 when the files would not pass check, or something was
changed by someone else meanwhile: then nothing is written.`,
		Example: example(
			"pravet amend set 'title=Desk lead' --for E0042",
			"pravet amend end 2027-10-15 --only 'userType eq \"Seasonal\" and ends gt \"2027-01-01\"' --write",
			"pravet amend give fare-desk --for E0042 --until 2027-01-31 --because 'covers for a colleague' --write",
			"pravet amend like E0031 --for E0118",
		),
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	cmd.AddCommand(
		c.amendSet(),
		c.amendEnds(),
		c.amendStarts(),
		c.amendGive(),
		c.amendTake(),
		c.amendExcept(),
		c.amendAdmit(),
		c.amendRetire(),
		c.amendLike(),
	)
	return cmd
}

func whomFlags(cmd *cobra.Command, c *program, w *desk.Whom) {
	cmd.Flags().StringSliceVar(&w.For, "for", nil, "for these people, by id or user name (may be repeated)")
	cmd.Flags().StringVar(&w.Only, "only", "", "for all people that a SCIM filter matches")
	cmd.Flags().StringVar(&w.From, "from", "", "for the people whom a CSV file lists in a column id or userName")
	offer(cmd, "for", c.completePeople)
}

// An amending is a command that changes something for some people.
type amending struct {
	desk.Whom
	rewriting
}

// amends makes a command that changes something for some people.
func (c *program) amends(
	use, short, long string, args cobra.PositionalArgs, x *amending,
	change func(a *amend.Amendment, repo *desired.Repo, people []int, args []string) error,
	examples ...string,
) *cobra.Command {
	cmd := &cobra.Command{Use: use, Short: short, Long: long, Args: args, Example: example(examples...)}
	whomFlags(cmd, c, &x.Whom)
	x.rewriting.flags(cmd)
	cmd.Flags().IntVar(&x.rewriting.ends, "ends", 0, "how many people it may end, where they are more than a tenth of those who are here")
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		d, err := c.desk()
		if err != nil {
			return err
		}
		a, repo, err := d.Amend()
		if err != nil {
			return err
		}
		people, err := d.People(&x.Whom, repo)
		if err != nil {
			return err
		}
		if err := change(a, repo, people, args); err != nil {
			return err
		}
		var names []string
		for _, p := range people {
			names = append(names, repo.People.Get(p, "id"))
		}
		x.subject = sayAmended(strings.Fields(use)[0], args, names)
		return c.rewrite(d, repo, a, &x.rewriting)
	}
	return cmd
}

func (c *program) amendSet() *cobra.Command {
	x := &amending{}
	return c.amends("set [ATTRIBUTE=VALUE ...]", "Give people other values of attributes",
		`Set gives people other values of attributes; ATTRIBUTE= takes a value away. Without
ATTRIBUTE=VALUE, each row of the list that --from names gives that person the values of
its other columns.`,
		takes(0, -1, "", ""), x,
		func(a *amend.Amendment, repo *desired.Repo, people []int, args []string) error {
			if len(args) == 0 {
				if x.From == "" {
					return usage(saySetWhat())
				}
				if len(x.Odd) > 0 {
					return fail(Failed, sayOddColumns(x.From, x.Odd))
				}
				for _, row := range x.Rows {
					if err := a.Set(row.Person, row.Values); err != nil {
						return err
					}
				}
				return nil
			}
			set, err := desk.Assigned(repo, args)
			if err != nil {
				return err
			}
			for _, p := range people {
				if err := a.Set(p, set); err != nil {
					return err
				}
			}
			return nil
		},
		"pravet amend set 'title=Desk lead' department=Ticketing --for E0042",
		"pravet amend set --from intake/joiners.csv --help",
	)
}

// amendDate makes a command that sets a day of people.
func (c *program) amendDate(use, short, long, attr string, examples ...string) *cobra.Command {
	x := &amending{}
	return c.amends(
		use,
		short,
		long,
		takes(1, 1, "on which day?", "pravet amend "+strings.Fields(use)[0]+" 2026-12-31 --for E0042"),
		x,
		func(a *amend.Amendment, repo *desired.Repo, people []int, args []string) error {
			on, err := day.Parse(args[0])
			if err != nil {
				return usage(err)
			}
			for _, p := range people {
				if err := a.Set(p, map[string]string{attr: on.String()}); err != nil {
					return err
				}
			}
			return nil
		},
		examples...)
}

func (c *program) amendEnds() *cobra.Command {
	return c.amendDate("end DATE", "Set people's last day",
		`End sets the last day on which people are here. What happens to their accounts after
that day is what the leaving paths say.`, "ends",
		"pravet amend end 2026-12-31 --for E0042,E0044")
}

func (c *program) amendStarts() *cobra.Command {
	return c.amendDate(
		"start DATE",
		"Set people's first day",
		"Start sets the first day on which people are here.",
		"starts",
		"pravet amend start 2027-01-04 --for E0120",
	)
}

// amendKit makes a command about people and one kit.
func (c *program) amendKit(
	use, short, long string,
	needs bool,
	enter func(a *amend.Amendment, k *model.Kit, e amend.Entry),
	examples ...string,
) *cobra.Command {
	x := &amending{}
	var until string
	cmd := c.amends(
		use,
		short,
		long,
		takes(1, 1, "which kit?", "pravet amend "+strings.Fields(use)[0]+" fare-desk --for E0042"),
		x,
		func(a *amend.Amendment, repo *desired.Repo, people []int, args []string) error {
			k, err := desk.Kit(repo, args[0])
			if err != nil {
				return err
			}
			last, err := lastDay(until)
			if err != nil {
				return err
			}
			e := amend.Entry{Because: x.because, Until: last}
			if needs && e.Because == "" {
				return usage(sayBecauseOf())
			}
			for _, p := range people {
				e.Person = repo.People.Get(p, "id")
				enter(a, k, e)
			}
			return nil
		},
		examples...)
	if needs {
		cmd.Flags().StringVar(&until, "until", "", "the last day on which it counts, YYYY-MM-DD")
	}
	cmd.ValidArgsFunction = c.completeKits
	return cmd
}

func (c *program) amendGive() *cobra.Command {
	return c.amendKit("give KIT", "Let people hold a kit by name",
		`Give lets people hold a kit by name, with --because and, where it is for a while, with
--until. An entry that somebody has there already gives way to the new one.`, true, (*amend.Amendment).Hold,
		"pravet amend give fare-desk --for E0042 --until 2027-01-31 --because 'covers for a colleague'")
}

func (c *program) amendTake() *cobra.Command {
	return c.amendKit("take KIT", "Take a kit from people who hold it by name",
		`Take takes people out of those who hold a kit by name. Whoever holds it by its rule as
well still holds it; see amend except.`, false,
		func(a *amend.Amendment, k *model.Kit, e amend.Entry) { a.Drop(k, e.Person) },
		"pravet amend take fare-desk --for E0031")
}

func (c *program) amendExcept() *cobra.Command {
	return c.amendKit("except KIT", "Leave people out of a kit's rule",
		`Except leaves people out of those whom a kit's rule matches, with --because and, where it
is for a while, with --until.`, true, (*amend.Amendment).Except,
		"pravet amend except north-desk --for E0018 --because 'on the refund desk'")
}

func (c *program) amendAdmit() *cobra.Command {
	return c.amendKit("admit KIT", "Let a kit's rule count for people again",
		"Admit removes people from a kit's exceptions, so that its rule applies to them again.", false,
		func(a *amend.Amendment, k *model.Kit, e amend.Entry) { a.Admit(k, e.Person) },
		"pravet amend admit north-desk --for E0018")
}

func (c *program) amendRetire() *cobra.Command {
	r := &rewriting{}
	cmd := &cobra.Command{
		Use:   "retire THING",
		Short: "Take a thing out of all that gives it",
		Long: `Retire takes a group, role or license out of every kit that gives it and out of all
that brings it along. Whoever holds it loses it by the next plan. A group or role that is
Pravet's own (define: true) is ended in the application too, once nobody holds it.

THING is written APPLICATION/KIND/NAME.`,
		Example: example("pravet amend retire tickets/role/report-reader"),
		Args:    takes(1, 1, "which thing?", "pravet amend retire tickets/role/report-reader"),
	}
	r.flags(cmd)
	cmd.ValidArgsFunction = c.completeThings
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		d, err := c.desk()
		if err != nil {
			return err
		}
		a, repo, err := d.Amend()
		if err != nil {
			return err
		}
		thing, err := desk.Thing(repo, args[0])
		if err != nil {
			return err
		}
		if err := a.Take(thing.App, thing.Thing); err != nil {
			return err
		}
		r.subject = sayAmended("retire", args, nil)
		return c.rewrite(d, repo, a, r)
	}
	return cmd
}

// saySetWhat asks for values.
func saySetWhat() error {
	return errors.New(`set what? For example: pravet amend set title="Desk lead" --for E0042`)
}

// sayOddColumns are columns of a list that are no attributes of people.
func sayOddColumns(file string, columns []string) error {
	return fmt.Errorf(
		"%s: %s no attribute of people; take %s out, or name %s extra.NAME", file,
		model.Plural(len(columns), "the column "+columns[0]+" is", "the columns "+strings.Join(columns, ", ")+" are"),
		model.Plural(len(columns), "it", "them"), model.Plural(len(columns), "it", "them"),
	)
}
