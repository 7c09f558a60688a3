package desk

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"pravet/internal/amend"
	"pravet/internal/core/access"
	"pravet/internal/core/day"
	"pravet/internal/core/entitle"
	"pravet/internal/core/filter"
	"pravet/internal/core/model"
	"pravet/internal/core/table"
	"pravet/internal/core/words"
	"pravet/internal/desired"
	"pravet/internal/edit"
	"pravet/internal/gitrepo"
	"pravet/internal/prepare"
	"pravet/internal/sheet"
	"pravet/internal/source"
)

// Amend begins to change the files of a repository of which nothing is wrong.
func (d *Desk) Amend() (*amend.Amendment, *desired.Repo, error) {
	repo, err := d.Whole()
	if err != nil {
		return nil, nil, err
	}
	return amend.New(d.ctx, repo), repo, nil
}

// Whom says for whom something is done: all who are named, whom a filter matches, and whom a list has.
type Whom struct {
	For  []string // ids or user names
	Only string   // a filter over people
	From string   // a CSV file whose column id or userName names them

	Rows []Listed // of the list, in its order
	Odd  []string // its columns that are no attribute of people
}

// A Listed is a row of a list of people.
type Listed struct {
	Person int
	Values map[string]string // of its other columns
}

// People lists the people who are meant, as numbers in the order of the files.
func (d *Desk) People(w *Whom, repo *desired.Repo) ([]int, error) {
	if len(w.For) == 0 && w.Only == "" && w.From == "" {
		return nil, wrong(sayForWhom())
	}
	chosen := map[int]bool{}
	for _, name := range w.For {
		p, err := Somebody(repo, name)
		if err != nil {
			return nil, err
		}
		chosen[p] = true
	}
	if w.Only != "" {
		f, err := filter.OfPeople(w.Only)
		if err != nil {
			return nil, wrongIn("only", err)
		}
		if err := repo.CheckFilter(f, "--only"); err != nil {
			return nil, wrong(err)
		}
		classes := filter.Classify(repo.People, []*filter.Filter{f}, d.today)
		for p, class := range classes.Of {
			if classes.Match(class, 0) {
				chosen[p] = true
			}
		}
		if len(chosen) == 0 {
			return nil, sayMatchesNobody(w.Only)
		}
	}
	if w.From != "" {
		if err := d.readListed(w, repo); err != nil {
			return nil, err
		}
		for _, row := range w.Rows {
			chosen[row.Person] = true
		}
	}
	out := make([]int, 0, len(chosen))
	for p := range chosen {
		out = append(out, p)
	}
	slices.Sort(out)
	return out, nil
}

// Somebody is the number of a person who is named by id or user name.
func Somebody(repo *desired.Repo, name string) (int, error) {
	if name == "" {
		return -1, wrong(sayForWhich())
	}
	if p := repo.People.Named(name); p >= 0 {
		return p, nil
	}
	hint := "look for them with: pravet list people"
	if near := repo.NearestPerson(name); near != "" {
		hint = "did you mean " + near + "?"
	}
	return -1, &prepare.Unknown{What: "person", Name: name, Hint: hint}
}

// A WrongList is a list of people with rows that are wrong.
type WrongList struct {
	File string
	List []*source.Problem
}

func (w *WrongList) Error() string { return sayListWrong(w.File, len(w.List)).Error() }

// readListed reads a list of people: a CSV file with a column id or userName. Its other
// columns are values of people where they are named like attributes.
func (d *Desk) readListed(w *Whom, repo *desired.Repo) error {
	t, err := sheet.Open(d.path(w.From), w.From, sheet.Options{})
	if err != nil {
		return err
	}
	key := t.Column("id")
	if key < 0 {
		key = t.Column("userName")
	}
	if key < 0 {
		return sayListNamesNobody(w.From)
	}
	attrs := make([]string, len(t.Header))
	for i, h := range t.Header {
		if i == key || h == "" {
			continue
		}
		name, err := repo.Attribute(h)
		if err != nil {
			w.Odd = append(w.Odd, h)
			continue
		}
		attrs[i] = name
	}
	problems, named := t.Problems, repo.People.Names()
	for n := range t.Rows {
		row := &t.Rows[n]
		p := named(row.Cells[key])
		if p < 0 {
			problems = append(problems, source.NewProblem(
				t.Pos(row, key), "unknown-person", sayNobodyBy(row.Cells[key]), sayCorrectTheList(),
			))
			continue
		}
		l := Listed{Person: p, Values: map[string]string{}}
		for i, name := range attrs {
			if name == "" {
				continue
			}
			value := row.Cells[i]
			if err := checkDate(name, value); err != nil {
				problems = append(problems, source.NewProblem(t.Pos(row, i), "wrong-date", err.Error(), ""))
			}
			if table.Fold(name) != "id" {
				l.Values[name] = value
			}
		}
		w.Rows = append(w.Rows, l)
	}
	if len(problems) > 0 {
		return &WrongList{w.From, problems}
	}
	return nil
}

