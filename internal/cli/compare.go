package cli

import (
	"cmp"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"pravet/internal/core/access"
	"pravet/internal/desk"
	"pravet/internal/show"
)

func (c *program) compare() *cobra.Command {
	var format, on string
	var with []string
	var full, summary bool
	var groupBy string
	cmd := &cobra.Command{
		Use:     "compare [REVISION [REVISION]]",
		Short:   "Say whose access differs between two revisions of the files, and why",
		GroupID: seeing,
		Long: `Compare reads the files as they are in one Git revision and in another, and says
who gains what and who loses what: who may sign in to which application, and what
they have there in the end, also by what brings it along. Each difference comes
with the line that causes it. No application is looked at.

With one revision, it is compared with the files as they are now; with none, the
last commit is. With --with, it is compared with itself and a file that is not
committed yet: what would this file alone change? --format markdown is for a merge
request. What is too much for a screen is folded: alike differences of one cause, with
how many people they are about.

Exit status: 0 whether something differs or not; 1 when the files of a revision
do not pass.`,
		Example: example("pravet compare", "pravet compare HEAD~1", "pravet compare HEAD~2 HEAD~1 --format markdown",
			"pravet compare --with kits/ashore.yaml"),
		Args: takes(0, 2, "", "pravet compare HEAD~2 HEAD~1"),
	}
	formatFlag(cmd, &format, "table", "json", "csv", "markdown")
	cmd.Flags().StringVar(&on, "on", "", "compare what is due on this day, YYYY-MM-DD (default: today)")
	cmd.Flags().BoolVar(&full, "full", false, "every difference, however many there are")
	cmd.Flags().BoolVar(&summary, "summary", false, "only how many differences there are in each application")
	cmd.Flags().StringVar(&groupBy, "group-by", "", "fold alike differences, by "+strings.Join(differenceGroupings, ", ")+", or an attribute of people")
	cmd.MarkFlagsMutuallyExclusive("full", "summary", "group-by")
	offer(cmd, "group-by", cobra.FixedCompletions(append(slices.Clone(differenceGroupings), "department", "title", "location"), noFiles))
	cmd.Flags().StringSliceVar(
		&with, "with", nil, "compare the last commit with itself and this file as it is now (may be repeated)",
	)
	cmd.ValidArgsFunction = c.completeRevisions
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		d, day, err := c.on(on)
		if err != nil {
			return err
		}
		if slices.Contains(args, "") {
			return usage(sayEmptyRevision())
		}
		revisions := [2]string{"HEAD", ""}
		copy(revisions[:], args)
		for _, file := range with {
			if !filepath.IsLocal(filepath.FromSlash(file)) {
				return usage(sayOutside(file))
			}
		}
		if len(with) > 0 {
			if len(args) > 1 {
				return usage(sayTooManyForWith())
			}
			revisions[1] = revisions[0]
		}
		var views [2]*access.View
		for i, revision := range revisions {
			var files []string
			if i == 1 {
				files = with
			}
			if views[i], err = d.Revision(revision, files, day); err != nil {
				return err
			}
		}
		list := access.Compare(views[0], views[1])
		warnings := slices.Concat(access.Deciding(views[0], views[1]), views[1].Implied(), access.Gained(list))
		switch format {
		case "markdown":
			return show.DifferencesMarkdown(
				c.Stdout,
				list,
				warnings,
				"Access of "+named(revisions[1], with...)+", compared with "+named(revisions[0]),
			)
		case "table":
			_, lines := show.Size(c.Stdout, c.Environ)
			var groups []show.DifferenceGroup
			if groupBy != "" {
				if groups, err = groupDifferences(list, views, groupBy); err != nil {
					return err
				}
			}
			return c.paged(func(p *show.Printer) error {
				if summary {
					p.DifferencesSummary(list, warnings)
					return p.Err()
				}
				if groupBy != "" {
					p.DifferencesGrouped(list, groups, warnings)
					return p.Err()
				}
				if full || len(list) <= lines {
					p.Differences(list, warnings)
				} else {
					p.DifferencesFolded(list, warnings)
				}
				return p.Err()
			})
		}
		for i := range warnings {
			fmt.Fprintln(c.Stderr, show.WarningLine(&warnings[i]))
		}
		return show.Output(c.Stdout, c.Environ, format, show.DifferenceTable(list))
	}
	return cmd
}

// differenceGroupings are what differences can be grouped by, besides attributes of people.
var differenceGroupings = []string{"app", "person", "thing", "effect", "cause"}

// groupDifferences groups differences, those of the most first.
func groupDifferences(list []access.Difference, views [2]*access.View, by string) (out []show.DifferenceGroup, err error) {
	key := map[string]func(d *access.Difference) string{
		"app":    func(d *access.Difference) string { return d.App },
		"person": func(d *access.Difference) string { return strings.TrimSpace(d.Name + "  " + d.Person) },
		"thing":  func(d *access.Difference) string { return strings.TrimSpace(d.App + " " + d.Kind + " " + d.Thing) },
		"effect": func(d *access.Difference) string { return d.Effect.String() },
		"cause": func(d *access.Difference) string {
			if d.Because.File == "" {
				return d.Because.Says
			}
			return fmt.Sprintf("%s:%d", d.Because.File, d.Because.Line)
		},
	}[strings.ToLower(by)]
	if key == nil {
		name := ""
		for _, v := range views {
			for _, a := range v.People.Attributes() {
				if strings.EqualFold(a, by) {
					name = a
				}
			}
		}
		if name == "" {
			return nil, usage(desk.SayNotOneOf("group-by", by, append(slices.Clone(differenceGroupings), views[1].People.Attributes()...)))
		}
		key = func(d *access.Difference) string {
			for _, v := range []*access.View{views[1], views[0]} {
				if p := v.People.Named(d.Person); d.Person != "" && p >= 0 {
					return name + ": " + cmp.Or(v.People.Get(p, name), "none")
				}
			}
			return "definitions"
		}
	}
	at := map[string]int{}
	for i := range list {
		k := cmp.Or(key(&list[i]), "definitions")
		n, ok := at[k]
		if !ok {
			n = len(out)
			at[k] = n
			out = append(out, show.DifferenceGroup{Title: k})
		}
		out[n].List = append(out[n].List, list[i])
	}
	slices.SortStableFunc(out, func(x, y show.DifferenceGroup) int { return len(y.List) - len(x.List) })
	return out, nil
}

func named(revision string, with ...string) string {
	if len(with) > 0 {
		return revision + " with " + strings.Join(with, ", ")
	}
	if revision == "" {
		return "the files as they are"
	}
	return revision
}

// sayEmptyRevision is a revision without a name.
func sayEmptyRevision() error {
	return errors.New("the name of a revision is empty; name one, for example HEAD~1")
}

// sayTooManyForWith is a second revision beside --with.
func sayTooManyForWith() error {
	return errors.New("--with compares one revision with itself and files as they are now; name one revision at most")
}

// sayOutside is a file that is not in the repository.
func sayOutside(file string) error {
	return fmt.Errorf(
		"--with: %s is not a file of this repository; name one below its folder, for example kits/new.yaml",
		file,
	)
}
