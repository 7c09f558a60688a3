package desk

import (
	"errors"
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"pravet/internal/amend"
	"pravet/internal/core/filter"
	"pravet/internal/desired"
	"pravet/internal/intake"
	"pravet/internal/sheet"
)

// A Sheet is a spreadsheet of people, and how it is understood.
type Sheet struct {
	File      string   // as it is asked about
	Maps      []string // ATTRIBUTE=COLUMN, or a rule
	Into      string   // the file that new people come into
	Date      string   // how dates are written, like DD.MM.YYYY
	Number    string   // of new people, like E####
	Format    string
	Encoding  string
	Delimiter string
	Clear     bool // an empty cell takes a value away
}

// An Intake is what becomes of a spreadsheet of people.
type Intake struct {
	Source  *desired.Source
	Sheet   *sheet.Table
	Mapping *intake.Mapping
	Outcome *intake.Outcome
	Into    string // the file that new people come into; "" where that is not clear
}

// TakeIn works out what becomes of a spreadsheet, or of a source that pravet.yaml names. Nothing
// is written.
func (d *Desk) TakeIn(repo *desired.Repo, x Sheet) (*Intake, error) {
	s, err := sourceOf(repo, x)
	if err != nil {
		return nil, err
	}
	t, err := d.sheetOf(s)
	if err != nil {
		return nil, err
	}
	m, err := intake.Understand(t, repo, s.Columns, s.Name != "" && s.Columns != nil)
	if err != nil {
		return nil, err
	}
	out := intake.Compare(intake.Input{
		Attrs: m.Attrs(), Rows: m.Rows(s.Date), People: repo.People, Fields: repo.Fields, Today: d.today,
		ClearEmpty: s.Clear, Joined: m.Joined(), Number: s.Number, Arrive: s.Arrive, ArriveFor: s.ArriveFor, Owns: d.owned(repo, s),
		Ends: s.Ends,
	})
	return &Intake{Source: s, Sheet: t, Mapping: m, Outcome: out, Into: intoFile(repo, s)}, nil
}

// sourceOf is the source that is meant: one of pravet.yaml, or a file and what is said of it.
func sourceOf(repo *desired.Repo, x Sheet) (*desired.Source, error) {
	if s := repo.Source(x.File); s != nil {
		return s, nil
	}
	s := &desired.Source{
		File: x.File, Into: x.Into, Encoding: x.Encoding, Format: x.Format, Number: x.Number, Clear: x.Clear,
	}
	var err error
	if s.Date, err = desired.DateForm(x.Date); err != nil {
		return nil, wrongIn("date", err)
	}
	if x.Format != "" && !slices.Contains(sheet.Formats, x.Format) {
		return nil, wrong(SayNotOneOf("in", x.Format, sheet.Formats))
	}
	if x.Number != "" && !strings.Contains(x.Number, "#") {
		return nil, wrong(sayNoDigits(x.Number))
	}
	if s.Delimiter, err = delimiter(x.Delimiter); err != nil {
		return nil, err
	}
	if x.Into != "" && (!strings.HasPrefix(path.Clean(x.Into), "people/") || !desired.IsPeopleFile(x.Into)) {
		return nil, wrong(sayNotAPeopleFile(x.Into))
	}
	for _, m := range x.Maps {
		attr, column, err := mapping(m)
		if err != nil {
			return nil, err
		}
		mapped, err := repo.Mapping(attr, column)
		if err != nil {
			return nil, wrong(err)
		}
		s.Columns = append(s.Columns, mapped)
	}
	return s, nil
}

// delimiter reads what stands between cells; 0 where nothing is said.
func delimiter(text string) (rune, error) {
	if text == "" {
		return 0, nil
	}
	if r := []rune(strings.ReplaceAll(text, `\t`, "\t")); len(r) == 1 {
		return r[0], nil
	}
	return 0, wrong(sayOneCharacter(text))
}

// mapping reads ATTRIBUTE=COLUMN.
func mapping(text string) (attr, column string, err error) {
	attr, column, ok := strings.Cut(text, "=")
	if !ok || attr == "" || column == "" {
		return "", "", wrong(sayNotAMapping(text))
	}
	return attr, column, nil
}