// checkDate refuses a value that is no date, of an attribute that is one.
func checkDate(attr, value string) error {
	if value == "" || !desired.IsDate(attr) {
		return nil
	}
	_, err := day.Parse(value)
	return err
}

// Assigned reads ATTRIBUTE=VALUE of people, several of them.
func Assigned(repo *desired.Repo, args []string) (map[string]string, error) {
	out := map[string]string{}
	for _, arg := range args {
		name, value, ok := strings.Cut(arg, "=")
		if !ok || name == "" {
			return nil, wrong(saySetsNothing(arg))
		}
		name, err := repo.Attribute(name)
		if err != nil {
			return nil, wrong(err)
		}
		if table.Fold(name) == "id" {
			return nil, wrong(sayNoOtherID())
		}
		if err := checkDate(name, value); err != nil {
			return nil, wrongIn(name, err)
		}
		out[name] = value
	}
	return out, nil
}

// Kit finds a kit by its name.
func Kit(repo *desired.Repo, name string) (*model.Kit, error) {
	var names []string
	for _, k := range repo.Kits {
		if k.Name == name {
			return k, nil
		}
		names = append(names, k.Name)
	}
	return nil, prepare.UnknownName("kit", name, names)
}

// An Amended is what an amendment comes to, in the files and in whose access.
type Amended struct {
	// Ending is how many people would be gone who are not today, of Here.
	Ending, Here int
	Keeps        []Keeping // who would keep what a kit gave for a while, and does not today
	Idle         []string  // kits whose linger does nothing yet

	Texts    []*edit.Text // the files that would be others; none where nothing would
	Access   []access.Difference
	Warnings []access.Warning

	desk  *Desk
	files *edit.Files
}

// A WouldNotPass is an amendment after which the files would not pass.
type WouldNotPass struct{ List []*source.Problem }

func (w *WouldNotPass) Error() string { return sayWouldNotPass(len(w.List)).Error() }

// Comes works out what an amendment comes to. Nothing is written.
func (d *Desk) Comes(repo *desired.Repo, a *amend.Amendment) (*Amended, error) {
	files, err := a.Files()
	if err != nil {
		return nil, err
	}
	out := &Amended{Texts: files.Changed(), desk: d, files: files}
	if len(out.Texts) == 0 {
		return out, nil
	}
	contents, err := files.Contents()
	if err != nil {
		return nil, err
	}
	after, view, err := prepare.At(d.ctx, repo.Tree.With(contents), "", d.today)
	if errors.Is(err, prepare.ErrProblems) {
		return nil, &WouldNotPass{after.Errors()}
	}
	if err != nil {
		return nil, err
	}
	before := prepare.Of(repo).View(d.today)
	if out.Keeps, err = d.keepings(repo, after.Repo, before, view); err != nil {
		return nil, err
	}
	idle, err := d.idleLingers(repo)
	if err != nil {
		return nil, err
	}
	for _, kit := range idle {
		out.Idle = append(out.Idle, kit.Name)
	}
	out.Access = access.Compare(before, view)
	out.Ending, out.Here = ending(before, view)
	known := map[string]bool{}
	for _, w := range before.Implied() {
		known[words.Of(&w.Fact)] = true
	}
	out.Warnings = slices.DeleteFunc(view.Implied(), func(w access.Warning) bool { return known[words.Of(&w.Fact)] })
	out.Warnings = append(out.Warnings, access.Gained(out.Access)...)
	return out, nil
}

