package desk

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"pravet/internal/core/access"
	"pravet/internal/core/day"
	"pravet/internal/core/decide"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/core/table"
	"pravet/internal/decisions"
	"pravet/internal/desired"
	"pravet/internal/gitrepo"
	"pravet/internal/ledger"
	"pravet/internal/prepare"
)

// A Sight is how things are on a day, or how they were.
type Sight struct {
	*access.View
	State   *prepare.State
	Day     day.Day
	Missing []error       // exports that are not there
	Known   *prepare.Past // what a past day is known from; nil for a day to come
}

// Revision is the revision that a past sight is by, "" for the files as they are.
func (s *Sight) Revision() string {
	if s.Known == nil {
		return ""
	}
	return s.Known.Revision
}

// On reads a day, today where there is none.
func (d *Desk) On(field, text string) (day.Day, error) { return dayIn(field, text, d.today) }

// dayIn reads a day, or is another one where there is none.
func dayIn(field, text string, otherwise day.Day) (day.Day, error) {
	if text == "" {
		return otherwise, nil
	}
	on, err := day.Parse(text)
	if err != nil {
		return 0, wrongIn(field, err)
	}
	return on, nil
}

// Look is how things are by the files and the exports of today, on a day, for the named
// applications or for all.
func (d *Desk) Look(apps []string, on day.Day) (*Sight, error) {
	s, err := d.State()
	if err != nil {
		return nil, err
	}
	v, missing, err := s.Look(d.ctx, apps, on)
	if err := d.problems(err); err != nil {
		return nil, err
	}
	return &Sight{View: v, State: s, Day: on, Missing: missing}, nil
}

// Remembered is what Look is, with since when accounts are on their way out and who held what
// lingers, as the ledger knows it.
func (d *Desk) Remembered(apps []string, on day.Day) (*Sight, error) {
	x, err := d.Look(apps, on)
	if err != nil {
		return nil, err
	}
	return x, d.remember(x)
}

func (d *Desk) remember(x *Sight) error {
	repo := x.State.Repo
	if !prepare.Counts(repo) && !prepare.Lingers(repo) {
		return nil
	}
	l, err := d.Book()
	if err != nil {
		return err
	}
	if x.Past, err = prepare.Stands(l, repo, func(int) bool { return true }); err != nil {
		return err
	}
	return prepare.Keep(l, repo, x.View)
}

// Past is how things were at the end of a past day, by what is on record, for the named
// applications or for all.
func (d *Desk) Past(apps []string, text string) (*Sight, error) {
	on, err := day.Parse(text)
	if err != nil {
		return nil, wrongIn("at", err)
	}
	if on > d.today {
		return nil, wrong(sayNotPast(on))
	}
	l, err := d.Record()
	if err != nil {
		return nil, err
	}
	x := &Sight{Day: on}
	x.State, x.View, x.Known, err = prepare.On(d.ctx, d.tree, l, apps, on)
	if errors.Is(err, prepare.ErrProblems) {
		return nil, mend(x.State)
	}
	if err != nil {
		return nil, err
	}
	x.Missing = x.Known.Missing
	return x, nil
}

// Listed is how things are or, with at, were, with every column that exports have.
func (d *Desk) Listed(apps []string, on day.Day, at string) (*Sight, error) {
	if at != "" {
		return d.Past(apps, at)
	}
	repo, err := d.Repo()
	if err != nil {
		return nil, err
	}
	repo.ObserveAll()
	return d.Remembered(apps, on)
}

// Falling is what falls due until a day.
func (d *Desk) Falling(x *Sight, to day.Day) ([]access.Falling, error) {
	l, err := d.Book()
	if err != nil {
		return nil, err
	}
	repo := x.State.Repo
	rejections, err := decisions.Rejections(l, decisions.Of(repo))
	if err != nil {
		return nil, err
	}
	return x.View.Falling(to, access.Stood{Rejections: rejections, Lifts: repo.Lifts, Kept: repo.Kept}), nil
}

// Person is somebody as things are on a day, by id or user name, or by a display name that
// nobody else has. No more is read than may be theirs.
func (d *Desk) Person(name string, on day.Day) (x *Sight, person int, err error) {
	repo, err := d.Repo()
	if err != nil {
		return nil, -1, err
	}
	x, person, err = d.find(repo, name, on)
	if err != nil || person >= 0 {
		return x, person, err
	}
	id, err := d.called(name)
	if err != nil {
		return nil, -1, err
	}
	return d.find(repo, id, on)
}