// sheetOf reads the spreadsheet of a source.
func (d *Desk) sheetOf(s *desired.Source) (*sheet.Table, error) {
	o := sheet.Options{Encoding: s.Encoding, Delimiter: s.Delimiter, Format: s.Format}
	if s.Program != nil {
		data, err := sheet.Output(d.ctx, d.Dir, s.Program, d.secrets.For(s.Variables))
		if err != nil {
			return nil, saySourceFailed(s.Name, errors.New(d.secrets.Clean(err.Error())))
		}
		return sheet.Read(data, s.Program[0], o)
	}
	file := d.path(s.File)
	if s.Name != "" {
		if err := d.tree.Allowed(s.File); err != nil {
			return nil, err
		}
		file = filepath.Join(d.Dir, filepath.FromSlash(s.File))
	}
	return sheet.Open(file, s.File, o)
}

func (d *Desk) owned(repo *desired.Repo, s *desired.Source) func(p int) bool {
	if s.Owns == nil {
		return nil
	}
	classes := filter.Classify(repo.People, []*filter.Filter{s.Owns}, d.today)
	return func(p int) bool { return classes.Match(classes.Of[p], 0) }
}

// intoFile is the file that new people come into: the one that was said, else the only CSV
// file of people; "" where that is not clear.
func intoFile(repo *desired.Repo, s *desired.Source) string {
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
	switch {
	case len(files) == 1:
		return files[0]
	case repo.People.Len() == 0:
		return "people/people.csv"
	}
	return ""
}

// Many reports whether the rows end more people than rows may with nobody saying so: a tenth, and
// two at the least.
func (x *Intake) Many() bool { return ManyEnd(x.Outcome.Ending, x.Outcome.Here) }

// Fill puts new people and changes into an amendment; save keeps how the file is understood under
// that name, "" for not.
func (d *Desk) Fill(repo *desired.Repo, a *amend.Amendment, x *Intake, save string) error {
	if err := x.fill(repo, a); err != nil || save == "" {
		return err
	}
	kept := x.Mapping.Source(x.Source, x.Into)
	if rel, err := filepath.Rel(d.Dir, d.path(x.Source.File)); err == nil {
		kept.File = rel
	}
	return a.AddSource(save, kept)
}

func (x *Intake) fill(repo *desired.Repo, a *amend.Amendment) error {
	begun := x.Into == "" || !strings.HasSuffix(x.Into, ".csv") || slices.Contains(repo.PeopleFiles(), x.Into)
	for i := range x.Outcome.Entries {
		e := &x.Outcome.Entries[i]
		switch e.State {
		case intake.New:
			if !begun {
				begun = true
				if err := a.Begin(x.Into, x.header()); err != nil {
					return err
				}
			}
			if err := a.Add(x.Into, e.Values); err != nil {
				return err
			}
		case intake.Changed, intake.Missing:
			values := map[string]string{}
			for _, change := range e.Changes {
				values[change.Attr] = change.To
			}
			if err := a.Set(e.Person, values); err != nil {
				return err
			}
		}
	}
	return nil
}

// header are the columns of a file that begins with new people.
func (x *Intake) header() []string {
	cols := []string{"id", "userName"}
	for _, a := range x.Mapping.Attrs() {
		if !slices.ContainsFunc(cols, func(c string) bool { return strings.EqualFold(c, a) }) {
			cols = append(cols, a)
		}
	}
	for i := range x.Outcome.Entries {
		if x.Outcome.Entries[i].Values["away"] != "" && !slices.Contains(cols, "away") {
			cols = append(cols, "away")
		}
	}
	return cols
}

// sayNoDigits is a --number without a place for digits.
func sayNoDigits(text string) error {
	return fmt.Errorf("--number %s has no # where digits are to stand; write it like E####", text)
}

// sayOneCharacter is a --delimiter that is none.
func sayOneCharacter(text string) error {
	return fmt.Errorf(`--delimiter %q is not one character; use for example ";" or "\t"`, text)
}

// sayNotAPeopleFile is an --into that people are not read from.
func sayNotAPeopleFile(name string) error {
	return fmt.Errorf("--into %s: people are read from people/NAME.csv or people/NAME.yaml", name)
}

// saySourceFailed is a source whose program gave nothing.
func saySourceFailed(name string, err error) error {
	return fmt.Errorf("the program of source %s failed: %w; nothing was taken in", name, err)
}
