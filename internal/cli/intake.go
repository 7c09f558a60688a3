package cli

import (
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"pravet/internal/amend"
	"pravet/internal/core/model"
	"pravet/internal/desired"
	"pravet/internal/desk"
	"pravet/internal/edit"
	"pravet/internal/intake"
	"pravet/internal/sheet"
	"pravet/internal/show"
)

// intaking is what intake was asked for.
type intaking struct {
	rewriting
	desk.Sheet
	template           bool
	save               string
	skipWrong, doubles bool
	ends               int
}

func (c *program) intake() *cobra.Command {
	x := &intaking{}
	cmd := &cobra.Command{
		Use:     "intake FILE|SOURCE",
		Short:   "Take people in from a spreadsheet, after a preview",
		GroupID: keeping,
		Long: `Intake reads a spreadsheet of people (CSV; also LDIF, and a SCIM list of users) and
shows what would become of it: how each column is understood, the first rows as people,
and of every row whether it is new, changes somebody, changes nothing or is wrong, with
line, column and remedy. Rows are somebody's by id, else by user name, else by email.
Whoever is called like somebody who is there already is pointed out.

Nothing is written without --write or --commit. Rows that are wrong, and people who may
be there already, keep it from writing, unless --skip-wrong leaves them out and
--with-doubles takes them in. When rows end many, --ends says how many that may be.

SOURCE is a name under sources in pravet.yaml, where all this is said once.

Exit status: 0 nothing is wrong; 1 some row is wrong, or was left out.`,
		Example: example(
			"pravet intake intake/joiners.csv --into people/ashore.csv",
			"pravet intake intake/joiners.csv --into people/ashore.csv --write",
			"pravet intake intake/joiners.csv --into people/new.csv --map email=email --date DD.MM.YYYY --number "+
				"'E####'",
			"pravet intake --template",
		),
		Args: takes(0, 1, "", "pravet intake monday.csv"),
	}
	formatFlag(cmd, &x.rewriting.format, "table", "json", "csv")
	x.rewriting.flags(cmd)
	f := cmd.Flags()
	f.StringArrayVar(
		&x.Maps,
		"map",
		nil,
		"which column an attribute comes from: ATTRIBUTE=COLUMN, or a rule (may be repeated)",
	)
	f.StringVar(&x.Into, "into", "", "the file that new people come into, like people/ashore.csv")
	f.StringVar(&x.Date, "date", "", "how dates are written, like DD.MM.YYYY (default: like 2026-11-24)")
	f.StringVar(&x.Number, "number", "", "give new people ids, each above all that there are, like E####")
	f.StringVar(&x.Format, "in", "", "the format of the file: csv, ldif or scim (default: by its name)")
	f.StringVar(&x.Encoding, "encoding", "", "its encoding, like windows-1252 (default: UTF-8)")
	f.StringVar(&x.Delimiter, "delimiter", "", "what stands between its cells (default: what the header has most of)")
	f.BoolVar(&x.template, "template", false, "write an empty spreadsheet with the organization's columns instead")
	f.StringVar(&x.save, "save", "", "keep how the file is understood as a source of this name in pravet.yaml")
	f.BoolVar(&x.skipWrong, "skip-wrong", false, "leave wrong rows out, and write the others")
	f.BoolVar(&x.doubles, "with-doubles", false, "take in people who are called like somebody who is there")
	f.BoolVar(&x.Clear, "clear-empty", false, "an empty cell takes the value away (default: it leaves it)")
	f.IntVar(&x.ends, "ends", 0, "how many people the rows may end, where they are many")
	offer(cmd, "in", cobra.FixedCompletions(sheet.Formats, noFiles))
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		d, err := c.desk()
		if err != nil {
			return err
		}
		a, repo, err := d.Amend()
		if err != nil {
			return err
		}
		if x.template {
			header := edit.Row(',', repo.Standard()...) + "\r\n"
			_, err := c.Stdout.Write([]byte(header))
			return err
		}
		if len(args) == 0 {
			return usage(sayIntakeWhat(sourceNames(repo)))
		}
		x.File = args[0]
		return c.takeIn(d, repo, a, x)
	}
	return cmd
}

func sourceNames(repo *desired.Repo) (out []string) {
	for _, s := range repo.Sources {
		out = append(out, s.Name)
	}
	return out
}