func (d *Desk) find(repo *desired.Repo, name string, on day.Day) (*Sight, int, error) {
	s, v, person, missing, err := prepare.Find(d.ctx, repo, name, on)
	if errors.Is(err, prepare.ErrProblems) {
		return nil, -1, mend(s)
	}
	if err != nil || person < 0 {
		return nil, -1, err
	}
	x := &Sight{View: v, State: s, Day: on, Missing: missing}
	return x, person, d.remember(x)
}

// maxCalled is how many people of one name are told.
const maxCalled = 12

// called is the id of the one person with a display name. Where there are several, or nobody,
// the error says so, with the nearest that there is.
func (d *Desk) called(name string) (id string, err error) {
	repo, err := d.Repo()
	if err != nil {
		return "", err
	}
	repo.ReadPeople()
	var called []string
	if names := repo.People.Column("displayName"); names != nil {
		for i := range names.Len() {
			if table.Fold(names.At(i)) == table.Fold(strings.TrimSpace(name)) {
				id = repo.People.Get(i, "id")
				called = append(called, fmt.Sprintf(
					"%s  %s  %s",
					repo.People.Get(i, "id"),
					repo.People.Get(i, "userName"),
					repo.People.Get(i, "department"),
				))
			}
		}
	}
	if n := len(called); n == 1 {
		return id, nil
	} else if n > 1 {
		return "", wrong(sayManyPeople(name, called[:min(n, maxCalled)], n))
	}
	return "", wrong(sayNoPerson(name, repo.NearestPerson(name)))
}

// Thing finds a thing of a repository by its address.
func Thing(repo *desired.Repo, text string) (model.AppThing, error) {
	address, err := model.ParseAddress(text)
	if err != nil {
		return model.AppThing{}, wrong(err)
	}
	a := repo.App(address.App)
	if a < 0 {
		return model.AppThing{}, wrong(prepare.UnknownName("application", address.App, repo.AppIDs()))
	}
	kind, ok := model.ParseKind(address.Kind)
	if !ok {
		return model.AppThing{}, wrong(sayNotAThing(text))
	}
	app := repo.Apps[a]
	if t := app.Thing(kind, address.Name); t >= 0 {
		return model.AppThing{App: a, Thing: t}, nil
	}
	var all []string
	for t := range app.Things {
		all = append(all, app.Address(int32(t)).String())
	}
	return model.AppThing{}, wrong(sayNoThing(app.ID, kind, address.Name, table.Nearest(text, all)))
}

// Blame adds to the places of an answer who changed them last, as of the revision that it is by.
func (d *Desk) Blame(x *Sight, a *access.Answer) {
	lines := map[string][]int{}
	a.Places(func(p *access.Place) {
		if p.File != "" && p.Line > 0 && !slices.Contains(lines[p.File], p.Line) {
			lines[p.File] = append(lines[p.File], p.Line)
		}
	})
	changes := map[string]map[int]gitrepo.Change{}
	for file, of := range lines {
		changes[file] = gitrepo.Lines(d.Dir, x.Revision(), file, of...)
	}
	a.Places(func(p *access.Place) {
		change, ok := changes[p.File][p.Line]
		switch {
		case !ok:
		case change.Beyond:
			p.Commit = "beyond what this shallow clone has; git fetch --unshallow brings it"
		case change.By == "":
			p.Commit = "not committed yet"
		default:
			p.ChangedBy, p.ChangedOn, p.Commit = change.By, d.zone.Day(change.On).String(), change.Commit
		}
	})
}

// Rejected finds what was decided about differences: that they stay; nil where nothing was.
func (d *Desk) Rejected(x *Sight) (func(access.Open) *decide.Rejection, error) {
	l, err := d.Book()
	if err != nil {
		return nil, err
	}
	all, err := decisions.Rejections(l, decisions.Of(x.State.Repo))
	if err != nil {
		return nil, err
	}
	byID := map[string]*decide.Rejection{}
	for i := range all {
		if r := &all[i]; r.On(x.Day) {
			byID[r.Change] = r
		}
	}
	return func(o access.Open) *decide.Rejection {
		change := &plan.Change{App: o.App, Account: o.Account, Person: o.Person, Verb: o.Verb}
		if o.Name != "" {
			change.Thing = &plan.Thing{Kind: o.Kind, Name: o.Name}
		}
		return byID[plan.ChangeID(change)]
	}, nil
}

// A WhatIf is what would become of somebody with other attributes.
type WhatIf struct {
	*prepare.WhatIf
	With map[string]string
}

