package cli

import (
	"errors"
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"pravet/internal/amend"
	"pravet/internal/core/day"
	"pravet/internal/core/filter"
	core "pravet/internal/core/intake"
	"pravet/internal/desired"
	"pravet/internal/edit"
	"pravet/internal/intake"
	"pravet/internal/say"
	"pravet/internal/sheet"
	"pravet/internal/show"
)

// intaking is what intake was asked for.
type intaking struct {
	rewriting
	maps               []string
	into, date, number string
	in, encoding       string
	delimiter          string
	template           bool
	save               string
	skipWrong, doubles bool
	clear              bool
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
	formatFlag(cmd, &x.format, "table", "json", "csv")
	x.rewriting.flags(cmd)
	f := cmd.Flags()
	f.StringArrayVar(
		&x.maps,
		"map",
		nil,
		"which column an attribute comes from: ATTRIBUTE=COLUMN, or a rule (may be repeated)",
	)
	f.StringVar(&x.into, "into", "", "the file that new people come into, like people/ashore.csv")
	f.StringVar(&x.date, "date", "", "how dates are written, like DD.MM.YYYY (default: like 2026-11-24)")
	f.StringVar(&x.number, "number", "", "give new people ids, each above all that there are, like E####")
	f.StringVar(&x.in, "in", "", "the format of the file: csv, ldif or scim (default: by its name)")
	f.StringVar(&x.encoding, "encoding", "", "its encoding, like windows-1252 (default: UTF-8)")
	f.StringVar(&x.delimiter, "delimiter", "", "what stands between its cells (default: what the header has most of)")
	f.BoolVar(&x.template, "template", false, "write an empty spreadsheet with the organization's columns instead")
	f.StringVar(&x.save, "save", "", "keep how the file is understood as a source of this name in pravet.yaml")
	f.BoolVar(&x.skipWrong, "skip-wrong", false, "leave wrong rows out, and write the others")
	f.BoolVar(&x.doubles, "with-doubles", false, "take in people who are called like somebody who is there")
	f.BoolVar(&x.clear, "clear-empty", false, "an empty cell takes the value away (default: it leaves it)")
	f.IntVar(&x.ends, "ends", 0, "how many people the rows may end, where they are many")
	offer(cmd, "in", cobra.FixedCompletions(sheet.Formats, noFiles))
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		dir, repo, today, err := c.today()
		if err != nil {
			return err
		}
		if x.template {
			header := edit.Row(',', repo.Standard()...) + "\r\n"
			_, err := c.Stdout.Write([]byte(header))
			return err
		}
		if len(args) == 0 {
			return usage(say.IntakeWhat(sourceNames(repo)))
		}
		return c.takeIn(dir, repo, args[0], x, today)
	}
	return cmd
}

func sourceNames(repo *desired.Repo) (out []string) {
	for _, s := range repo.Sources {
		out = append(out, s.Name)
	}
	return out
}

// sourceOf is the source that is meant: one of pravet.yaml, or a file and what the flags say.
func (c *program) sourceOf(repo *desired.Repo, name string, x *intaking) (*desired.Source, error) {
	if s := repo.Source(name); s != nil {
		return s, nil
	}
	s := &desired.Source{File: name, Into: x.into, Encoding: x.encoding, Format: x.in, Number: x.number, Clear: x.clear}
	var err error
	if s.Date, err = desired.DateForm(x.date); err != nil {
		return nil, usage(say.Flag("date", err))
	}
	if x.in != "" && !slices.Contains(sheet.Formats, x.in) {
		return nil, usage(say.NotOneOf("in", x.in, sheet.Formats))
	}
	if x.number != "" && !strings.Contains(x.number, "#") {
		return nil, usage(say.NoDigits(x.number))
	}
	if d := []rune(strings.ReplaceAll(x.delimiter, `\t`, "\t")); len(d) == 1 {
		s.Delimiter = d[0]
	} else if x.delimiter != "" {
		return nil, usage(say.OneCharacter(x.delimiter))
	}
	if x.into != "" && (!strings.HasPrefix(path.Clean(x.into), "people/") || !desired.IsPeopleFile(x.into)) {
		return nil, usage(say.NotAPeopleFile(x.into))
	}
	for _, m := range x.maps {
		attr, column, ok := strings.Cut(m, "=")
		if !ok || attr == "" || column == "" {
			return nil, usage(say.NotAMapping(m))
		}
		mapped, err := repo.Mapping(attr, column)
		if err != nil {
			return nil, usage(err)
		}
		s.Columns = append(s.Columns, mapped)
	}
	return s, nil
}

// sheetOf reads the spreadsheet of a source.
func (c *program) sheetOf(dir string, s *desired.Source) (*sheet.Table, error) {
	o := sheet.Options{Encoding: s.Encoding, Delimiter: s.Delimiter, Format: s.Format}
	if s.Program != nil {
		data, err := sheet.Output(c.ctx, dir, s.Program, c.Environ)
		if err != nil {
			return nil, say.SourceFailed(s.Name, err)
		}
		return sheet.Read(data, s.Program[0], o)
	}
	file := c.path(s.File)
	if s.Name != "" {
		tree, err := c.tree(dir)
		if err != nil {
			return nil, err
		}
		if err := tree.Allowed(s.File); err != nil {
			return nil, err
		}
		file = filepath.Join(dir, filepath.FromSlash(s.File))
	}
	return sheet.Open(file, s.File, o)
}

