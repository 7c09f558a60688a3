package cli

import (
	"bytes"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"pravet/internal/core/day"
	"pravet/internal/core/model"
	"pravet/internal/core/report"
	"pravet/internal/desired"
	"pravet/internal/ledger"
	"pravet/internal/prepare"
	"pravet/internal/say"
	"pravet/internal/show"
	"pravet/internal/source"
)

// reporting is what a report was asked for.
type reporting struct {
	format, at, out string
	idle            string
	from, to        string
	apps            []string
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
record. Changes and approvals are those of a span: --from and --to, the last 30 days
where nothing else is said.

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
	f.StringVar(&x.at, "at", "", "how it was at the end of this past day, by what is on record, YYYY-MM-DD")
	f.StringVar(&x.out, "out", "", "write into this file: .html, .csv, .json or .md")
	f.StringVar(&x.idle, "idle", "P90D", "after how long without a sign-in an account is idle")
	f.StringVar(
		&x.from,
		"from",
		"",
		"the first day of changes and approvals, YYYY-MM-DD (default: 30 days before the last)",
	)
	f.StringVar(&x.to, "to", "", "their last day (default: the day of the report)")
	f.StringSliceVar(&x.apps, "app", nil, "only this application (may be repeated)")
	offer(cmd, "app", c.completeApps)
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
				return usage(say.OutEnding(x.out))
			}
		}
		if x.format == "csv" && len(args) != 1 {
			return usage(say.OneReportAsCSV(names))
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
	dir, today, err := c.where("")
	if err != nil {
		return err
	}
	in := &report.Input{}
	if in.Idle, err = day.ParseDuration(x.idle); err != nil {
		return usage(say.Flag("idle", err))
	}
	page := &show.Page{Day: today.String()}
	l, repo, err := c.reported(dir, x, in, page, today)
	if err != nil {
		return err
	}
	defer l.Close()
	page.Organization, in.Outsiders = repo.Organization, repo.Outsiders
	if in.To, err = spanDay("to", x.to, in.View.Today); err != nil {
		return err
	}
	if in.From, err = spanDay("from", x.from, in.To.Back(day.Duration{Days: 30})); err != nil {
		return err
	}
	if in.From > in.To {
		return usage(say.SpanTurned(in.From, in.To))
	}
	if err := recorded(l, in); err != nil {
		return err
	}
	for _, k := range report.Kinds {
		if len(names) == 0 || slices.Contains(names, k.Name) {
			page.Tables = append(page.Tables, k.Of(in))
		}
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

func spanDay(flag, text string, otherwise day.Day) (day.Day, error) {
	if text == "" {
		return otherwise, nil
	}
	d, err := day.Parse(text)
	if err != nil {
		return 0, usage(say.Flag(flag, err))
	}
	return d, nil
}

// reported reads what reports are of: how it is, or with --at how it was. The caller closes the
// ledger.
func (c *program) reported(
	dir string, x *reporting, in *report.Input, page *show.Page, today day.Day,
) (ledger.Ledger, *desired.Repo, error) {
	if x.at != "" {
		was, err := c.past(dir, x.at, x.apps)
		if err != nil {
			return nil, nil, err
		}
		if len(was.known.Exports) == 0 && was.known.Revision == "" {
			was.ledger.Close()
			return nil, nil, fail(Failed, say.BeforeTheLedger(x.at))
		}
		in.View, page.Day = was.view, was.day.String()
		page.Notes = append(
			page.Notes,
			say.AsOf(was.day.String(), was.known.Revision[:min(10, len(was.known.Revision))], was.known.Exports),
		)
		for _, m := range was.known.Missing {
			page.Notes = append(page.Notes, m.Error())
		}
		return was.ledger, was.state.Repo, nil
	}
	repo, err := c.rules(dir)
	if err != nil {
		return nil, nil, err
	}
	repo.ObserveAll()
	s, v, missing, err := prepare.Look(c.ctx, repo, x.apps, today)
	if err := c.told(s, missing, err); err != nil {
		return nil, nil, err
	}
	for _, m := range missing {
		page.Notes = append(page.Notes, m.Error())
	}
	v.Only(x.apps)
	in.View = v
	if err := c.remember(dir, repo, v); err != nil {
		return nil, nil, err
	}
	l, err := c.questioned(dir)
	return l, repo, err
}

// writeReport writes reports in a format.
func (c *program) writeReport(w io.Writer, page *show.Page, format string) error {
	switch format {
	case "csv":
		return show.ReportCSV(w, page.Tables[0])
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

// recorded reads what was changed and decided in the span.
func recorded(l ledger.Ledger, in *report.Input) error {
	return l.Scan(ledger.Query{Kinds: []ledger.Kind{ledger.Outcome, ledger.Decided}}, func(e *ledger.Entry) error {
		on, err := day.Parse(e.At[:min(len(e.At), len("2006-01-02"))])
		if err != nil || on < in.From || on > in.To {
			return nil
		}
		if e.Kind == ledger.Decided {
			d, err := ledger.Decode[ledger.Decision](e)
			if err != nil {
				return err
			}
			in.Decisions = append(in.Decisions, decided(e, d, on)...)
			return nil
		}
		o, err := ledger.Decode[ledger.ChangeOutcome](e)
		if err != nil || !o.Settled {
			return err
		}
		effect := model.Keeps
		if verb, ok := model.ParseVerb(o.Verb); ok {
			effect = verb.Effect()
		}
		in.Changes = append(in.Changes, report.Change{
			On: on.String(), App: o.App, Verb: o.Verb, Account: o.Account, Person: o.Person, What: o.What, Run: o.Run,
			By: say.Name(e.By), Effect: effect.String(),
		})
		return nil
	})
}

// decided is a decision as rows: one for each change that it names, one for a whole plan.
func decided(e *ledger.Entry, d ledger.Decision, on day.Day) (out []report.Decision) {
	row := report.Decision{On: on.String(), By: say.Name(e.By), Verdict: d.Verdict, Plan: d.Plan, Because: d.Because}
	if len(d.Changes) == 0 {
		row.What = say.WholePlan(d.Guards)
		return []report.Decision{row}
	}
	for i, id := range d.Changes {
		row.What = id
		if i < len(d.What) && d.What[i] != "" {
			row.What = d.What[i]
		}
		out = append(out, row)
	}
	return out
}
