package desk

import (
	"errors"
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"pravet/internal/adopt"
	"pravet/internal/amend"
	"pravet/internal/core/access"
	"pravet/internal/core/day"
	"pravet/internal/core/filter"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/desired"
	"pravet/internal/ledger"
	"pravet/internal/prepare"
)

// An Adoption is how an application is taken over as it is.
type Adoption struct {
	ID, Title string
	Export    string   // the file, as it is asked about
	Maps      []string // ATTRIBUTE=COLUMN each, instead of guessing
	Yes       []string // accounts that are whose they are guessed to be
	YesAbove  int      // so is each whose guess has at least this score, in percent; 0 for none

	Split            []string // COLUMN=SEPARATOR each, instead of guessing
	Encoding         string   // of a CSV file; "" for UTF-8
	Delimiter        string   // "" for what its header has most of
	Only             string   // a filter over people: whose accounts are taken over; "" for all
	Sensitive, Plain []string // things that are sensitive and that are not, as KIND/NAME
}

// inRepo is a path that was asked about, as the repository has it.
func (d *Desk) inRepo(file string) (string, error) {
	rel, err := filepath.Rel(d.Dir, d.path(file))
	if err != nil || !filepath.IsLocal(rel) {
		return "", wrong(sayNotBelow(file))
	}
	return filepath.ToSlash(rel), nil
}

// AdoptApplication takes an application over as it is. Nothing is written.
func (d *Desk) AdoptApplication(repo *desired.Repo, x Adoption) (*adopt.Application, error) {
	if !desired.IsID(x.ID) {
		return nil, wrong(sayNotAnID(x.ID))
	}
	export := ""
	if x.Export != "" {
		rel, err := d.inRepo(x.Export)
		if err != nil {
			return nil, err
		}
		export = path.Clean(rel)
	}
	for _, e := range repo.Exports {
		if e != nil && export != "" && slices.ContainsFunc(e.Files(), func(n model.Name) bool { return n.Text == export }) {
			return nil, wrong(sayHasThatExport(export, e.Pos.String()))
		}
	}
	columns := map[string]string{}
	for _, m := range x.Maps {
		attr, column, err := mapping(m)
		if err != nil {
			return nil, err
		}
		columns[attr] = column
	}
	options := adopt.Options{
		ID: x.ID, Title: x.Title, Export: export, Today: d.today, Columns: columns, Split: map[string]string{}, Encoding: x.Encoding,
		Sensitive: x.Sensitive, Plain: x.Plain,
		Yes: func(g *adopt.Guess) bool {
			return slices.Contains(x.Yes, g.Key) || x.YesAbove > 0 && g.Score >= x.YesAbove
		},
	}
	for _, s := range x.Split {
		column, separator, ok := strings.Cut(s, "=")
		if !ok || column == "" {
			return nil, wrong(sayNotASplit(s))
		}
		options.Split[column] = strings.NewReplacer(`\t`, "\t", `\n`, "\n").Replace(separator)
	}
	var err error
	if options.Delimiter, err = delimiter(x.Delimiter); err != nil {
		return nil, err
	}
	if options.Only, err = d.onlyPeople(repo, x.Only); err != nil {
		return nil, err
	}
	a, err := adopt.Take(d.ctx, repo, options)
	if err != nil {
		return nil, err
	}
	for _, key := range x.Yes {
		if !slices.ContainsFunc(a.Guesses, func(g adopt.Guess) bool { return g.Key == key }) {
			return nil, wrong(sayNoSuchAccount(key, x.ID))
		}
	}
	return a, nil
}

// onlyPeople tells whom a filter over people matches; nil for everybody.
func (d *Desk) onlyPeople(repo *desired.Repo, text string) (func(p int) bool, error) {
	f, err := peopleFilter(text)
	if err != nil || f == nil {
		return nil, err
	}
	if err := repo.CheckFilter(f, "--only"); err != nil {
		return nil, wrong(err)
	}
	classes := filter.Classify(repo.People, []*filter.Filter{f}, d.today)
	return func(p int) bool { return classes.Match(classes.Of[p], 0) }, nil
}

// AdoptAccount amends files so that an account, APPLICATION/account/NAME, becomes a person's.
func (d *Desk) AdoptAccount(repo *desired.Repo, am *amend.Amendment, account, person string) error {
	address, err := model.ParseAddress(account)
	if err != nil {
		return wrong(err)
	}
	a := repo.App(address.App)
	if a < 0 {
		return prepare.UnknownName("application", address.App, repo.AppIDs())
	}
	p, err := Somebody(repo, person)
	if err != nil {
		return err
	}
	s, err := d.read([]string{address.App})
	if err != nil {
		return err
	}
	accounts := s.Exports[a].Accounts
	at := -1
	for i := range accounts.Len() {
		if accounts.Key.At(i) == address.Name {
			at = i
		}
	}
	if at < 0 {
		return wrong(sayNoSuchAccount(address.Name, address.App))
	}
	v := s.View(d.today)
	if other := v.PersonOf[a][at]; other >= 0 && int(other) != p {
		return sayIsSomebodys(account, repo.People.Called(int(other)), repo.People.Get(int(other), "id"))
	}
	if has := v.AccountOf[a][p]; has >= 0 && int(has) != at {
		return sayHasAnAccount(repo.People.Called(p), accounts.Key.At(int(has)), address.App)
	}
	return am.Name(s.Repo.Apps[a], repo.People.Get(p, "id"), address.Name)
}

