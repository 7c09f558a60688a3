package cli

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"pravet/internal/core/model"
	"pravet/internal/core/outline"
	"pravet/internal/core/plan"
	"pravet/internal/core/table"
	"pravet/internal/core/words"
	"pravet/internal/desk"
	"pravet/internal/ledger"
	"pravet/internal/show"
)

func (c *program) show() *cobra.Command {
	var format string
	var as shownAs
	var sel selection
	cmd := &cobra.Command{
		Use:     "show [PLAN]",
		Short:   "Show a plan: what it amounts to and why, or every change with its reasons",
		GroupID: deciding,
		Long: `Show writes a plan as people read it. PLAN is a plan's id, the beginning of one,
or a file; without it, the plan that was drafted here last.

What fits on a screen is written in full: application by application and person by
person, every change with its reasons. A longer plan opens with a summary: how
many changes there are where, what is held, what deserves a look, and what causes
the changes, those with the most first. A cause is a line that was changed, or a
value of people that is not what it was when a plan was carried out last; it has a
name such as :f3kq9, by which accept and reject take all that follows from it.

--only takes a SCIM filter over changes. Its attributes are
` + strings.Join(plan.Attributes, ", ") + `,
and those of people, as in person.department or department.`,
		Example: example(
			"pravet show",
			"pravet show 2w57b --person E0042",
			"pravet show 2w57bede --brief --only 'decision eq \"undecided\" and person.department eq \"Deck\"'",
			"pravet show 2w57bede --group-by department",
			"pravet show plans/2w57bede.json --format markdown",
		),
		Args: takes(0, 1, "", "pravet show 2w57bede"),
	}
	formatFlag(cmd, &format, "table", "json", "csv", "markdown")
	as.flags(cmd)
	sel.flags(c, cmd)
	cmd.ValidArgsFunction = c.completePlans
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		d, err := c.desk()
		if err != nil && (c.repo != "" || len(args) == 0) {
			return err
		}
		if err != nil { // a plan's file can be shown anywhere
			if d, err = c.open(""); err != nil {
				return err
			}
		}
		p, err := c.planOrLast(d, args)
		if err != nil {
			return err
		}
		v, chosen, err := c.view(d, p, sel.Choice)
		if err != nil {
			return err
		}
		switch format {
		case "json":
			var groups []outline.Group
			if as.groupBy != "" {
				key, _, err := chosen.Key(v.Outline, as.groupBy)
				if err != nil {
					return err
				}
				groups = v.Outline.By(key)
			}
			return show.PlanJSON(c.Stdout, v, groups)
		case "csv":
			return show.PrintCSV(c.Stdout, show.PlanTable(v))
		case "markdown":
			return show.PlanMarkdown(c.Stdout, v, as.summary || !as.full && len(v.Changes) > maxMarkdown)
		}
		if err := c.shown(d.Dir, p); err != nil {
			return err
		}
		return c.paged(func(pr *show.Printer) error { return c.write(pr, v, &as, chosen) })
	}
	return cmd
}

// maxMarkdown is of how many changes a merge request has each in a row; it has the
// causes of more.
const maxMarkdown = 100

// shownAs is how a plan is to be shown.
type shownAs struct {
	summary, brief, full, unfold bool
	groupBy                      string
}

func (a *shownAs) flags(cmd *cobra.Command) {
	f := cmd.Flags()
	f.BoolVar(&a.summary, "summary", false, "only what the plan amounts to, and why")
	f.BoolVar(&a.brief, "brief", false, "one line a change, without reasons")
	f.BoolVar(&a.full, "full", false, "every change with its reasons, however many there are")
	f.StringVar(
		&a.groupBy,
		"group-by",
		"",
		"fold alike changes, by "+strings.Join(desk.Groupings, ", ")+", or an attribute of people",
	)
	f.BoolVar(&a.unfold, "unfold", false, "with --group-by, list the changes of each group")
	cmd.MarkFlagsMutuallyExclusive("summary", "brief", "full", "group-by")
	offer(
		cmd, "group-by",
		cobra.FixedCompletions(append(slices.Clone(desk.Groupings), "department", "title", "location"), noFiles),
	)
}