// ending counts the people who are not gone by the files as they are, and those of them who would be by the files as they would
// be.
func ending(before, after *access.View) (n, here int) {
	ids, at := before.People.Column("id"), map[string]int{}
	if ids == nil {
		return 0, 0
	}
	for p := range before.People.Len() {
		if before.Stages[p] != entitle.Gone {
			at[ids.At(p)] = p
		}
	}
	now := after.People.Column("id")
	for p := range after.People.Len() {
		if _, was := at[now.At(p)]; was && after.Stages[p] == entitle.Gone {
			n++
		}
	}
	return n, len(at)
}

// ManyEnd reports whether so many people would be gone as nobody ends with nobody saying so: more than a tenth, and more than
// two.
func ManyEnd(n, here int) bool { return n > max(2, here/10) }

// Names are those of the files that would be others.
func (a *Amended) Names() (out []string) {
	for _, t := range a.Texts {
		out = append(out, t.Name)
	}
	return out
}

// Write writes the files.
func (a *Amended) Write() error { return a.files.Write() }

// Commit writes the files and commits them, and nothing else. Files that have changes of which Git
// does not know yet are left as they are, and so is everything then.
func (a *Amended) Commit(message string) (commit string, err error) {
	names := a.Names()
	dirty, err := gitrepo.Dirty(a.desk.Dir, names)
	if err != nil {
		return "", sayNoGit(err)
	}
	if len(dirty) > 0 {
		return "", sayUncommitted(dirty)
	}
	if err := a.files.Write(); err != nil {
		return "", err
	}
	commit, err = gitrepo.CommitFiles(a.desk.ctx, a.desk.Dir, names, message)
	if err != nil {
		return "", sayNotCommitted(names, err)
	}
	return commit, nil
}

// sayWouldNotPass counts what would be wrong with files as they would be.
func sayWouldNotPass(n int) error {
	return fmt.Errorf(
		"as amended, the files would not pass: %s (above); nothing was "+
			"written", model.Count(n, "problem", "problems"),
	)
}

// sayNoGit is a commit where there is no Git.
func sayNoGit(err error) error {
	return fmt.Errorf("--commit needs Git: %w; use --write instead. Nothing was written", err)
}

// sayUncommitted are files that somebody has changed already.
func sayUncommitted(files []string) error {
	return fmt.Errorf(
		"%s changes that are not committed, which would be committed along; commit or undo them first, "+
			"or use --write. Nothing was written",
		model.Plural(len(files), files[0]+" has", strings.Join(files, " and ")+" have"),
	)
}

// sayNotCommitted is a commit that failed after the files were written.
func sayNotCommitted(files []string, err error) error {
	return fmt.Errorf(
		"%s written, and not committed: %w",
		model.Plural(len(files), files[0]+" was", words.Several(files)+" were"),
		err,
	)
}

// sayForWhich asks for the one person whom something is for.
func sayForWhich() error { return errors.New("for whom? Name one person, for example --for E0042") }

// sayForWhom asks for the people who are meant.
func sayForWhom() error {
	return errors.New("for whom? Name them with --for E0042, with --only FILTER, or with --from LIST.csv")
}

// sayMatchesNobody is a filter that matches nobody.
func sayMatchesNobody(filter string) error {
	return fmt.Errorf("nobody matches %s; try it with: pravet list people --only '%s'", filter, filter)
}

// saySetsNothing is a word that is no assignment.
func saySetsNothing(word string) error {
	return fmt.Errorf("%q sets nothing; ATTRIBUTE=VALUE is expected, for example title=\"Desk lead\"", word)
}

// sayNoOtherID is an attempt to give a person another id.
func sayNoOtherID() error {
	return errors.New(
		"an id stays as it is, as the ledger and other files know the person by it; change userName instead",
	)
}

// sayListNamesNobody is a list without a column that names people.
func sayListNamesNobody(file string) error {
	return fmt.Errorf("%s: neither a column id nor a column userName is in its header; add one", file)
}

// sayNobodyBy is a name in a list that nobody has.
func sayNobodyBy(name string) string { return fmt.Sprintf("there is no person %q", name) }

// sayCorrectTheList is what to do about it.
func sayCorrectTheList() string {
	return "correct the list, or take in the person first: pravet intake"
}

// sayListWrong counts what is wrong in a list.
func sayListWrong(file string, n int) error {
	return fmt.Errorf("%s has %s (above); nothing was written", file, model.Count(n, "problem", "problems"))
}
