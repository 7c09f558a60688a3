package adopt

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	"pravet/internal/amend"
	"pravet/internal/core/day"
	"pravet/internal/core/entitle"
	"pravet/internal/core/model"
	"pravet/internal/desired"
	"pravet/internal/ledger"
	"pravet/internal/prepare"
	"pravet/internal/sheet"
)

// An Application is one that is taken over, as it is understood.
type Application struct {
	ID, Title string
	Export    string // its file, below the repository
	Format    string
	Sheet     *sheet.Table // nil for what is no CSV
	Columns   []Column
	Match, By string // the attribute that accounts are known by, and that of people
	Things    []Thing
	Guesses   []Guess // of each account
	Taken     []bool  // guess → whether it counts
	Alone     []Alone
	Differ    []Differ // attributes that do not follow, as some differ
	Kits      []Kit
	Accounts  *model.Accounts
	Rounds    int // drafts that it took until nothing was left to do

	follows []Column
	attrs   []string // all that are read
	named   map[string]string
	alone   map[string]string // folded name → why
	names   map[string]string // folded name → name
	repo    *desired.Repo
	today   day.Day
	yes     func(g *Guess) bool
}

// A Thing is something that accounts hold.
type Thing struct {
	Kind      string
	Name      string
	Sensitive bool // guessed by its name
}

// An Alone is an account that nothing happens to for now, and why.
type Alone struct{ Account, Why string }

// A Differ is an attribute that most accounts have as their people, and some have not.
type Differ struct {
	Attr, Header string
	Count        int
	Example      string
}

// A Kit is by which people hold a thing as they do today.
type Kit struct {
	Name    string
	Thing   *Thing // nil for an account that holds nothing
	Into    string // the kit that it is taken into, whose rule says the same; "" for a new one
	Rule    string
	Holders []int // people
}

// Options say what is to be taken over.
type Options struct {
	ID, Title, Export string
	Today             day.Day
	Columns           map[string]string   // what columns are, where that is not to be guessed
	Yes               func(g *Guess) bool // takes a guess that is not certain
}

// manyHolders is how many people stand in a kit's own file; more are listed in one beside it.
const manyHolders = 200

// rounds is how often the files are corrected by what a draft of them would still do.
const rounds = 6

// Take understands an application's export. A draft of the files that the result gives has no
// change. O(accounts + people), besides the drafts.
func Take(ctx context.Context, repo *desired.Repo, o Options) (*Application, error) {
	a := &Application{
		ID: o.ID, Title: o.Title, Export: o.Export, repo: repo, today: o.Today, yes: o.Yes,
		alone: map[string]string{}, names: map[string]string{}, named: map[string]string{},
	}
	if repo.App(o.ID) >= 0 {
		return nil, fmt.Errorf("there is an application %s already, in %s", o.ID, repo.Apps[repo.App(o.ID)].Pos.File)
	}
	if err := a.understand(ctx, o.Columns); err != nil {
		return nil, err
	}
	accounts, err := a.read(ctx)
	if err != nil {
		return nil, err
	}
	a.catalog(accounts)
	if a.Accounts, err = a.read(ctx); err != nil {
		return nil, err
	}
	a.match()
	a.follow()
	for a.Rounds = 1; a.Rounds <= rounds; a.Rounds++ {
		left, err := a.settle(ctx)
		if err != nil || left == 0 {
			return a, err
		}
	}
	return nil, fmt.Errorf(
		"after %d drafts of these files there are still changes; describe the application by hand",
		rounds,
	)
}

// understand guesses the format and the columns.
func (a *Application) understand(ctx context.Context, said map[string]string) error {
	data, _, _, err := a.repo.Tree.ReadAll(ctx, a.Export, 512<<20)
	if err != nil {
		return err
	}
	switch strings.ToLower(path.Ext(a.Export)) {
	case ".json":
		a.Format = "scim"
	case ".jsonl":
		a.Format = "jsonl"
	case ".ldif":
		return fmt.Errorf(
			"%s: a directory is described by its branches, which cannot be guessed; see docs/connecting.md",
			a.Export,
		)
	default:
		a.Format = "csv"
	}
	if a.Format != "csv" {
		a.Match, a.By = "userName", "userName"
		for _, attr := range []string{"userName", "displayName", "email", "title", "department", "userType"} {
			if a.repo.People.Column(attr) != nil {
				a.Columns = append(
					a.Columns,
					Column{Attr: attr, Header: attr, Follows: attr, Why: "what the format calls so"},
				)
			}
		}
		return nil
	}
	if a.Sheet, err = sheet.Read(data, a.Export, sheet.Options{}); err != nil {
		return err
	}
	if len(a.Sheet.Problems) > 0 {
		return a.Sheet.Problems[0]
	}
	if len(a.Sheet.Rows) == 0 {
		return fmt.Errorf("%s lists no account; export the application again", a.Export)
	}
	g, err := columns(a.Sheet, a.repo, said)
	if err != nil {
		return err
	}
	a.Columns, a.Match, a.By = g.out, g.by, g.by
	return nil
}

// read reads the accounts by the files as they are understood so far.
func (a *Application) read(ctx context.Context) (*model.Accounts, error) {
	s := prepare.Rules(ctx, a.repo.Tree.With(map[string][]byte{"apps/" + a.ID + ".yaml": a.text()}))
	if err := s.Read(ctx, []string{a.ID}); err != nil {
		if errors.Is(err, prepare.ErrProblems) {
			return nil, fmt.Errorf(
				"as it is guessed, the application would not pass: %w. Say what columns are, for example --map "+
					"active=State",
				s.Errors()[0],
			)
		}
		return nil, err
	}
	return s.Exports[s.Repo.App(a.ID)].Accounts, nil
}

