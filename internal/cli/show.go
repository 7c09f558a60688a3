package cli

import (
	"bytes"
	"cmp"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"pravet/internal/core/decide"
	"pravet/internal/core/outline"
	"pravet/internal/core/plan"
	"pravet/internal/core/table"
	"pravet/internal/core/words"
	"pravet/internal/ledger"
	"pravet/internal/plans"
	"pravet/internal/prepare"
	"pravet/internal/say"
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
or a file; without it, the newest plan of the repository.

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
		dir, dirErr := c.dir()
		if dirErr != nil && (c.repo != "" || len(args) == 0) {
			return dirErr
		}
		p, err := c.planOrNewest(dir, args)
		if err != nil {
			return err
		}
		v, err := c.view(dir, p, &sel)
		if err != nil {
			return err
		}
		switch format {
		case "json":
			var groups []outline.Group
			if as.groupBy != "" {
				key, _, err := sel.grouping(v.Plan, v.Outline, as.groupBy)
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
		if err := c.shown(dir, p); err != nil {
			return err
		}
		return c.paged(func(pr *show.Printer) error { return c.write(pr, v, &as, &sel) })
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
		"fold alike changes, by "+strings.Join(groupings, ", ")+", or an attribute of people",
	)
	f.BoolVar(&a.unfold, "unfold", false, "with --group-by, list the changes of each group")
	cmd.MarkFlagsMutuallyExclusive("summary", "brief", "full", "group-by")
	offer(
		cmd, "group-by",
		cobra.FixedCompletions(append(slices.Clone(groupings), "department", "title", "location"), noFiles),
	)
}

// groupings are what changes can be grouped by, besides attributes of people.
var groupings = []string{"cause", "person", "kit", "thing", "app", "verb"}

// write writes a view of a plan as it is wanted, or as it fits on a screen.
func (c *program) write(pr *show.Printer, v *show.PlanView, as *shownAs, sel *selection) error {
	_, lines := show.Size(c.Stdout, c.Environ)
	switch {
	case as.unfold && as.groupBy == "":
		return usage(say.UnfoldAlone())
	case as.groupBy != "":
		key, title, err := sel.grouping(v.Plan, v.Outline, as.groupBy)
		if err != nil {
			return err
		}
		pr.Groups(v, v.Outline.By(key), title, as.unfold)
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
	return pr.Err()
}

// grouping is how changes are told apart by what they are grouped by, and what the
// groups are called.
func (s *selection) grouping(
	p *plan.Plan,
	o *outline.Outline,
	by string,
) (key func(*plan.Change) string, title func(string) string, err error) {
	title = func(k string) string { return cmp.Or(k, "none") }
	switch table.Fold(by) {
	case "cause":
		key = func(ch *plan.Change) string { return o.CauseOf(ch.ID).ID }
		title = func(id string) string {
			for i := range o.Causes {
				if x := &o.Causes[i]; x.ID == id {
					return words.Cause(x) + "  " + show.Ref(id)
				}
			}
			return id
		}
	case "person":
		key = func(ch *plan.Change) string { return words.Whose(p, ch) }
	case "kit":
		key = func(ch *plan.Change) string { return outline.Kit(p, ch) }
		title = func(k string) string {
			if k == "" {
				return "no kit"
			}
			return "kit " + k
		}
	case "thing":
		key = func(ch *plan.Change) string {
			if ch.Thing == nil {
				return ""
			}
			return ch.Address().String()
		}
		title = func(k string) string { return cmp.Or(k, "accounts themselves") }
	case "app":
		key = func(ch *plan.Change) string { return ch.App }
	case "verb":
		key = func(ch *plan.Change) string { return ch.Verb.String() }
	default:
		attr, ok := s.attribute(by)
		if !ok {
			return nil, nil, usage(
				say.Flag("group-by", prepare.UnknownName("grouping or attribute of people", by, groupings)),
			)
		}
		key = func(ch *plan.Change) string { return s.personValue(ch, attr) }
		title = func(k string) string { return attr + ": " + cmp.Or(k, "none") }
	}
	return key, title, nil
}

// view is what a selection leaves of a plan, with what was decided about it and its
// outline.
func (c *program) view(dir string, p *plan.Plan, sel *selection) (v *show.PlanView, err error) {
	if err := sel.prepare(c, dir, p); err != nil {
		return nil, err
	}
	changes, aside, err := sel.choose(p)
	if err != nil {
		return nil, err
	}
	v = &show.PlanView{
		Plan: p, Changes: changes, Aside: aside, Apps: set(sel.apps), Part: !sel.empty(), States: sel.states,
	}
	if s := sel.standing; s != nil {
		v.Earlier = s.Carried
		v.Lifted = func(ch *plan.Change, guard string) *decide.Lift { return s.Lifted(p, ch, guard, sel.today) }
	}
	v.Outline = outline.Make(outline.Input{Plan: p, Changes: changes, States: sel.states, History: sel.history})
	return v, nil
}

// planOrNewest reads the plan that is named, or the newest of the repository.
func (c *program) planOrNewest(dir string, args []string) (*plan.Plan, error) {
	if len(args) > 0 {
		return c.plan(dir, args[0])
	}
	id, err := c.newest(dir)
	if err != nil {
		return nil, err
	}
	return c.plan(dir, id)
}

// newest is the id of the plan that was drafted last and is still there.
func (c *program) newest(dir string) (id string, err error) {
	l, err := ledger.OpenReading(dir, c.ledgerOptions())
	if err != nil {
		return "", err
	}
	if l != nil {
		defer l.Close()
		err = l.Scan(
			ledger.Query{Kinds: []ledger.Kind{ledger.PlanDrafted}, Newest: true},
			func(e *ledger.Entry) error {
				if _, err := plans.Find(dir, dir, e.Subject); err == nil {
					id = e.Subject
					return ledger.ErrStop
				}
				return nil
			},
		)
	}
	if err == nil && id == "" {
		err = fail(Failed, say.NoPlanYet())
	}
	return id, err
}
