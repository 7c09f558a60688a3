package cli

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"pravet/internal/core/access"
	"pravet/internal/core/day"
	"pravet/internal/core/model"
	"pravet/internal/core/table"
	"pravet/internal/desired"
	"pravet/internal/gitrepo"
	"pravet/internal/prepare"
	"pravet/internal/say"
	"pravet/internal/show"
	"pravet/internal/source"
)

func (c *program) why() *cobra.Command {
	var format, on, at, other string
	var with []string
	cmd := &cobra.Command{
		Use:     "why PERSON [THING]",
		Short:   "Say what a person has and should have, and which line of the files is why",
		GroupID: seeing,
		Long: `Why answers as a tree: from the person to the rules that match, to the kits, to
the things that they give, to what those bring along. Each rule stands with its
file and line, and with who changed that line last. Of what an application
exported it says what the person has, what is to come and what is to go.

With a thing, APPLICATION/KIND/NAME, it shows only what has to do with that; of
a thing that is not due it says what stands in the way, the nearest reason
first. PERSON is an id or a user name.

--on asks what is due on a day by the files and the exports of today; --at how it
was at the end of a past day, by the files and exports that are on record.

--with asks what the person would gain, lose and keep with other attributes, and what
guards would hold of that; someone who is not in the files is taken for new. --beside
puts two people side by side. A question writes nothing.`,
		Example: example(
			"pravet why E0042",
			"pravet why oskar.nyman tickets/role/refund-approver",
			"pravet why E0056 --on 2026-12-01 --format json",
			"pravet why E0056 --with department=Planning --with 'title=Berth planner'",
			"pravet why E0042 --beside E0045",
		),
		Args: takes(1, 2, "about whom?", "pravet why E0042"),
	}
	formatFlag(cmd, &format, "table", "json", "csv")
	dayFlags(cmd, &on, &at)
	cmd.Flags().StringSliceVar(
		&with, "with", nil, "what would become of the person with this: ATTRIBUTE=VALUE (may be repeated)",
	)
	cmd.Flags().StringVar(&other, "beside", "", "what this other person has, side by side")
	cmd.MarkFlagsMutuallyExclusive("with", "beside", "at")
	offer(cmd, "beside", c.completePeople)
	cmd.ValidArgsFunction = func(cmd *cobra.Command, args []string, begin string) ([]string, cobra.ShellCompDirective) {
		switch len(args) {
		case 0:
			return c.completePeople(cmd, args, begin)
		case 1:
			return c.completeThings(cmd, args, begin)
		}
		return nil, noFiles
	}
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		dir, today, err := c.where(on)
		if err != nil {
			return err
		}
		if len(with) > 0 || other != "" {
			if len(args) == 2 {
				return usage(say.ThingBeside(args[1]))
			}
			if other != "" {
				return c.beside(dir, args[0], other, today, format)
			}
			return c.whatIf(dir, args[0], with, today, format)
		}
		tree, err := c.tree(dir)
		if err != nil {
			return err
		}
		var s *prepare.State
		var v *access.View
		var person int
		var was *past
		revision := ""
		if at != "" {
			if was, err = c.past(dir, at, nil); err != nil {
				return err
			}
			defer was.ledger.Close()
			s, v, person, revision = was.state, was.view, was.state.Repo.People.Named(args[0]), was.known.Revision
		} else {
			var missing []error
			s, v, person, missing, err = c.find(dir, tree, args[0], today)
			if err := c.told(s, missing, err); err != nil {
				return err
			}
			if err := c.remember(dir, s.Repo, v); err != nil {
				return err
			}
		}
		if person < 0 {
			return usage(say.NoPersonThen(args[0], at))
		}
		var thing *model.AppThing
		if len(args) == 2 {
			x, err := thingOf(s.Repo, args[1])
			if err != nil {
				return err
			}
			thing = &x
		}
		answer := v.Why(person, thing)
		if was == nil {
			rejected, err := c.rejected(dir, s.Repo, today)
			if err != nil {
				return err
			}
			answer.Opens(rejected)
		}
		blame(dir, revision, answer)
		if format == "table" {
			p := show.NewPrinter(c.Stdout, c.Environ)
			p.Answer(answer)
			if was != nil {
				return errors.Join(p.Err(), c.said(was))
			}
			return p.Err()
		}
		return show.Output(c.Stdout, c.Environ, format, show.AnswerTable(answer))
	}
	return cmd
}

// blame adds to the places of an answer who changed them last, as of a revision.
func blame(dir, revision string, a *access.Answer) {
	lines := map[string][]int{}
	a.Places(func(p *access.Place) {
		if p.File != "" && p.Line > 0 && !slices.Contains(lines[p.File], p.Line) {
			lines[p.File] = append(lines[p.File], p.Line)
		}
	})
	changes := map[string]map[int]gitrepo.Change{}
	for file, of := range lines {
		changes[file] = gitrepo.Lines(dir, revision, file, of...)
	}
	a.Places(func(p *access.Place) {
		change, ok := changes[p.File][p.Line]
		switch {
		case !ok:
		case change.By == "":
			p.Commit = "not committed yet"
		default:
			p.ChangedBy, p.ChangedOn, p.Commit = change.By, change.On.Format("2006-01-02"), change.Commit
		}
	})
}

// told tells what is wrong with the files, and which exports are missing.
func (c *program) told(s *prepare.State, missing []error, err error) error {
	for _, m := range missing {
		fmt.Fprintln(c.Stderr, m)
	}
	if errors.Is(err, prepare.ErrProblems) {
		return c.problems(s)
	}
	return err
}

// find finds someone by id or user name, or by a display name that nobody else has.
func (c *program) find(
	dir string,
	tree *source.Tree,
	name string,
	today day.Day,
) (s *prepare.State, v *access.View, person int, missing []error, err error) {
	s, v, person, missing, err = prepare.Find(c.ctx, tree, name, today)
	if err != nil || person >= 0 {
		return s, v, person, missing, err
	}
	id, err := c.called(dir, name)
	if err != nil {
		return s, nil, -1, nil, err
	}
	return prepare.Find(c.ctx, tree, id, today)
}

// called is the id of the one person with a display name. Where there are several, or
// nobody, the error says so, with the nearest that there is.
func (c *program) called(dir, name string) (id string, err error) {
	repo, err := c.rules(dir)
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
		return "", usage(say.ManyPeople(name, called[:min(n, maxListed)], n))
	}
	return "", usage(say.NoPerson(name, repo.NearestPerson(name)))
}

// thingOf finds a thing by its address.
func thingOf(repo *desired.Repo, text string) (model.AppThing, error) {
	address, err := model.ParseAddress(text)
	if err != nil {
		return model.AppThing{}, usage(err)
	}
	a := repo.App(address.App)
	if a < 0 {
		return model.AppThing{}, usage(prepare.UnknownName("application", address.App, repo.AppIDs()))
	}
	kind, ok := model.ParseKind(address.Kind)
	if !ok {
		return model.AppThing{}, usage(say.NotAThing(text))
	}
	app := repo.Apps[a]
	if t := app.Thing(kind, address.Name); t >= 0 {
		return model.AppThing{App: a, Thing: t}, nil
	}
	var all []string
	for t := range app.Things {
		all = append(all, app.Address(int32(t)).String())
	}
	return model.AppThing{}, usage(say.NoThing(app.ID, kind, address.Name, table.Nearest(text, all)))
}
