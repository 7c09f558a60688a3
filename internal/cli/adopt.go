package cli

import (
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"pravet/internal/adopt"
	"pravet/internal/amend"
	"pravet/internal/core/access"
	core "pravet/internal/core/adopt"
	"pravet/internal/core/day"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/desired"
	"pravet/internal/ledger"
	"pravet/internal/prepare"
	"pravet/internal/say"
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
}

func (c *program) adopt() *cobra.Command {
	x := &adopting{}
	cmd := &cobra.Command{
		Use:     "adopt {--app ID EXPORT | PLAN CHANGE... | ACCOUNT --for PERSON}",
		Short:   "Take over what is there: an application, changes made by hand, an account",
		GroupID: keeping,
		Long: `Adopt writes what already exists into the files.

With --app it takes over an application from its export: it guesses the columns and says
why, finds whose each account is (by name, email and former names; then by names that are
nearly the same, with a score), and writes apps/ID.yaml and kits by which everybody holds
what they hold today. The next draft has no change at all, which it makes sure of by
drafting. What it cannot tell is left alone, account by account, with the reason. A guess
about a person counts once you say so: --yes ACCOUNT, or --yes-above SCORE.

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
		Args: takes(1, -1, "adopt what?", "pravet adopt --app slips exports/slips.csv"),
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
	offer(cmd, "for", c.completePeople)
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		dir, repo, today, err := c.today()
		if err != nil {
			return err
		}
		switch {
		case x.app != "":
			if len(args) > 1 {
				return usage(
					say.TooManyWords(args[1:], "pravet adopt --app ID", "pravet adopt --app slips exports/slips.csv"),
				)
			}
			return c.adoptApp(dir, repo, args[0], x, today)
		case strings.Contains(args[0], "/account/"):
			return c.adoptAccount(dir, repo, args, x, today)
		case len(args) < 2:
			return usage(say.AdoptWhich())
		}
		return c.adoptChanges(dir, repo, args, x, today)
	}
	return cmd
}

// inRepo is a path of the command line as the repository has it.
func (c *program) inRepo(dir, file string) (string, error) {
	rel, err := filepath.Rel(dir, c.path(file))
	if err != nil || !filepath.IsLocal(rel) {
		return "", usage(say.NotBelow(file))
	}
	return filepath.ToSlash(rel), nil
}

func (c *program) adoptApp(dir string, repo *desired.Repo, file string, x *adopting, today day.Day) error {
	export, err := c.inRepo(dir, file)
	if err != nil {
		return err
	}
	if !desired.IsID(x.app) {
		return usage(say.NotAnID(x.app))
	}
	for _, e := range repo.Exports {
		if e != nil && slices.ContainsFunc(e.Files(), func(n model.Name) bool { return n.Text == export }) {
			return usage(say.HasThatExport(export, e.Pos.String()))
		}
	}
	said := map[string]string{}
	for _, m := range x.maps {
		attr, column, ok := strings.Cut(m, "=")
		if !ok || attr == "" || column == "" {
			return usage(say.NotAMapping(m))
		}
		said[attr] = column
	}
	a, err := adopt.Take(c.ctx, repo, adopt.Options{
		ID: x.app, Title: x.title, Export: path.Clean(export), Today: today, Columns: said,
		Yes: func(g *core.Guess) bool {
			return slices.Contains(x.yes, g.Key) || x.yesAbove > 0 && g.Score >= x.yesAbove
		},
	})
	if err != nil {
		return err
	}
	for _, key := range x.yes {
		if !slices.ContainsFunc(a.Guesses, func(g core.Guess) bool { return g.Key == key }) {
			return usage(say.NoSuchAccount(key, x.app))
		}
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
	am := amend.New(c.ctx, repo)
	if err := a.Write(am); err != nil {
		return err
	}
	x.subject = say.AdoptedApp(x.app)
	x.quiet = true // what it comes to was said
	return c.putDown(dir, repo, am, &x.rewriting, today)
}

func (c *program) adoptAccount(dir string, repo *desired.Repo, args []string, x *adopting, today day.Day) error {
	if len(args) > 1 {
		return usage(say.TooManyWords(args[1:], "pravet adopt", "pravet adopt slips/account/onyman --for E0042"))
	}
	address, err := model.ParseAddress(args[0])
	if err != nil {
		return usage(err)
	}
	a := repo.App(address.App)
	if a < 0 {
		return prepare.UnknownName("application", address.App, repo.AppIDs())
	}
	if x.to == "" {
		return usage(say.ForWhom())
	}
	p := repo.People.Named(x.to)
	if p < 0 {
		return c.nobody(repo, x.to)
	}
	s := prepare.Rules(c.ctx, repo.Tree)
	if err := c.read(s, []string{address.App}); err != nil {
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
		return usage(say.NoSuchAccount(address.Name, address.App))
	}
	v := prepare.ViewOf(s, today)
	if other := v.PersonOf[a][at]; other >= 0 && int(other) != p {
		return fail(Failed, say.IsSomebodys(args[0], repo.People.Called(int(other)), repo.People.Get(int(other), "id")))
	}
	if has := v.AccountOf[a][p]; has >= 0 && int(has) != at {
		return fail(Failed, say.HasAnAccount(repo.People.Called(p), accounts.Key.At(int(has)), address.App))
	}
	am := amend.New(c.ctx, repo)
	if err := am.Name(s.Repo.Apps[a], repo.People.Get(p, "id"), address.Name); err != nil {
		return err
	}
	x.subject = say.Amended("adopt", args, []string{repo.People.Get(p, "id")})
	return c.rewrite(dir, repo, am, &x.rewriting, today)
}

func (c *program) adoptChanges(dir string, repo *desired.Repo, args []string, x *adopting, today day.Day) error {
	p, err := c.plan(dir, args[0])
	if err != nil {
		return err
	}
	sel := &selection{}
	if err := sel.prepare(c, dir, p); err != nil {
		return err
	}
	var changes []*plan.Change
	for _, name := range args[1:] {
		found, err := sel.named(p, name)
		if err != nil {
			return err
		}
		changes = append(changes, found...)
	}
	if x.because == "" {
		return usage(say.BecauseOfAdoption())
	}
	am := amend.New(c.ctx, repo)
	by := say.Name(c.actor(dir))
	ch := &adopt.Changes{
		Repo: repo, View: prepare.View(repo, today), Amend: am, Because: say.AdoptedBecause(x.because, by, today),
	}
	if err := ch.Adopt(changes); err != nil {
		return fail(Failed, err)
	}
	if err := c.goneBy(repo, am, changes, today); err != nil {
		return err
	}
	x.subject = say.Amended("adopt", []string{strconv.Itoa(len(changes)), "of", p.ID}, nil)
	return c.rewrite(dir, repo, am, &x.rewriting, today)
}

// goneBy makes sure that a draft by the files as they would be has none of some changes any
// more, and none that it had not before.
func (c *program) goneBy(repo *desired.Repo, am *amend.Amendment, changes []*plan.Change, today day.Day) error {
	files, err := am.Files()
	if err != nil {
		return err
	}
	contents, err := files.Contents()
	if err != nil {
		return err
	}
	var apps []string
	for _, ch := range changes {
		if !slices.Contains(apps, ch.App) {
			apps = append(apps, ch.App)
		}
	}
	var views []*access.View
	draft := func(s *prepare.State) (map[string]bool, error) {
		if err := c.read(s, apps); err != nil {
			return nil, err
		}
		in := access.Input{
			People: s.Repo.People, Apps: s.Repo.Apps, Kits: s.Repo.Kits, Today: today,
			Accounts: make([]*model.Accounts, len(s.Repo.Apps)),
		}
		for a, e := range s.Exports {
			if e != nil {
				in.Accounts[a] = e.Accounts
			}
		}
		views = append(views, access.Look(in))
		p, err := prepare.Draft(s, ledger.Nothing(), today, today, nil)
		if err != nil {
			return nil, err
		}
		out := map[string]bool{}
		for i := range p.Changes {
			out[p.Changes[i].ID] = true
		}
		return out, nil
	}
	before, err := draft(prepare.Rules(c.ctx, repo.Tree))
	if err != nil {
		return err
	}
	after, err := draft(prepare.Rules(c.ctx, repo.Tree.With(contents)))
	if err != nil {
		return err
	}
	for _, ch := range changes {
		if after[ch.ID] {
			return fail(Failed, say.StillThere(ch.ID))
		}
	}
	if err := adopt.Proof(views[0], views[1], changes); err != nil {
		return fail(Failed, err)
	}
	more := 0
	for id := range after {
		if !before[id] {
			more++
		}
	}
	if more > 0 {
		fmt.Fprintln(c.Stderr, say.MoreChanges(more))
	}
	return nil
}
