package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"pravet/docs/schema"
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

--rules shows each rule with its place. For each comparison with co (contains),
it also lists, by value, the people whom only that comparison matches: a rule
that is too broad may match more people than intended. A value in which the text stands only inside a
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
	cmd.Flags().StringVar(&schemaName, "schema", "", "print the JSON Schema of a kind of file instead, or of what a command writes (output/COMMAND)")
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
		d, day, err := c.on(on)
		if err != nil {
			return err
		}
		x, err := d.Check(day, rules)
		if err != nil {
			return err
		}
		if x.NoLedger != nil {
			c.tell(sayNoLedgerToCompare(x.NoLedger))
		}
		if x.NotCompared != "" {
			c.tell(sayNotCompared(x.NotCompared))
		}
		return c.checked(x.Repo, x.Matches, rules, format)
	}
	return cmd
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
	fmt.Fprintln(c.Stderr, sayRead(
		repo.Files, repo.People.Len(), len(repo.Apps), len(repo.Kits), len(matches), wrong, warnings,
	))
	if wrong > 0 {
		return &statusError{status: Failed}
	}
	return nil
}

// sayRead is what check has read.
func sayRead(files, people, apps, kits, rules, errors, warnings int) string {
	return fmt.Sprintf(
		"Read %s: %s, %s, %s, %s; %s, %s.", model.Count(files, "file", "files"),
		model.Count(people, "person", "people"), model.Count(apps, "application", "applications"),
		model.Count(kits, "kit", "kits"), model.Count(rules, "rule", "rules"),
		model.Count(errors, "error", "errors"), model.Count(warnings, "warning", "warnings"),
	)
}

// sayNotCompared is said where check cannot tell who gains something sensitive.
func sayNotCompared(revision string) string {
	return "The files of revision " + revision + " do not pass, so nothing is said of who would gain something sensitive."
}

// sayNoLedgerToCompare is said where check cannot tell what was carried out last.
func sayNoLedgerToCompare(err error) string {
	return fmt.Sprintf("What was carried out last is not known, so the last commit is compared with: %v", err)
}