// WhatIf answers what would become of a person with other attributes, ATTRIBUTE=VALUE each; somebody
// who is not in the files is taken for new.
func (d *Desk) WhatIf(name string, with []string, on day.Day) (*WhatIf, error) {
	l, err := d.Book()
	if err != nil {
		return nil, err
	}
	repo, err := d.Whole()
	if err != nil {
		return nil, err
	}
	values, err := values(with, repo.People.Attributes())
	if err != nil {
		return nil, err
	}
	w, err := d.state.If(d.ctx, l, name, values, on, d.today)
	if err := d.problems(err); err != nil {
		return nil, err
	}
	return &WhatIf{WhatIf: w, With: values}, nil
}

// values reads ATTRIBUTE=VALUE, several of them.
func values(with []string, known []string) (map[string]string, error) {
	out := map[string]string{}
	for _, w := range with {
		name, value, ok := strings.Cut(w, "=")
		if !ok || name == "" {
			return nil, wrong(sayNotAnAssignment(w))
		}
		if at := slices.IndexFunc(known, func(k string) bool { return table.Fold(k) == table.Fold(name) }); at >= 0 {
			name = known[at]
		} else if !desired.IsAttribute(name) {
			return nil, wrongIn("with", prepare.UnknownName("attribute of people", name, known))
		}
		if err := checkDate(name, value); err != nil {
			return nil, wrongIn("with "+name, err)
		}
		out[name] = value
	}
	return out, nil
}

// Revision reads the files of a revision, "" for those that are there, for questions about a day;
// some of them are taken from those that are there all the same. No application is looked at.
func (d *Desk) Revision(revision string, with []string, on day.Day) (*access.View, error) {
	s, v, err := prepare.At(d.ctx, d.tree, revision, on, with...)
	switch {
	case errors.Is(err, gitrepo.ErrNoRevision):
		return nil, wrong(err)
	case errors.Is(err, prepare.ErrProblems) && revision != "":
		errs := s.Errors()
		return nil, sayRevisionProblems(revision, len(errs), errs[0])
	case errors.Is(err, prepare.ErrProblems):
		return nil, mend(s)
	}
	return v, err
}

// Runs are the runs on record, with when they began.
func (d *Desk) Runs() (out [][2]string, err error) {
	l, err := d.Book()
	if err != nil {
		return nil, err
	}
	err = l.Scan(ledger.Query{Kinds: []ledger.Kind{ledger.RunStarted}}, func(e *ledger.Entry) error {
		out = append(out, [2]string{e.Subject, e.At})
		return nil
	})
	return out, err
}

// sayRevisionProblems is a revision whose files do not pass.
func sayRevisionProblems(revision string, n int, first error) error {
	return fmt.Errorf(
		"the files of revision %s do not pass: they have %s, the first: %w", revision,
		model.Count(n, "problem", "problems"), first,
	)
}

// sayNotPast is an --at that is not a past day.
func sayNotPast(on day.Day) error {
	return fmt.Errorf("--at: %s is in the future; to see what is due then, use --on %s", on, on)
}

// sayNotAnAssignment is a --with that sets nothing.
func sayNotAnAssignment(word string) error {
	return fmt.Errorf("--with %s: ATTRIBUTE=VALUE is expected, for example --with department=Planning", word)
}

// sayNoPerson is a name that nobody has; near is the nearest, or "".
func sayNoPerson(name, near string) error {
	return fmt.Errorf(
		"there is no person with the id, the user name or the name %q%s", name,
		meant("; ", near, "list them with: pravet list people"),
	)
}

// sayManyPeople is a name that several people have; they are listed, each in a line, and
// others are only counted.
func sayManyPeople(name string, listed []string, n int) error {
	text := ""
	for _, l := range listed {
		text += "\n  " + l
	}
	if more := n - len(listed); more > 0 {
		text += "\n  and " + model.Count(more, "more", "more")
	}
	return fmt.Errorf(
		"%s called %q; name the one that you mean by id or user name:%s",
		model.Count(n, "person is", "people are"), name, text,
	)
}

// sayNotAThing is an address of an account where a thing is expected.
func sayNotAThing(address string) error {
	return fmt.Errorf("%s is an account; a group, role or license is expected", address)
}

// sayNoThing is a thing that an application does not have; near is the nearest, or "".
func sayNoThing(app string, kind model.Kind, name, near string) error {
	return fmt.Errorf("%s has no %s %q in its catalog%s", app, kind, name, meant("; ", near, "see: pravet list things"))
}
