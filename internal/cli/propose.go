package cli

import (
	"errors"
	"fmt"
	"slices"

	"github.com/spf13/cobra"

	"pravet/internal/core/day"
	"pravet/internal/core/model"
	"pravet/internal/prepare"
	"pravet/internal/propose"
	"pravet/internal/show"
)

func (c *program) propose() *cobra.Command {
	r := &rewriting{}
	var apps []string
	var sure float64
	var least int
	cmd := &cobra.Command{
		Use:     "propose [KIT ...]",
		Short:   "Find rules in what people hold, and make kits of them",
		GroupID: keeping,
		Long: `Propose looks at what people hold today and finds rules: kits whose SCIM filters over
people's attributes explain most of it with few exceptions. Rules of one condition come
first, of two where one does not say enough. What a rule gives already is not explained
again.

For each rule it shows how many holdings it explains, who would gain something by it, and
how sure it is: the lower bound of a confidence interval for the share of matching people
who already have it, so that small groups score low.
Nobody gains anything: whoever a rule matches and does not hold all of it today becomes an
exception that is named, to be looked at. What is sensitive stands in a kit of its own.

With --write all kits are written to kits/proposed.yaml, or those that are named. People
who held the same by name are taken out of those kits, as a rule says it now.`,
		Example: example("pravet propose", "pravet propose --app tickets --sure 90 --least 5"),
	}
	formatFlag(cmd, &r.format, "table", "json", "csv")
	r.flags(cmd)
	cmd.Flags().StringSliceVar(&apps, "app", nil, "only what is held in this application (may be repeated)")
	cmd.Flags().Float64Var(&sure, "sure", 80, "minimum share of matching people who already have it, in percent")
	cmd.Flags().IntVar(&least, "least", 3, "minimum number of people a rule is based on")
	offer(cmd, "app", c.completeApps)
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		if sure < 50 || sure > 100 {
			return usage(sayBetweenHalfAndAll())
		}
		d, err := c.desk()
		if err != nil {
			return err
		}
		x, err := d.Look(apps, d.Today())
		if err != nil {
			return err
		}
		c.missing(x)
		repo := x.State.Repo
		f := propose.Look(repo, x.View, sure/100, max(least, 2))
		for _, name := range args {
			if !slices.ContainsFunc(f.List, func(x propose.Proposal) bool { return x.Kit == name }) {
				var names []string
				for _, x := range f.List {
					names = append(names, x.Kit)
				}
				return prepare.UnknownName("proposed kit", name, names)
			}
		}
		if len(args) > 0 {
			f.Keep(args)
		}
		switch {
		case r.brief:
		case r.format == "table":
			err = c.paged(func(p *show.Printer) error {
				p.Proposals(f.List, f.Held, r.full)
				return p.Err()
			})
		default:
			err = show.Output(c.Stdout, c.Environ, r.format, show.ProposalTable(f.List))
		}
		if err != nil || len(f.List) == 0 {
			return err
		}
		if !r.write && !r.commit {
			fmt.Fprintln(c.Stderr, sayNotWrittenYet())
			return nil
		}
		a, _, err := d.Amend()
		if err != nil {
			return err
		}
		if err := f.Write(a, sayFoundOn(d.Today()), sayLacksToday(d.Today())); err != nil {
			return err
		}
		r.subject, r.quiet = sayProposedKits(len(f.List)), true
		r.next = func() string { return d.NextStep("propose") }
		return c.writeShown(d, repo, a, r)
	}
	return cmd
}

// sayBetweenHalfAndAll is a --sure that says nothing.
func sayBetweenHalfAndAll() error { return errors.New("--sure is a percentage from 50 to 100") }

// sayFoundOn is the title of a kit that was found.
func sayFoundOn(on day.Day) string { return fmt.Sprintf("Found on %s in what people hold", on) }

// sayLacksToday is why somebody is an exception of a rule that was found.
func sayLacksToday(on day.Day) string {
	return fmt.Sprintf("did not hold it on %s, when the rule was found", on)
}

// sayProposedKits is the first line of a commit.
func sayProposedKits(n int) string {
	return "Make rules of what people hold: " + model.Count(n, "kit", "kits")
}
