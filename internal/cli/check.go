package cli

import (
	"errors"
	"fmt"
	"slices"

	"github.com/spf13/cobra"

	"pravet/docs/schema"
	"pravet/internal/core/access"
	"pravet/internal/core/day"
	"pravet/internal/core/draft"
	"pravet/internal/core/model"
	"pravet/internal/core/words"
	"pravet/internal/desired"
	"pravet/internal/gitrepo"
	"pravet/internal/prepare"
	"pravet/internal/say"
	"pravet/internal/show"
	"pravet/internal/source"
)

func (c *program) check() *cobra.Command {
	var format, on, schemaName string
	var rules bool
	cmd := &cobra.Command{
		Use:     "check",
		Short:   "Check all files and say how many people each rule matches",
		GroupID: keeping,
		Long: `Check reads every file of the desired state and reports all problems of all
files at once, sorted by place, each with what to do about it. Then it says how
many people each kit's rule matches. No application is read.

--rules shows each rule with its place and, of each comparison by co ("holds"),
the people whom it alone catches, by their values: what was written a bit wide
may catch more than was meant. A value in which the text stands only inside a
longer word is marked.

Exit status: 0 when there is no error (warnings may be there), 1 otherwise.`,
		Example: example(
			"pravet check",
			"pravet check --rules",
			"pravet check --format sarif",
			"pravet check --schema kits",
		),
		Args: takes(0, 0, "", ""),
	}
	formatFlag(cmd, &format, "table", "json", "csv", "sarif")
	cmd.Flags().StringVar(&on, "on", "", "count dates from this day, YYYY-MM-DD (default: today)")
	cmd.Flags().
		BoolVar(&rules, "rules", false, "show each rule with its place, and whom only a comparison by co catches")
	cmd.Flags().StringVar(&schemaName, "schema", "", "print the JSON Schema of a kind of file instead")
	offer(cmd, "schema", cobra.FixedCompletions(schema.Names(), noFiles))
	cmd.RunE = func(*cobra.Command, []string) error {
		if schemaName != "" {
			text, err := schema.Get(schemaName)
			if err != nil {
				return usage(err)
			}
			_, err = c.Stdout.Write(text)
			return err
		}
		dir, today, err := c.where(on)
		if err != nil {
			return err
		}
		repo, err := c.rules(dir)
		if err != nil {
			return err
		}
		repo.ReadPeople()
		matches := repo.Matches(today, rules)
		if repo.Problems.Errors() == 0 {
			repo.Clashes(today)
			c.unfitting(repo, today)
			if err := c.warnings(dir, repo, today); err != nil {
				return err
			}
		}
		return c.checked(repo, matches, rules, format)
	}
	return cmd
}

// unfitting warns of names of accounts that no account of an export has. An application whose export cannot
// be read is left out: to read exports is for drafts.
func (c *program) unfitting(repo *desired.Repo, today day.Day) {
	s := prepare.Of(repo)
	for a, app := range repo.Apps {
		names := draft.NamedAccounts(app, repo.Kept, repo.Paths)
		if len(names)+len(app.ProtectBy)+len(app.AloneBy) == 0 {
			continue
		}
		state, err := s.Reached[a].Read(c.ctx)
		if err != nil {
			continue
		}
		for _, u := range draft.Unfitting(app, state.Accounts, app.Select(state.Accounts, today), names) {
			repo.Warn(u.Pos, string(u.Fact.Kind), words.Of(&u.Fact), "correct it, or remove it")
		}
	}
}

// warnings are those about the files as they are: what they imply, and what is
// sensitive and given to more people than at the last run or, before the first, in the
// last commit.
func (c *program) warnings(dir string, repo *desired.Repo, today day.Day) error {
	v := access.Look(access.Input{
		People: repo.People, Apps: repo.Apps, Kits: repo.Kits, Accounts: make([]*model.Accounts, len(repo.Apps)),
		Today: today, Separations: repo.Separations, Exceptions: repo.Exceptions,
	})
	list := slices.Concat(v.Implied(), v.Outside(repo.Outsiders))
	base, err := c.carriedOut(dir)
	if err != nil { // the files can be checked all the same
		fmt.Fprintln(c.Stderr, say.NoLedgerToCompare(err))
		base, _ = gitrepo.Revision(dir)
	}
	if base != "" && len(gitrepo.Changed(dir, base)) > 0 {
		_, then, err := prepare.At(c.ctx, repo.Tree, base, today)
		switch {
		case errors.Is(err, gitrepo.ErrNoRevision):
		case errors.Is(err, prepare.ErrProblems):
			fmt.Fprintln(c.Stderr, say.NotCompared(base[:min(10, len(base))]))
		case err != nil:
			return err
		default:
			for _, w := range access.Gained(access.Compare(then, v)) {
				w.Fact.Via = base[:min(10, len(base))]
				list = append(list, w)
			}
		}
	}
	for i := range list {
		f := &list[i].Fact
		repo.Warn(list[i].Pos, string(f.Kind), words.Of(f), words.Remedy(f))
	}
	return nil
}

// carriedOut is the revision whose files were carried out last; where nothing was, the
// last commit, and "" where there is none.
func (c *program) carriedOut(dir string) (string, error) {
	l, err := c.questioned(dir)
	if err != nil {
		return "", err
	}
	defer l.Close()
	base, err := prepare.CarriedOut(l, "")
	if err == nil && base == "" {
		base, _ = gitrepo.Revision(dir)
	}
	return base, err
}

// checked writes what check found and what it read.
func (c *program) checked(repo *desired.Repo, matches []desired.Match, rules bool, format string) error {
	problems := repo.Problems.Sorted()
	wrong, warnings := 0, 0
	for _, p := range problems {
		if p.Severity == source.Error {
			wrong++
		} else {
			warnings++
		}
	}
	var err error
	switch format {
	case "json":
		err = show.PrintJSON(c.Stdout, show.Report(problems, matches))
	case "csv":
		err = show.PrintCSV(c.Stdout, show.ProblemTable(problems))
	case "sarif":
		err = show.SARIF(c.Stdout, problems, c.Version)
	default:
		p := show.NewPrinter(c.Stdout, c.Environ)
		p.Problems(problems)
		switch {
		case rules:
			p.Rules(matches)
		case len(matches) > 0:
			p.Print(show.MatchTable(matches))
		}
		err = p.Err()
	}
	if err != nil {
		return err
	}
	fmt.Fprintln(c.Stderr, say.Read(
		repo.Files, repo.People.Len(), len(repo.Apps), len(repo.Kits), len(matches), wrong, warnings,
	))
	if wrong > 0 {
		return &statusError{status: Failed}
	}
	return nil
}
