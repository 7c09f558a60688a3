package cli

import (
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"pravet/internal/amend"
	"pravet/internal/core/model"
	"pravet/internal/desired"
	"pravet/internal/desk"
	"pravet/internal/show"
)

// adopting is what adopt was asked for.
type adopting struct {
	rewriting
	app, title string
	to         string
	maps       []string
	yes        []string
	yesAbove   int
	more       desk.Adoption // what else is said of an application
}

func (c *program) adopt() *cobra.Command {
	x := &adopting{}
	cmd := &cobra.Command{
		Use:     "adopt {--app ID [EXPORT] | PLAN CHANGE... | ACCOUNT --for PERSON}",
		Short:   "Take over what is there: an application, changes made by hand, an account",
		GroupID: keeping,
		Long: `Adopt writes what already exists into the files.

With --app it takes over an application from its export: it guesses the columns and says
why, finds whose each account is (by name, email and former names; then by names that are
nearly the same, with a score), and writes apps/ID.yaml and kits by which everybody holds
what they hold today. The next draft has no change at all, which it makes sure of by
drafting. What it cannot tell is left alone, account by account, with the reason. A guess
about a person counts once you say so: --yes ACCOUNT, or --yes-above SCORE. Where
apps/ID.yaml is there already, as for a directory or a live application, leave the export
out: the file stays as it is, and only kits are made.

With a plan and changes it writes those differences into the files, with who and because,
instead of undoing what somebody did in the application. The next draft has them no more.

With an account, APPLICATION/account/NAME, and --for, that account becomes the person's.

Nothing is written without --write or --commit.`,
		Example: example(
			"pravet adopt --app slips exports/slips.csv",
			"pravet adopt --app slips exports/slips.csv --yes onyman --yes-above 80 --write",
			"pravet adopt 2w57bede 29 --because 'agreed with the head of ticketing'",
			"pravet adopt tickets/account/kiosk2 --for E0118",
		),
		Args: takes(0, -1, "", "pravet adopt --app slips exports/slips.csv"),
	}
	formatFlag(cmd, &x.format, "table", "json", "csv")
	x.rewriting.flags(cmd)
	cmd.Flags().StringVar(&x.app, "app", "", "take over an application under this id")
	cmd.Flags().StringVar(&x.title, "title", "", "what the application is called")
	cmd.Flags().
		StringArrayVar(&x.maps, "map", nil, "what a column is, instead of guessing: ATTRIBUTE=COLUMN (may be "+
			"repeated)")
	cmd.Flags().StringVar(&x.to, "for", "", "whose the account becomes, by id or user name")
	cmd.Flags().StringSliceVar(&x.yes, "yes", nil, "this account is whose it is guessed to be (may be repeated)")
	cmd.Flags().
		IntVar(&x.yesAbove, "yes-above", 0, "so is every account whose guess has at least this score, in percent")
	f := cmd.Flags()
	f.StringArrayVar(&x.more.Split, "split", nil, "what separates the names in a column, instead of guessing: COLUMN=SEPARATOR (may be repeated)")
	f.StringVar(&x.more.Encoding, "encoding", "", "with --app: the export's encoding, like windows-1252 (default: UTF-8)")
	f.StringVar(&x.more.Delimiter, "delimiter", "", "with --app: what stands between cells (default: what the header has most of)")
	f.StringVar(&x.more.Only, "only", "", "with --app: only accounts of people that this filter matches; the others are left alone")
	f.StringSliceVar(&x.more.Sensitive, "sensitive", nil, "with --app: this is sensitive, as KIND/NAME (may be repeated)")
	f.StringSliceVar(&x.more.Plain, "not-sensitive", nil, "with --app: this is not, though its name looks like it (may be repeated)")
	offer(cmd, "for", c.completePeople)
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		d, err := c.desk()
		if err != nil {
			return err
		}
		a, repo, err := d.Amend()
		if err != nil {
			return err
		}
		switch {
		case x.app != "":
			if len(args) > 1 {
				return usage(
					sayTooManyWords(args[1:], "pravet adopt --app ID", "pravet adopt --app slips exports/slips.csv"),
				)
			}
			return c.adoptApp(d, repo, a, args, x)
		case len(args) == 0:
			return usage(sayAdoptWhat())
		case strings.Contains(args[0], "/account/"):
			return c.adoptAccount(d, repo, a, args, x)
		case len(args) < 2:
			return usage(sayAdoptWhich())
		}
		return c.adoptChanges(d, repo, a, args, x)
	}
	return cmd
}