// catalog takes all that accounts hold for things.
func (a *Application) catalog(accounts *model.Accounts) {
	for u := range accounts.Unmanaged {
		like := strings.ToLower(u.Name)
		a.Things = append(a.Things, Thing{
			Kind: u.Kind.Plural(), Name: u.Name,
			Sensitive: strings.Contains(like, "admin") || strings.Contains(like, "root") ||
				strings.Contains(like, "owner"),
		})
	}
	slices.SortFunc(a.Things, func(x, y Thing) int {
		if x.Kind != y.Kind {
			return strings.Compare(x.Kind, y.Kind)
		}
		return strings.Compare(x.Name, y.Name)
	})
}

func (a *Application) column(attr string) int { return slices.Index(a.attrs, attr) }

// match says whose each account is, and who has one that is called otherwise.
func (a *Application) match() {
	in := Input{People: a.repo.People, By: a.By, Accounts: a.Accounts}
	if i := a.column("email"); i >= 0 {
		in.Email = a.Accounts.Attrs[i]
	}
	if i := a.column("displayName"); i >= 0 {
		in.Name = a.Accounts.Attrs[i]
	}
	a.Guesses = Match(in)
	a.Taken = make([]bool, len(a.Guesses))
	had := map[int]int{}
	for i := range a.Guesses {
		g := &a.Guesses[i]
		if g.Certain() {
			a.Taken[i], had[g.Person] = true, i
		}
	}
	stages := entitle.StagesOf(a.repo.People, a.today)
	for i := range a.Guesses {
		g := &a.Guesses[i]
		if g.Person >= 0 && !a.Taken[i] && a.yes != nil && a.yes(g) {
			if _, has := had[g.Person]; !has {
				a.Taken[i], had[g.Person], g.Others = true, i, nil
			}
		}
		if !a.Taken[i] {
			if g.Person < 0 && g.Why != "" {
				a.leave(g.Key, g.Why)
			}
			continue
		}
		if name := a.repo.People.Get(g.Person, a.By); name != g.Key {
			a.named[a.repo.People.Get(g.Person, "id")] = g.Key
		}
		who := fmt.Sprintf("%s (%s)", a.repo.People.Called(g.Person), a.repo.People.Get(g.Person, "id"))
		switch at := stages[g.Person]; {
		case at == entitle.Gone:
			a.leave(g.Key, "belongs to "+who+", who has left")
		case at == entitle.NotYet:
			a.leave(g.Key, "belongs to "+who+", who has not started yet")
		case at == entitle.Away:
			a.leave(g.Key, "belongs to "+who+", who is away")
		case a.Accounts.States[i] != model.Open:
			a.leave(g.Key, "is "+a.Accounts.States[i].String()+", and belongs to "+who+", who is here")
		}
	}
}

// leave leaves an account alone.
func (a *Application) leave(key, why string) {
	k := strings.ToLower(key)
	if _, ok := a.alone[k]; !ok {
		a.alone[k], a.names[k] = why, key
	}
}

// counted calls f for each account that somebody holds things by from now on.
func (a *Application) counted(f func(i, person int)) {
	for i := range a.Guesses {
		if _, alone := a.alone[strings.ToLower(a.Guesses[i].Key)]; !alone && a.Taken[i] {
			f(i, a.Guesses[i].Person)
		}
	}
}

// follow lets those attributes follow people's that agree in all accounts.
func (a *Application) follow() {
	for _, c := range slices.Clone(a.Columns) {
		i := a.column(c.Attr)
		if i < 0 || c.Follows == "" || c.Attr == a.Match {
			continue
		}
		if !a.shown(i) {
			a.Columns = slices.DeleteFunc(a.Columns, func(x Column) bool { return a.Sheet == nil && x.Attr == c.Attr })
			continue
		}
		d := Differ{Attr: c.Attr, Header: c.Header}
		a.counted(func(n, p int) {
			if is, want := a.Accounts.Attr(i, n), a.repo.People.Get(p, c.Follows); is != want {
				if d.Count++; d.Count == 1 {
					d.Example = fmt.Sprintf("%s has %q, and %q is in the files", a.Guesses[n].Key, is, want)
				}
			}
		})
		if d.Count > 0 {
			a.Differ = append(a.Differ, d)
		} else {
			a.follows = append(a.follows, c)
		}
	}
}

// shown reports whether any account has a value of an attribute.
func (a *Application) shown(attr int) bool {
	for i := range a.Accounts.Len() {
		if a.Accounts.Attr(attr, i) != "" {
			return true
		}
	}
	return false
}

// settle writes kits, drafts by them, and leaves alone what a draft would still change. It
// returns how much that was.
func (a *Application) settle(ctx context.Context) (int, error) {
	a.kits()
	am := amend.New(ctx, a.repo)
	if err := a.Write(am); err != nil {
		return 0, err
	}
	files, err := am.Files()
	if err != nil {
		return 0, err
	}
	contents, err := files.Contents()
	if err != nil {
		return 0, err
	}
	s := prepare.Rules(ctx, a.repo.Tree.With(contents))
	if err := s.Read(ctx, []string{a.ID}); err != nil {
		if errors.Is(err, prepare.ErrProblems) {
			return 0, s.Errors()[0]
		}
		return 0, err
	}
	p, err := prepare.Draft(s, ledger.Nothing(), a.today, a.today, nil)
	if err != nil {
		return 0, err
	}
	left := 0
	for i := range p.Changes {
		c := &p.Changes[i]
		left++
		why := "would be changed by the first plan: " + c.Verb.String()
		if c.Person != "" {
			why += ", of " + c.Person
		}
		a.leave(c.Account, why)
	}
	return left, nil
}
