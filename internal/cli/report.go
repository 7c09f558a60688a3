package cli

import (
	"bytes"
	"fmt"
	"io"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"pravet/internal/core/model"
	"pravet/internal/core/report"
	"pravet/internal/desk"
	"pravet/internal/prepare"
	"pravet/internal/show"
	"pravet/internal/source"
)

// reporting is what a report was asked for.
type reporting struct {
	desk.Reporting
	format, out string
}

func (c *program) report() *cobra.Command {
	x := &reporting{}
	var names []string
	for _, k := range report.Kinds {
		names = append(names, k.Name)
	}
	cmd := &cobra.Command{
		Use:     "report [REPORT ...]",
		Short:   "Answer who has access, who never uses it, what it costs, who approved what",
		GroupID: seeing,
		Long: "Report answers what auditors and heads of departments ask; without a name, all of it:\n\n" + kindsHelp() + `
--at answers it as it was at the end of a past day, by the files and exports that are on
record. Changes and approvals cover the days from --from to --to (default: the last 30
days).

As a table, CSV, JSON, Markdown, or one HTML page that needs nothing else: with charts,
for print, and for a screen reader. --out writes into a file, and takes the format by its
ending.`,
		Example: example(
			"pravet report administrators",
			"pravet report access --format csv",
			"pravet report --out access.html",
			"pravet report administrators --at 2026-11-24",
		),
		Args:      takes(0, -1, "", ""),
		ValidArgs: names,
	}
	formatFlag(cmd, &x.format, show.ReportFormats...)
	f := cmd.Flags()
	f.StringVar(&x.At, "at", "", "how it was at the end of this past day, by what is on record, YYYY-MM-DD")
	f.StringVar(&x.out, "out", "", "write into this file: .html, .csv, .json or .md")
	f.StringVar(&x.Idle, "idle", "P90D", "after how long without a sign-in an account is idle")
	f.StringVar(
		&x.From,
		"from",
		"",
		"the first day of changes and approvals, YYYY-MM-DD (default: 30 days before the last)",
	)
	f.StringVar(&x.To, "to", "", "their last day (default: the day of the report)")
	f.StringSliceVar(&x.Apps, "app", nil, "only this application (may be repeated)")
	offer(cmd, "app", c.completeApps)
	cmd.AddCommand(c.evidence())
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		for _, name := range args {
			if report.Named(name) == nil {
				return prepare.UnknownName("report", name, names)
			}
		}
		if x.out != "" && !cmd.Flags().Changed("format") {
			formats := map[string]string{".html": "html", ".csv": "csv", ".json": "json", ".md": "markdown"}
			x.format = formats[strings.ToLower(filepath.Ext(x.out))]
			if x.format == "" {
				return usage(sayOutEnding(x.out))
			}
		}
		if x.format == "csv" && len(args) != 1 {
			return usage(sayOneReportAsCSV(names))
		}
		return c.reports(args, x)
	}
	return cmd
}

// kindsHelp lists the reports for the help.
func kindsHelp() string {
	var b strings.Builder
	for _, k := range report.Kinds {
		b.WriteString("  " + k.Name + strings.Repeat(" ", 16-len(k.Name)) + k.Title + "\n")
	}
	return b.String()
}

// reports makes reports and writes them.
func (c *program) reports(names []string, x *reporting) error {
	d, err := c.desk()
	if err != nil {
		return err
	}
	x.Names = names
	r, err := d.Report(x.Reporting)
	if err != nil {
		return err
	}
	page := &show.Page{
		Day: r.Day.String(), Organization: r.State.Repo.Organization, Tables: r.Tables, Sources: r.Sources(), From: sayFrom(r.Files, r.Clean),
		Head: sayHead(r.Head.Seq, r.Head.Hash),
	}
	if r.Known != nil {
		page.Notes = append(page.Notes, asOf(r.Sight))
	}
	for _, m := range r.Missing {
		page.Notes = append(page.Notes, m.Error())
	}
	if x.out == "" {
		return c.writeReport(c.Stdout, page, x.format)
	}
	var b bytes.Buffer
	if err := c.writeReport(&b, page, x.format); err != nil {
		return err
	}
	return source.WriteFile(c.path(x.out), &b, 0o644)
}

// writeReport writes reports in a format.
func (c *program) writeReport(w io.Writer, page *show.Page, format string) error {
	switch format {
	case "csv":
		return show.PrintCSV(w, show.ReportTable(page.Tables[0]))
	case "json":
		return show.ReportJSON(w, page)
	case "markdown":
		return show.ReportMarkdown(w, page)
	case "html":
		return page.HTML(w)
	}
	for _, n := range page.Notes {
		fmt.Fprintln(c.Stderr, n)
	}
	return c.paged(func(p *show.Printer) error {
		p.Report(page)
		return p.Err()
	})
}

// sayFrom is which files something follows from.
func sayFrom(revision string, clean bool) string {
	switch {
	case revision == "":
		return "Files outside of Git."
	case !clean:
		return "Files of revision " + revision + ", and changes that are not committed."
	}
	return "Files of revision " + revision + "."
}

// sayHead is the newest entry of the ledger, by which it can be proved later that nothing was taken out.
func sayHead(seq int64, hash string) string {
	if seq == 0 {
		return "The ledger has no entry yet."
	}
	return fmt.Sprintf("Ledger up to entry %s: %s", model.Thousands(int(seq)), hash)
}

// sayOutEnding is an --out whose ending tells no format.
func sayOutEnding(file string) error {
	return fmt.Errorf("--out %s: the ending tells the format: .html, .csv, .json or .md", file)
}

// sayOneReportAsCSV is a CSV file of several reports, or of none.
func sayOneReportAsCSV(names []string) error {
	return fmt.Errorf("CSV holds one report; name one of %s", strings.Join(names, ", "))
}