func (c *program) adoptApp(d *desk.Desk, repo *desired.Repo, am *amend.Amendment, args []string, x *adopting) error {
	x.more.ID, x.more.Title, x.more.Maps, x.more.Yes, x.more.YesAbove = x.app, x.title, x.maps, x.yes, x.yesAbove
	if len(args) > 0 {
		x.more.Export = args[0]
	}
	a, err := d.AdoptApplication(repo, x.more)
	if err != nil {
		return err
	}
	switch {
	case x.brief:
	case x.format == "json":
		err = show.PrintJSON(c.Stdout, show.AdoptedJSON(a, repo))
	case x.format == "csv":
		err = show.PrintCSV(c.Stdout, show.AdoptedTable(a, repo))
	default:
		err = c.paged(func(p *show.Printer) error {
			p.Adopted(a, repo, x.full)
			return p.Err()
		})
	}
	if err != nil {
		return err
	}
	if err := a.Write(am); err != nil {
		return err
	}
	x.subject = sayAdoptedApp(x.app)
	x.quiet = true // what it comes to was said
	x.next = func() string { return d.NextStep("adopt") }
	return c.writeShown(d, repo, am, &x.rewriting)
}

func (c *program) adoptAccount(
	d *desk.Desk, repo *desired.Repo, am *amend.Amendment, args []string, x *adopting,
) error {
	if len(args) > 1 {
		return usage(sayTooManyWords(args[1:], "pravet adopt", "pravet adopt slips/account/onyman --for E0042"))
	}
	if err := d.AdoptAccount(repo, am, args[0], x.to); err != nil {
		return err
	}
	p, err := desk.Somebody(repo, x.to)
	if err != nil {
		return err
	}
	x.subject = sayAmended("adopt", args, []string{repo.People.Get(p, "id")})
	return c.rewrite(d, repo, am, &x.rewriting)
}

func (c *program) adoptChanges(
	d *desk.Desk, repo *desired.Repo, am *amend.Amendment, args []string, x *adopting,
) error {
	p, err := d.Plan(args[0])
	if err != nil {
		return err
	}
	adopted, more, err := d.AdoptChanges(repo, am, p, args[1:], x.because)
	if err != nil {
		return err
	}
	if more > 0 {
		c.tell(sayMoreChanges(more))
	}
	x.subject = sayAmended("adopt", []string{strconv.Itoa(adopted), "of", p.ID}, nil)
	return c.rewrite(d, repo, am, &x.rewriting)
}

// sayAdoptWhat asks for what is to be adopted.
func sayAdoptWhat() error {
	return errors.New("adopt what? For example: pravet adopt --app slips exports/slips.csv")
}

// sayAdoptWhich asks for what is to be adopted.
func sayAdoptWhich() error {
	return errors.New(
		"which changes? For example: pravet adopt PLAN 4 7; an application is taken over with --app ID, an " +
			"account with --for PERSON",
	)
}

// sayAdoptedApp is the first line of a commit.
func sayAdoptedApp(app string) string { return "Take over " + app + " as it is" }

// sayMoreChanges counts changes that come into the next draft.
func sayMoreChanges(n int) string {
	return fmt.Sprintf("The next draft has %s by this that %s not in the last one; look at it before you apply.",
		model.Count(n, "change", "changes"), model.Plural(n, "was", "were"))
}