// AdoptChanges amends files so that differences of a plan, made by hand, are what they ask for. It
// returns how many changes a draft by them has that it had not before, and makes sure that it has
// none of those that were adopted.
func (d *Desk) AdoptChanges(
	repo *desired.Repo, am *amend.Amendment, p *plan.Plan, names []string, because string,
) (adopted, more int, err error) {
	sel, err := d.Select(p, Choice{})
	if err != nil {
		return 0, 0, err
	}
	var changes []*plan.Change
	for _, name := range names {
		found, err := sel.Named(name)
		if err != nil {
			return 0, 0, err
		}
		changes = append(changes, found...)
	}
	if because == "" {
		return 0, 0, wrong(sayBecauseOfAdoption())
	}
	ch := &adopt.Changes{
		Repo: repo, View: prepare.Of(repo).View(d.today), Amend: am,
		Because: sayAdoptedBecause(because, ledger.Who(d.Actor()), d.today),
	}
	if err := ch.Adopt(changes); err != nil {
		return 0, 0, err
	}
	more, err = d.goneBy(repo, am, changes)
	return len(changes), more, err
}

// goneBy makes sure that a draft by the files as they would be has none of some changes any
// more, that everybody holds what they hold today, and counts the changes that it had not before.
func (d *Desk) goneBy(repo *desired.Repo, am *amend.Amendment, changes []*plan.Change) (more int, err error) {
	files, err := am.Files()
	if err != nil {
		return 0, err
	}
	contents, err := files.Contents()
	if err != nil {
		return 0, err
	}
	var apps []string
	for _, ch := range changes {
		if !slices.Contains(apps, ch.App) {
			apps = append(apps, ch.App)
		}
	}
	draft := func(s *prepare.State) (map[string]bool, *access.View, error) {
		p, err := prepare.Draft(s, ledger.Nothing(), d.today, d.today, nil)
		if err != nil {
			return nil, nil, err
		}
		out := map[string]bool{}
		for i := range p.Changes {
			out[p.Changes[i].ID] = true
		}
		return out, s.View(d.today), nil
	}
	now, err := d.read(apps)
	if err != nil {
		return 0, err
	}
	before, was, err := draft(now)
	if err != nil {
		return 0, err
	}
	would := prepare.Rules(d.ctx, repo.Tree.With(contents))
	if err := would.Read(d.ctx, apps); err != nil {
		if errs := would.Errors(); len(errs) > 0 {
			return 0, &WouldNotPass{errs}
		}
		return 0, err
	}
	after, will, err := draft(would)
	if err != nil {
		return 0, err
	}
	for _, ch := range changes {
		if after[ch.ID] {
			return 0, sayStillThere(ch.ID)
		}
	}
	if err := adopt.Proof(was, will, changes); err != nil {
		return 0, err
	}
	for id := range after {
		if !before[id] {
			more++
		}
	}
	return more, nil
}

// sayNotAMapping is a --map that maps nothing.
func sayNotAMapping(text string) error {
	return fmt.Errorf("--map %s: ATTRIBUTE=COLUMN is expected, for example --map email=Mail", text)
}

// sayNotASplit is a --split that names no column.
func sayNotASplit(text string) error {
	return fmt.Errorf("--split %s: COLUMN=SEPARATOR is expected, for example --split 'Quays= / '", text)
}

// sayNotBelow is a file that is not in the repository.
func sayNotBelow(file string) error {
	return fmt.Errorf("%s is outside the repository; put it below, for example into exports/", file)
}

// sayNotAnID is a name that no application can have.
func sayNotAnID(id string) error {
	return fmt.Errorf("--app %q is not an id: small letters, digits and hyphens", id)
}

// sayHasThatExport is an export that belongs to an application already.
func sayHasThatExport(file, at string) error {
	return fmt.Errorf("%s is the export that %s names already", file, at)
}

// sayNoSuchAccount is an account that an export does not show.
func sayNoSuchAccount(name, app string) error {
	return fmt.Errorf("the export of %s shows no account %q", app, name)
}

// sayIsSomebodys is an account that belongs to somebody else.
func sayIsSomebodys(account, name, id string) error {
	return fmt.Errorf("%s is the account of %s (%s) already", account, name, id)
}

// sayHasAnAccount is somebody who has an account already.
func sayHasAnAccount(name, account, app string) error {
	return fmt.Errorf("%s has the account %s in %s already; nobody can have two", name, account, app)
}

// sayBecauseOfAdoption asks for a reason that the files need.
func sayBecauseOfAdoption() error {
	return errors.New(`because of what? What was done by hand comes into the files with a reason: --because "REASON"`)
}

// sayAdoptedBecause is the reason of what was done by hand, with who took it over.
func sayAdoptedBecause(because, by string, on day.Day) string {
	return fmt.Sprintf("%s; done by hand, taken over by %s on %s", because, by, on)
}

// sayStillThere is a change that the files as they would be do not make unnecessary.
func sayStillThere(change string) error {
	return fmt.Errorf(
		"change %s would still be in the next draft; correct the files by hand. Nothing was written",
		change,
	)
}
