package adopt

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"path"
	"slices"
	"strings"

	"pravet/internal/amend"
	"pravet/internal/core/day"
	"pravet/internal/core/entitle"
	"pravet/internal/core/model"
	"pravet/internal/core/words"
	"pravet/internal/desired"
	"pravet/internal/ledger"
	"pravet/internal/prepare"
	"pravet/internal/sheet"
	"pravet/internal/source"
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
	options Options

	// Kept is the application whose file is there already, and stays as it is but for whose accounts are whose; nil for one
	// that is described anew.
	Kept *model.App
	Left []string // changes of the next draft that the files cannot make unnecessary, in words
}

// A Thing is something that accounts hold.
type Thing struct {
	Kind      string
	Name      string
	Sensitive bool
	Why       string // by what it was guessed to be sensitive; "" where it was not guessed
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
	Split             map[string]string   // column → what separates the names in its cells; "" for nothing
	Encoding          string              // of a CSV file; "" for UTF-8
	Delimiter         rune                // of a CSV file; 0 for what its header has most of
	Only              func(p int) bool    // whose accounts are taken over; nil for all
	Sensitive, Plain  []string            // things that are sensitive, and that are not, as KIND/NAME
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
		ID: o.ID, Title: o.Title, Export: o.Export, repo: repo, today: o.Today, yes: o.Yes, options: o,
		alone: map[string]string{}, names: map[string]string{}, named: map[string]string{},
	}
	if repo.People.Len() == 0 {
		return nil, errors.New("there are no people yet, so no account could be anybody's; take them in first: pravet intake FILE --write")
	}
	at := repo.App(o.ID)
	switch {
	case at >= 0 && o.Export != "":
		return nil, fmt.Errorf(
			"there is an application %s already, in %s; to keep that file and make kits only, leave out %s", o.ID, repo.Apps[at].Pos.File, o.Export,
		)
	case at < 0 && o.Export == "":
		return nil, fmt.Errorf("there is no application %s yet; name its export: pravet adopt --app %s exports/FILE", o.ID, o.ID)
	case at >= 0:
		if err := a.keep(ctx, at); err != nil {
			return nil, err
		}
	default:
		if err := a.describe(ctx); err != nil {
			return nil, err
		}
	}
	a.match()
	if a.Kept == nil {
		a.follow()
	}
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

// describe finds out how an export is laid out.
func (a *Application) describe(ctx context.Context) error {
	if err := a.understand(ctx, a.options.Columns); err != nil {
		return err
	}
	accounts, err := a.read(ctx)
	if err != nil {
		return err
	}
	if a.Sheet == nil {
		a.called(accounts)
	}
	if err := a.catalog(accounts); err != nil {
		return err
	}
	a.Accounts, err = a.read(ctx)
	return err
}

// keep takes an application as its file describes it.
func (a *Application) keep(ctx context.Context, at int) error {
	app := a.repo.Apps[at]
	if !a.options.bare() {
		return fmt.Errorf("%s says how %s is laid out; --map, --split, --encoding and --delimiter are for an application that has no file yet",
			app.Pos.File, app.ID)
	}
	s := prepare.Rules(ctx, a.repo.Tree)
	if err := s.Read(ctx, []string{a.ID}); err != nil {
		if errors.Is(err, prepare.ErrProblems) {
			return s.Errors()[0]
		}
		return err
	}
	a.Kept, a.Title, a.Export, a.Match, a.By = app, app.Title, app.Pos.File, app.Match, app.MatchPerson()
	for _, attr := range app.Attrs {
		a.attrs = append(a.attrs, attr.Name)
	}
	a.Accounts = s.Exports[s.Repo.App(a.ID)].Accounts
	for i := range app.Things {
		t := &app.Things[i]
		a.Things = append(a.Things, Thing{Kind: t.Kind.Plural(), Name: t.Name, Sensitive: t.Sensitive})
	}
	return nil
}

// bare reports whether nothing is said about how an export is laid out.
func (o *Options) bare() bool {
	return len(o.Columns)+len(o.Split)+len(o.Sensitive)+len(o.Plain) == 0 && o.Encoding == "" && o.Delimiter == 0
}