// write writes a view of a plan as it is wanted, or as it fits on a screen.
func (c *program) write(pr *show.Printer, v *show.PlanView, as *shownAs, sel *desk.Selection) error {
	_, lines := show.Size(c.Stdout, c.Environ)
	switch {
	case as.unfold && as.groupBy == "":
		return usage(sayUnfoldAlone())
	case as.groupBy != "":
		key, attr, err := sel.Key(v.Outline, as.groupBy)
		if err != nil {
			return err
		}
		pr.Groups(v, v.Outline.By(key), titled(v.Outline, as.groupBy, attr), as.unfold)
	case as.brief:
		pr.Brief(v)
	case as.summary, !as.full && len(v.Changes) > lines:
		pr.Summary(v, lines)
	default:
		var text bytes.Buffer
		full := pr.To(&text)
		full.Plan(v)
		if !as.full && bytes.Count(text.Bytes(), []byte{'\n'}) > lines {
			pr.Summary(v, lines)
			break
		}
		pr.Text(text.String())
	}
	for _, w := range sel.Waits() {
		if w.Rule != nil {
			pr.Line(sayWaitsFor(len(w.Changes), w.Who()))
		}
	}
	for _, x := range sel.Ignored() {
		pr.Line(sayIgnored(x.Entry, ledger.Who(x.By), x.Says))
	}
	return pr.Err()
}

// sayWaitsFor is what waits for somebody's decision.
func sayWaitsFor(n int, who string) string {
	return fmt.Sprintf("%s for %s to decide.", model.Count(n, "change waits", "changes wait"), who)
}

// titled is what the groups of changes are called, and the reference of one that has one; attr is the
// attribute of people that they are grouped by, "" where it is something else.
func titled(o *outline.Outline, by, attr string) func(key string) (title, ref string) {
	if attr == "" && table.Fold(by) == "cause" {
		return func(id string) (title, ref string) {
			for i := range o.Causes {
				if x := &o.Causes[i]; x.ID == id {
					return words.Cause(x), show.Ref(id)
				}
			}
			return id, ""
		}
	}
	name := called(by, attr)
	return func(k string) (title, ref string) { return name(k), "" }
}

// called is what the groups by anything but a cause are called.
func called(by, attr string) func(key string) string {
	if attr != "" {
		return func(k string) string { return attr + ": " + cmp.Or(k, "none") }
	}
	switch table.Fold(by) {
	case "kit":
		return func(k string) string {
			if k == "" {
				return "no kit"
			}
			return "kit " + k
		}
	case "thing":
		return func(k string) string { return cmp.Or(k, "accounts themselves") }
	}
	return func(k string) string { return cmp.Or(k, "none") }
}

// view is what a choice leaves of a plan, with what was decided about it and its outline.
func (c *program) view(d *desk.Desk, p *plan.Plan, choice desk.Choice) (*show.PlanView, *desk.Selection, error) {
	sel, err := d.Select(p, choice)
	if err != nil {
		return nil, nil, err
	}
	changes, aside, err := sel.Changes()
	if err != nil {
		return nil, nil, err
	}
	v := &show.PlanView{
		Plan: p, Changes: changes, Aside: aside, Part: !choice.Empty(), States: sel.States, Earlier: sel.Earlier(),
		Lifted: sel.Lifted, Outline: sel.Outline(changes),
	}
	if len(choice.Apps) > 0 {
		v.Apps = map[string]bool{}
		for _, app := range choice.Apps {
			v.Apps[app] = true
		}
	}
	return v, sel, nil
}

// planOrLast reads the plan that is named, or the one that was drafted here last; after a draft that failed it says so.
func (c *program) planOrLast(d *desk.Desk, args []string) (*plan.Plan, error) {
	p, failed, err := d.Named(args)
	if failed != "" {
		c.tell(failed)
	}
	return p, err
}

// sayUnfoldAlone is an --unfold without groups.
func sayUnfoldAlone() error {
	return errors.New("--unfold lists the changes of groups; use it with --group-by")
}
