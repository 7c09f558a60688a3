package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"pravet/internal/core/model"
	"pravet/internal/core/words"
	"pravet/internal/desk"
	"pravet/internal/show"
)

func (c *program) draft() *cobra.Command {
	var apps []string
	var only, on, out string
	var exitStatus, dry, fetch bool
	cmd := &cobra.Command{
		Use:     "draft",
		Short:   "Draft a plan of every difference between the files and the exports",
		GroupID: deciding,
		Long: `Draft compares the files with what each application exported and writes a plan:
every difference as one change, in an order that works, each with its reasons,
its effect and what holds it. Nothing is changed in any application.

The same files, exports and day give the same bytes. With --dry the plan is shown,
and nothing is written: no plan, and no entry in the ledger.

Exit status: 0 done; with --exit-status 3 when changes wait.`,
		Example: example(
			"pravet draft",
			"pravet draft --app tickets --only 'department eq \"Deck\"'",
			"pravet draft --on 2026-12-01 --out -",
			"pravet draft --dry",
		),
		Args: takes(0, 0, "", ""),
	}
	cmd.Flags().StringSliceVar(&apps, "app", nil, "only this application (may be repeated)")
	cmd.Flags().StringVar(&only, "only", "", "only people that this filter matches")
	cmd.Flags().StringVar(&on, "on", "", "draft for this day, YYYY-MM-DD (default: today)")
	cmd.Flags().
		StringVar(&out, "out", "", "write the plan to this file, - for standard output (default: plans/ID.json)")
	cmd.Flags().BoolVar(&dry, "dry", false, "show what the plan would be, and write nothing")
	cmd.MarkFlagsMutuallyExclusive("dry", "out")
	cmd.Flags().BoolVar(&fetch, "fetch", false, "fetch live applications first")
	cmd.MarkFlagsMutuallyExclusive("dry", "fetch")
	cmd.Flags().BoolVar(&exitStatus, "exit-status", false, "end with status 3 when changes wait")
	offer(cmd, "app", c.completeApps)
	cmd.RunE = func(*cobra.Command, []string) error {
		d, day, err := c.on(on)
		if err != nil {
			return err
		}
		x := c.drafting(out)
		x.Apps, x.Only, x.On, x.Fetch = apps, only, day, fetch
		if dry {
			return c.dry(d, x, exitStatus)
		}
		drafted, err := d.Draft(x)
		if err != nil {
			return err
		}
		return c.drafted(drafted, exitStatus)
	}
	return cmd
}

// drafting is a plan that is written to where --out says.
func (c *program) drafting(out string) desk.Drafting {
	if out == "-" {
		return desk.Drafting{To: c.raw}
	}
	return desk.Drafting{Out: out}
}

// dry shows what a plan would be. Nothing is written.
func (c *program) dry(d *desk.Desk, x desk.Drafting, exitStatus bool) error {
	p, err := d.Dry(x)
	if err != nil {
		return err
	}
	v, sel, err := c.view(d, p, desk.Choice{})
	if err != nil {
		return err
	}
	err = c.paged(func(pr *show.Printer) error {
		if err := c.write(pr, v, &shownAs{}, sel); err != nil {
			return err
		}
		pr.Line(show.Dim(sayDry()))
		return pr.Err()
	})
	if err == nil && exitStatus && len(p.Changes) > 0 {
		return &statusError{status: LeftForPerson}
	}
	return err
}

// closed says what came of runs whose books were still open.
func (c *program) closed(x desk.Closed) {
	if x.UnderWay != "" {
		c.tell(sayUnderWay(x.UnderWay))
	}
	for _, u := range x.Runs {
		c.tell(u.String())
		for _, w := range u.Warnings {
			c.tell("  " + w)
		}
	}
	for _, h := range x.Held {
		c.tell(sayHeldUp(h.App, h.Run, h.Err))
	}
	for _, a := range x.Arrived {
		c.tell(sayArrived(a.Run, a.App, a.Seen, a.Of, a.Missing))
	}
}

// drafted says what the plan amounts to and what can be done next.
func (c *program) drafted(x *desk.Drafted, exitStatus bool) error {
	p, w := x.Plan, c.Stdout
	if x.File == "" {
		w = c.Stderr
	}
	pr := show.NewPrinter(w, c.Environ)
	pr.Head(p)
	for i := range p.Exports {
		e := &p.Exports[i]
		n := 0
		for j := range p.Changes {
			if p.Changes[j].App == e.App {
				n++
			}
		}
		pr.Linef(
			"  %-12s  %s, %s",
			words.Clean(e.App),
			model.Count(n, "change", "changes"),
			model.Count(e.Accounts, "account", "accounts"),
		)
	}
	pr.Unseen(p)
	pr.Aside(p)
	if x.File != "" {
		name := p.ID
		if !strings.HasPrefix(x.File, "plans/") {
			name = x.File
		}
		where, next := sayDrafted(x.File, c.inEnv(name))
		pr.Line(where)
		pr.Line(show.Dim(next))
	}
	if err := pr.Err(); err != nil {
		return err
	}
	if x.File != "" && len(p.Changes) == 0 && p.Desired.Revision == "" && len(p.Exports) > 0 {
		c.leads(func() string { return c.opened.NextStep("draft") })
	}
	if exitStatus && len(p.Changes) > 0 {
		return &statusError{status: LeftForPerson}
	}
	return nil
}

// sayArrived is what the export of an application shows of changes that waited.
func sayArrived(run, app string, seen, of int, missing []string) string {
	text := fmt.Sprintf(
		"%s: of %s that waited in %s, the export shows %d now",
		app,
		model.Count(of, "change", "changes"),
		run,
		seen,
	)
	if len(missing) > 0 {
		text += "; still missing:"
	}
	for _, m := range missing {
		text += "\n  " + m
	}
	return text
}

// sayUnderWay is a run of somebody else while a plan is drafted.
func sayUnderWay(holder string) string {
	return "A run is under way, so this plan may soon be out of date: " + holder
}

// sayDry is said below what a plan would be.
func sayDry() string {
	return "This is what the plan would be; nothing was written. Write it with: pravet draft"
}

// sayDrafted is where a plan is, and how it is read; name is its id, or its file.
func sayDrafted(file, name string) (where, next string) {
	return "Written to " + file, "Read it with: pravet show " + name
}