// takeIn shows what becomes of a spreadsheet, and writes it where that was asked for.
func (c *program) takeIn(dir string, repo *desired.Repo, name string, x *intaking, today day.Day) error {
	s, err := c.sourceOf(repo, name, x)
	if err != nil {
		return err
	}
	t, err := c.sheetOf(dir, s)
	if err != nil {
		return err
	}
	m, err := intake.Understand(t, repo, s.Columns, s.Name != "" && s.Columns != nil)
	if err != nil {
		return fail(Failed, err)
	}
	out := core.Compare(core.Input{
		Attrs: m.Attrs(), Rows: m.Rows(s.Date), People: repo.People, Fields: repo.Fields, Today: today,
		ClearEmpty: s.Clear, Joined: m.Joined(), Number: s.Number, Arrive: s.Arrive, Owns: owned(repo, s, today),
		Ends: s.Ends,
	})
	view := &show.Intake{Sheet: t, Mapping: m, Outcome: out, Into: c.intoFile(repo, s)}
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
	return c.writeIntake(dir, repo, s, view, x, today)
}

func owned(repo *desired.Repo, s *desired.Source, today day.Day) func(p int) bool {
	if s.Owns == nil {
		return nil
	}
	classes := filter.Classify(repo.People, []*filter.Filter{s.Owns}, today)
	return func(p int) bool { return classes.Match(classes.Of[p], 0) }
}

// intoFile is the file that new people come into: the one that was said, else the only CSV
// file of people; "" where that is not clear.
func (c *program) intoFile(repo *desired.Repo, s *desired.Source) string {
	if s.Into != "" {
		return path.Clean(s.Into)
	}
	var files []string
	for p := range repo.People.Len() {
		if file := repo.People.Pos(p).File; !slices.Contains(files, file) && strings.HasSuffix(file, ".csv") {
			files = append(files, file)
			if len(files) > 1 {
				return ""
			}
		}
	}
	if len(files) == 1 {
		return files[0]
	}
	return ""
}

// manyEnd is how many people rows may end without anybody saying so: a tenth, and two at the
// least.
func manyEnd(out *core.Outcome) int { return max(2, out.Here/10) }

// writeIntake writes what becomes of a spreadsheet, or says why not.
func (c *program) writeIntake(
	dir string, repo *desired.Repo, s *desired.Source, view *show.Intake, x *intaking, today day.Day,
) error {
	out := view.Outcome
	var stops []error
	if n := out.Counts[core.Bad]; n > 0 && !x.skipWrong {
		stops = append(stops, say.RowsWrong(n))
	}
	if out.Doubles > 0 && !x.doubles {
		stops = append(stops, say.MayBeThere(out.Doubles))
	}
	if out.Ending > manyEnd(out) && x.ends != out.Ending {
		stops = append(stops, say.EndsMany(out.Ending, out.Here))
	}
	if out.Counts[core.New] > 0 && view.Into == "" {
		stops = append(stops, say.IntoWhich())
	}
	if len(stops) > 0 {
		for _, err := range stops {
			fmt.Fprintln(c.Stderr, "pravet: "+err.Error())
		}
		return fail(Failed, say.NothingTakenIn(x.write || x.commit))
	}
	a := amend.New(c.ctx, repo)
	if err := fill(repo, a, out, view.Into, view.Mapping.Attrs()); err != nil {
		return err
	}
	if x.save != "" {
		kept := view.Mapping.Source(s, view.Into)
		if rel, err := filepath.Rel(dir, c.path(s.File)); err == nil {
			kept.File = rel
		}
		if err := a.AddSource(x.save, kept); err != nil {
			return err
		}
	}
	x.subject = say.TookIn(s.File, out.Counts[core.New], out.Counts[core.Changed])
	return errors.Join(c.putDown(dir, repo, a, &x.rewriting, today), c.leftOut(out))
}

// leftOut is the status of rows that were left out.
func (c *program) leftOut(out *core.Outcome) error {
	if out.Counts[core.Bad] > 0 {
		return &statusError{status: Failed}
	}
	return nil
}

// fill puts new people and changes into an amendment.
func fill(repo *desired.Repo, a *amend.Amendment, out *core.Outcome, into string, attrs []string) error {
	begun := into == "" || !strings.HasSuffix(into, ".csv") ||
		slices.ContainsFunc(repo.PeopleFiles(), func(f string) bool { return f == into })
	for i := range out.Entries {
		e := &out.Entries[i]
		switch e.State {
		case core.New:
			if !begun {
				begun = true
				if err := a.Begin(into, header(attrs, out)); err != nil {
					return err
				}
			}
			if err := a.Add(into, e.Values); err != nil {
				return err
			}
		case core.Changed, core.Missing:
			values := map[string]string{}
			for _, x := range e.Changes {
				values[x.Attr] = x.To
			}
			if err := a.Set(e.Person, values); err != nil {
				return err
			}
		}
	}
	return nil
}

// header are the columns of a file that begins with new people.
func header(attrs []string, out *core.Outcome) []string {
	cols := []string{"id", "userName"}
	for _, a := range attrs {
		if !slices.ContainsFunc(cols, func(c string) bool { return strings.EqualFold(c, a) }) {
			cols = append(cols, a)
		}
	}
	for i := range out.Entries {
		if out.Entries[i].Values["away"] != "" && !slices.Contains(cols, "away") {
			cols = append(cols, "away")
		}
	}
	return cols
}