// takeIn shows what becomes of a spreadsheet, and writes it where that was asked for.
func (c *program) takeIn(d *desk.Desk, repo *desired.Repo, a *amend.Amendment, x *intaking) error {
	in, err := d.TakeIn(repo, x.Sheet)
	if err != nil {
		return err
	}
	view := &show.Intake{Sheet: in.Sheet, Mapping: in.Mapping, Outcome: in.Outcome, Into: in.Into}
	switch {
	case x.brief:
	case x.format == "json":
		err = show.PrintJSON(c.Stdout, view.JSON())
	case x.format == "csv":
		err = show.PrintCSV(c.Stdout, view.Table())
	default:
		err = c.paged(func(p *show.Printer) error {
			p.Intake(view, x.full)
			return p.Err()
		})
	}
	if err != nil {
		return err
	}
	out := in.Outcome
	var stops []error
	if n := out.Counts[intake.Bad]; n > 0 && !x.skipWrong {
		stops = append(stops, sayRowsWrong(n))
	}
	if out.Doubles > 0 && !x.doubles {
		stops = append(stops, sayMayBeThere(out.Doubles))
	}
	if in.Many() && x.ends != out.Ending {
		stops = append(stops, sayEndsMany(out.Ending, out.Here))
	}
	if out.Counts[intake.New] > 0 && in.Into == "" {
		stops = append(stops, sayIntoWhich())
	}
	if len(stops) > 0 {
		for _, err := range stops {
			c.tell("pravet: " + err.Error())
		}
		return fail(Failed, sayNothingTakenIn(x.write || x.commit))
	}
	if err := d.Fill(repo, a, in, x.save); err != nil {
		return err
	}
	if err := c.firstDays(d, repo, a, in, x); err != nil {
		return err
	}
	x.subject = sayTookIn(in.Source.File, out.Counts[intake.New], out.Counts[intake.Changed])
	x.rewriting.ends = x.ends
	x.next = func() string { return d.NextStep("intake") }
	err = c.writeShown(d, repo, a, &x.rewriting)
	if out.Counts[intake.Bad] > 0 { // rows were left out
		err = errors.Join(err, &statusError{status: Failed})
	}
	return err
}

// mostFirstDays is of how many kinds of newcomers the first day is told.
const mostFirstDays = 12

// firstDays says what new people get on the first day.
func (c *program) firstDays(d *desk.Desk, repo *desired.Repo, a *amend.Amendment, in *desk.Intake, x *intaking) error {
	if x.format != "table" || x.brief || len(repo.Apps) == 0 {
		return nil
	}
	days, err := d.FirstDays(repo, a, in)
	if err != nil {
		return err
	}
	p := show.NewPrinter(c.Stdout, c.Environ)
	for i := range days {
		if i == mostFirstDays && !x.full {
			p.Line(sayMore(len(days) - i))
			break
		}
		f := &days[i]
		if i == 0 {
			p.Line()
			p.Line(show.Strong(sayFirstDays()))
		}
		p.Wrapped("  ", sayFirstDay(f.On, f.People, f.Gets))
		for _, s := range f.Short {
			p.Wrapped("    ", show.Alarm(sayShortThen(s.License, s.Needed, s.Bought)))
		}
		for _, account := range f.Waiting {
			p.Wrapped("    ", show.Alarm(sayWaitsAlone(account)))
		}
	}
	return p.Err()
}

// sayFirstDays is above what new people get.
func sayFirstDays() string { return "On the first day they would get" }

// sayFirstDay is what some people get on a day.
func sayFirstDay(on string, people, gets []string) string {
	who := strings.Join(people[:min(len(people), 3)], ", ")
	if more := len(people) - 3; more > 0 {
		who += fmt.Sprintf(" and %s more", model.Thousands(more))
	}
	what := strings.Join(gets, ", ")
	if what == "" {
		what = "nothing: no kit is for them"
	}
	return on + "  " + who + ": " + what
}

// sayShortThen is a license of which there are too few seats on a day.
func sayShortThen(license string, needed, bought int) string {
	return fmt.Sprintf("%s is short of seats on that day: %s needed, %s bought", license, model.Thousands(needed), model.Thousands(bought))
}

// sayWaitsAlone is an account that may be a new person's, and is on the list alone.
func sayWaitsAlone(account string) string {
	return fmt.Sprintf("the account %s may be theirs and is on the list alone: take it off there, or nothing happens to it", account)
}

// sayIntakeWhat asks for a spreadsheet.
func sayIntakeWhat(sources []string) error {
	text := "take in what? Name a spreadsheet, for example: pravet intake monday.csv"
	if len(sources) > 0 {
		text += "; or a source of pravet.yaml: " + strings.Join(sources, ", ")
	}
	return errors.New(text)
}

// sayRowsWrong counts rows that are wrong.
func sayRowsWrong(n int) error {
	return fmt.Errorf("%s wrong (above); correct %s, or leave %s out with --skip-wrong",
		model.Count(n, "row is", "rows are"), model.Plural(n, "it", "them"), model.Plural(n, "it", "them"))
}

// sayMayBeThere counts new people who may be there already.
func sayMayBeThere(n int) error {
	return fmt.Errorf(
		"%s there already (above); put the id of that person into the row, or take in somebody of the same name "+
			"with --with-doubles",
		model.Count(n, "new person may be", "new people may be"),
	)
}

// sayEndsMany is a spreadsheet that ends many.
func sayEndsMany(n, of int) error {
	return fmt.Errorf("these rows end %s of %s; if that is meant, add --ends %d",
		model.Thousands(n), model.Count(of, "person", "people"), n)
}

// sayIntoWhich asks for the file that new people come into.
func sayIntoWhich() error {
	return errors.New(
		"there are several files of people; say which the new ones come into, for example --into people/ashore.csv",
	)
}

// sayNothingTakenIn is said where something keeps rows from being written.
func sayNothingTakenIn(asked bool) error {
	if asked {
		return errors.New("nothing was written")
	}
	return errors.New("nothing would be written as it is")
}

// sayTookIn is the first line of a commit.
func sayTookIn(file string, fresh, changed int) string {
	return fmt.Sprintf("Take in %s: %s new, %s changed", file, model.Thousands(fresh), model.Thousands(changed))
}