// called finds which attribute of people the names of accounts are, where the format says which column they are.
func (a *Application) called(accounts *model.Accounts) {
	most := 0
	for _, attr := range identities {
		index, _ := a.repo.People.Index(attr)
		if index == nil {
			continue
		}
		n := 0
		for i := range accounts.Len() {
			if index.Find(accounts.Key.At(i)) >= 0 {
				n++
			}
		}
		if n > most {
			most, a.By = n, attr
		}
	}
	for i := range a.Columns {
		if a.Columns[i].Attr == a.Match {
			a.Columns[i].Follows = a.By
		}
	}
}

// bytes reads the export without decoding it; at most mostRead bytes.
func (a *Application) bytes(ctx context.Context) ([]byte, error) {
	f, err := a.repo.Tree.OpenRaw(ctx, a.Export)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, mostRead+1))
	switch {
	case err != nil:
		return nil, source.Unreadable(a.Export, err)
	case len(data) > mostRead:
		return nil, source.NewProblem(
			model.Pos{File: a.Export}, "too-large", fmt.Sprintf("the file is larger than %d MiB", mostRead>>20), "",
		)
	}
	return data, nil
}

// mostRead is the largest size of an export, in bytes.
const mostRead = 512 << 20

// understand guesses the format and the columns.
func (a *Application) understand(ctx context.Context, said map[string]string) error {
	data, err := a.bytes(ctx)
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
			"%s: a directory is described by its branches, which cannot be guessed: write apps/%s.yaml, as docs/connecting.md says, and then "+
				"take over what people have: pravet adopt --app %s",
			a.Export, a.ID, a.ID,
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
	if a.Sheet, err = sheet.Read(data, a.Export, sheet.Options{Encoding: a.options.Encoding, Delimiter: a.options.Delimiter}); err != nil {
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
	a.Columns, a.Match, a.By = g.out, g.attr, g.by
	return g.splits(a.options.Split)
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
func (a *Application) catalog(accounts *model.Accounts) error {
	said := map[string]bool{}
	for _, name := range a.options.Sensitive {
		said[name] = true
	}
	for _, name := range a.options.Plain {
		said[name] = false
	}
	for u := range accounts.Unmanaged {
		t := Thing{Kind: u.Kind.Plural(), Name: u.Name}
		name := u.Kind.String() + "/" + u.Name
		if is, ok := said[name]; ok {
			t.Sensitive = is
			delete(said, name)
		} else {
			t.Why = telling(u.Name)
			t.Sensitive = t.Why != ""
		}
		a.Things = append(a.Things, t)
	}
	for _, name := range slices.Sorted(maps.Keys(said)) {
		return fmt.Errorf("nobody has %s; write it as KIND/NAME, for example role/administrator", name)
	}
	slices.SortFunc(a.Things, func(x, y Thing) int {
		if x.Kind != y.Kind {
			return strings.Compare(x.Kind, y.Kind)
		}
		return strings.Compare(x.Name, y.Name)
	})
	return nil
}

// telling is the word in a name by which it is guessed to be sensitive; "" for none.
func telling(name string) string {
	like := strings.ToLower(name)
	for _, word := range []string{"admin", "root", "owner"} {
		if strings.Contains(like, word) {
			return word
		}
	}
	return ""
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
		if a.options.Only != nil && !a.options.Only(g.Person) {
			a.leave(g.Key, "was not taken over with the others (--only)")
			continue
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
	a.Left = nil
	for i := range p.Changes {
		c := &p.Changes[i]
		if a.Kept != nil && (c.Verb == model.Update || c.Account == "") { // what the file says of attributes and definitions stays
			a.Left = append(a.Left, words.Sentence(p, c))
			continue
		}
		left++
		why := "would be changed by the first plan: " + c.Verb.String()
		if c.Person != "" {
			why += ", of " + c.Person
		}
		a.leave(c.Account, why)
	}
	return left, nil
}
