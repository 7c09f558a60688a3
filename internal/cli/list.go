package cli

import (
	"errors"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"pravet/internal/core/access"
	"pravet/internal/core/day"
	"pravet/internal/core/filter"
	"pravet/internal/core/table"
	"pravet/internal/prepare"
	"pravet/internal/show"
)

func (c *program) list() *cobra.Command {
	var format, on, at, where, groupBy string
	var columns, sort, apps []string
	cmd := &cobra.Command{
		Use:     "list " + strings.Join(access.Subjects, "|"),
		Short:   "List people, accounts, things, kits, strays, or who is leaving or invited",
		GroupID: seeing,
		Long: `List writes a table of people, of accounts with whose they are, of the things of
all catalogs, of kits, of strays (accounts that belong to nobody), or of those who are
leaving: accounts on a path, with what was done last and what comes next on which day;
or of invitations that nobody has accepted, with the day on which they expire.

--only takes a SCIM filter over the columns; a column with several values
matches when one of them does. --columns chooses columns, "all" for all of them;
--sort sorts by columns; a minus before a name sorts in descending order; --group-by
counts the rows of each value of a column instead.

--on lists what is due on a day by the files and the exports of today; --at how it
was at the end of a past day, by what is on record.

In CSV, cells that a spreadsheet would run as formulas begin with a quote.`,
		Example: example(
			"pravet list people --only 'department eq \"Deck\"' --columns id,displayName,title,kits",
			"pravet list accounts --only 'app eq \"tickets\" and effective eq \"role seller\"' --sort name",
			"pravet list people --group-by department",
			"pravet list things --only 'sensitive eq true' --columns app,kind,name,holders",
			"pravet list strays --format csv",
		),
		Args: cobra.MatchAll(
			takes(1, 1, "a list of what? Of "+strings.Join(access.Subjects, ", ")+".", "pravet list people"),
			func(_ *cobra.Command, args []string) error {
				if !slices.Contains(access.Subjects, args[0]) {
					return usage(prepare.UnknownName("list of", args[0], access.Subjects))
				}
				return nil
			},
		),
		ValidArgs: access.Subjects,
	}
	formatFlag(cmd, &format, "table", "json", "csv")
	f := cmd.Flags()
	f.StringVar(&where, "only", "", "only rows that this filter matches")
	f.StringSliceVar(&columns, "columns", nil, "these columns, in this order; all for all")
	f.StringSliceVar(&sort, "sort", nil, "sort by these columns; -NAME downwards")
	f.StringVar(&groupBy, "group-by", "", "count the rows of each value of this column")
	f.StringSliceVar(&apps, "app", nil, "only this application (may be repeated)")
	dayFlags(cmd, &on, &at)
	offer(cmd, "app", c.completeApps)
	for _, flag := range []string{"columns", "sort", "group-by", "only"} {
		offer(cmd, flag, c.completeColumns)
	}
	cmd.AddCommand(c.waiting())
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		d, day, err := c.on(on)
		if err != nil {
			return err
		}
		x, err := d.Listed(apps, day, at)
		if err != nil {
			return err
		}
		if err := c.follows(x); err != nil {
			return err
		}
		rows := x.Rows(args[0])
		if len(apps) > 0 {
			rows = rows.OfApps(apps)
		}
		chosen, err := selectRows(rows, where, x.Day)
		if err != nil {
			return err
		}
		if groupBy != "" {
			if len(columns)+len(sort) > 0 {
				return usage(sayGroupByAlone())
			}
			column, err := columnOf(rows, "group-by", groupBy)
			if err != nil {
				return err
			}
			return show.Output(c.Stdout, c.Environ, format, show.GroupTable(rows, chosen, column))
		}
		shown := rows.Default
		if len(columns) > 0 {
			if shown, err = columnsOf(rows, columns); err != nil {
				return err
			}
		}
		var by []access.SortBy
		for _, name := range sort {
			column, down := strings.CutPrefix(name, "-")
			if column, err = columnOf(rows, "sort", column); err != nil {
				return err
			}
			by = append(by, access.SortBy{Column: column, Down: down})
		}
		rows.Sort(chosen, by)
		return show.Output(c.Stdout, c.Environ, format, show.RowTable(rows, chosen, shown))
	}
	return cmd
}

// selectRows returns the numbers of the rows that a filter matches; "" for all.
func selectRows(rows *access.Rows, where string, today day.Day) ([]int, error) {
	if where == "" {
		return rows.Select(nil, today), nil
	}
	f, err := filter.Parse(where)
	if err != nil {
		return nil, usage(sayFlag("only", err))
	}
	for _, cl := range f.Clauses() {
		if rows.Column(cl.Attr) == "" {
			return nil, usage(sayFilterColumn(cl.Column, prepare.UnknownName("column", cl.Attr, rows.Columns)))
		}
	}
	return rows.Select(f, today), nil
}

func columnsOf(rows *access.Rows, names []string) (out []string, err error) {
	if len(names) == 1 && table.Fold(names[0]) == "all" {
		return rows.Columns, nil
	}
	for _, n := range names {
		column, err := columnOf(rows, "columns", n)
		if err != nil {
			return nil, err
		}
		out = append(out, column)
	}
	return out, nil
}

func columnOf(rows *access.Rows, flag, name string) (string, error) {
	if c := rows.Column(strings.TrimSpace(name)); c != "" {
		return c, nil
	}
	return "", usage(sayFlag(flag, prepare.UnknownName("column", name, rows.Columns)))
}

// sayGroupByAlone is a --group-by beside what it does not go with.
func sayGroupByAlone() error {
	return errors.New("--group-by counts rows, and goes with neither --columns nor --sort")
}
