package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"pravet/docs/schema"
	"pravet/internal/core/access"
	"pravet/internal/core/day"
	"pravet/internal/core/model"
	"pravet/internal/desired"
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
	_ = cmd.RegisterFlagCompletionFunc(
		"schema",
		cobra.FixedCompletions(schema.Names(), cobra.ShellCompDirectiveNoFileComp),
	)
	cmd.RunE = func(*cobra.Command, []string) error {
		if schemaName != "" {
			text, err := schema.Get(schemaName)
			if err != nil {
				return usage("%w", err)
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
			implied(repo, today)
		}
		return c.report(repo, matches, rules, format)
	}
	return cmd
}

// implied warns of what the files ask for and no plan will give.
func implied(repo *desired.Repo, today day.Day) {
	v := access.Look(access.Input{
		People: repo.People, Apps: repo.Apps, Kits: repo.Kits, Accounts: make([]*model.Accounts, len(repo.Apps)), Today: today,
		Separations: repo.Separations, Exceptions: repo.Exceptions,
	})
	for _, x := range v.Implied() {
		if x.License != nil {
			repo.Warn(x.Pos, "too-few-seats", fmt.Sprintf(
				"%s need %s of %s, and %s bought", model.Count(x.Count, "person would", "people"), x.License, x.App,
				model.Count(x.License.Seats, "seat was", "seats were"),
			), "buy more, or let fewer kits give it")
			continue
		}
		names := strings.Join(x.People, ", ")
		if more := x.Count - len(x.People); more > 0 {
			names += fmt.Sprintf(" and %s more", model.Thousands(more))
		}
		repo.Warn(x.Pos, "apart", fmt.Sprintf(
			"the files give both sides of the separation %q to %s: %s", x.Separation,
			model.Count(x.Count, "person", "people"), names,
		), "change a rule, or add an exception to standing.yaml")
	}
}

// report writes what check found and what it read.
func (c *program) report(repo *desired.Repo, matches []desired.Match, rules bool, format string) error {
	problems := repo.Problems.Sorted()
	errors, warnings := 0, 0
	for _, p := range problems {
		if p.Severity == source.Error {
			errors++
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
	fmt.Fprintf(c.Stderr, "Read %s: %s, %s, %s, %s; %s, %s.\n", model.Count(repo.Files, "file", "files"),
		model.Count(repo.People.Len(), "person", "people"), model.Count(len(repo.Apps), "application", "applications"),
		model.Count(len(repo.Kits), "kit", "kits"), model.Count(len(matches), "rule", "rules"),
		model.Count(errors, "error", "errors"), model.Count(warnings, "warning", "warnings"))
	if errors > 0 {
		return &statusError{status: Failed}
	}
	return nil
}
