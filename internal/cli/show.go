package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"pravet/internal/core/day"
	"pravet/internal/core/decide"
	"pravet/internal/core/filter"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/core/table"
	"pravet/internal/decisions"
	"pravet/internal/desired"
	"pravet/internal/ledger"
	"pravet/internal/prepare"
	"pravet/internal/show"
)

func (c *program) show() *cobra.Command {
	var format string
	var sel selection
	cmd := &cobra.Command{
		Use:     "show PLAN",
		Short:   "Show a plan: every change with its reasons, effect and holds",
		GroupID: deciding,
		Long: `Show writes a plan as people read it: application by application and person by
person. PLAN is a plan's id, the beginning of one, or a file.

--only takes a SCIM filter over changes. Its attributes are
` + strings.Join(changeAttrs, ", ") + `.`,
		Example: example(
			"pravet show drmkcgns",
			"pravet show drmkc --person E0042",
			"pravet show drmkcgns --only 'effect eq \"widens\" and kind eq \"role\"'",
			"pravet show plans/drmkcgns.json --format markdown",
		),
		Args: cobra.ExactArgs(1),
	}
	formatFlag(cmd, &format, "table", "json", "csv", "markdown")
	sel.flags(c, cmd)
	cmd.ValidArgsFunction = c.completePlans
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		dir, dirErr := c.dir()
		if dirErr != nil && c.repo != "" {
			return dirErr
		}
		p, err := c.plan(dir, args[0])
		if err != nil {
			return err
		}
		if err := sel.people(c, dir, p); err != nil {
			return err
		}
		v, err := sel.view(p)
		if err != nil {
			return err
		}
		if dir != "" {
			if v.States, err = c.states(dir, p); err != nil {
				return err
			}
		}
		switch format {
		case "json":
			return show.PlanJSON(c.Stdout, v)
		case "csv":
			return show.PrintCSV(c.Stdout, show.PlanTable(v))
		case "markdown":
			return show.PlanMarkdown(c.Stdout, v)
		}
		pr := show.NewPrinter(c.Stdout, c.Environ)
		pr.Plan(v)
		return pr.Err()
	}
	return cmd
}

// states says in a word what was decided about each change, where something
// was; a repository without a ledger has decided nothing.
func (c *program) states(dir string, p *plan.Plan) (map[string]string, error) {
	l, err := ledger.OpenReading(dir, c.ledgerOptions(dir))
	if l == nil || err != nil {
		return nil, err
	}
	defer l.Close()
	repo, err := c.rules(dir)
	if err != nil {
		return nil, err
	}
	today := day.Of(c.Now())
	if asOf, err := day.Parse(p.AsOf); err == nil {
		today = max(today, asOf) // what will have ended by then is no decision about it
	}
	standing, err := decisions.Read(l, decisions.Stood{Rejections: repo.Rejections, Lifts: repo.Lifts}, p, today)
	if err != nil {
		return nil, err
	}
	out := map[string]string{}
	for i, s := range standing.Ready(p, today) {
		id := p.Changes[i].ID
		switch {
		case s == decide.Completed:
			out[id] = "done"
		case s == decide.Refused:
			out[id] = "rejected"
		case standing.Verdicts[id] == decide.Accepted || standing.All:
			out[id] = "accepted"
		}
	}
	return out, nil
}

// selection is how commands choose changes of a plan.
type selection struct {
	apps    []string
	persons []string
	things  []string
	only    string
}

func (s *selection) flags(c *program, cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringSliceVar(&s.apps, "app", nil, "only changes in this application (may be repeated)")
	f.StringSliceVar(&s.persons, "person", nil, "only changes of this person, by id or account (may be repeated)")
	f.StringSliceVar(
		&s.things,
		"thing",
		nil,
		"only changes about this thing, as APPLICATION/KIND/NAME (may be repeated)",
	)
	f.StringVar(&s.only, "only", "", "only changes that this filter matches")
	_ = cmd.RegisterFlagCompletionFunc("app", c.completeApps)
	_ = cmd.RegisterFlagCompletionFunc("person", c.completePeople)
	_ = cmd.RegisterFlagCompletionFunc("thing", c.completeThings)
}

func (s *selection) empty() bool {
	return len(s.apps)+len(s.persons)+len(s.things) == 0 && s.only == ""
}

// changeAttrs are the attributes of a change that filters may name.
var changeAttrs = []string{
	"id",
	"app",
	"verb",
	"effect",
	"account",
	"person",
	"name",
	"kind",
	"thing",
	"attribute",
	"before",
	"after",
	"forGood",
	"held",
	"guard",
}

// value is an attribute of a change, for a filter.
func changeValue(p *plan.Plan, c *plan.Change, attr string) string {
	switch table.Fold(attr) {
	case "id":
		return c.ID
	case "app":
		return c.App
	case "verb":
		return c.Verb.String()
	case "effect":
		return c.Effect.String()
	case "account":
		return c.Account
	case "person":
		return c.Person
	case "name":
		return p.People[c.Person]
	case "kind":
		return c.Address().Kind
	case "thing":
		return c.Address().Name
	case "attribute":
		return c.Attribute
	case "before", "after":
		v := c.Before
		if table.Fold(attr) == "after" {
			v = c.After
		}
		if s, ok := v.(string); ok {
			return s
		}
	case "forgood":
		return fmt.Sprint(c.ForGood)
	case "held":
		return fmt.Sprint(len(c.Holds) > 0)
	case "guard":
		if len(c.Holds) > 0 {
			return c.Holds[0].Guard
		}
	}
	return ""
}

// choose returns the changes that the selection names, in the plan's order, and
// those of the ones set aside. A name that is nowhere in the plan is an error,
// with the nearest that is.
func (s *selection) choose(p *plan.Plan) (changes []*plan.Change, aside []*plan.SetAside, err error) {
	var f *filter.Filter
	if s.only != "" {
		if f, err = filter.Parse(s.only); err != nil {
			return nil, nil, usage("--only: %w", err)
		}
		for _, cl := range f.Clauses() {
			if !containsFold(changeAttrs, cl.Attr) {
				return nil, nil, usage(
					"--only, column %d: %w",
					cl.Column,
					prepare.UnknownName("attribute of a change", cl.Attr, changeAttrs),
				)
			}
		}
	}
	if err := s.known(p); err != nil {
		return nil, nil, err
	}
	today, err := day.Parse(p.AsOf)
	if err != nil {
		return nil, nil, err
	}
	apps, persons, things := set(s.apps), set(s.persons), set(s.things)
	fits := func(ch *plan.Change) bool {
		if apps != nil && !apps[ch.App] || things != nil && !things[ch.Address().String()] ||
			persons != nil && !persons[ch.Person] && !persons[ch.Account] && !persons[p.People[ch.Person]] {
			return false
		}
		return f == nil || f.Match(func(attr string) string { return changeValue(p, ch, attr) }, today)
	}
	for i := range p.Changes {
		if fits(&p.Changes[i]) {
			changes = append(changes, &p.Changes[i])
		}
	}
	for i := range p.SetAside {
		if fits(&p.SetAside[i].Change) {
			aside = append(aside, &p.SetAside[i])
		}
	}
	return changes, aside, nil
}

// people finds those of the persons of a selection that the plan does not name
// by id, account or display name among the people of the repository, by user
// name: where accounts are matched by something else, a plan has no user names.
func (s *selection) people(c *program, dir string, p *plan.Plan) error {
	named := map[string]bool{}
	for id, name := range p.People {
		named[id], named[name] = true, true
	}
	for i := range p.Changes {
		named[p.Changes[i].Account] = true
	}
	var repo *desired.Repo
	for i, name := range s.persons {
		if named[name] || dir == "" {
			continue
		}
		if repo == nil {
			var err error
			if repo, err = c.rules(dir); err != nil {
				return err
			}
			repo.ReadPeople()
		}
		if at := repo.People.Named(name); at >= 0 {
			s.persons[i] = repo.People.Get(at, "id")
		}
	}
	return nil
}

// known checks that what is named is in the plan.
func (s *selection) known(p *plan.Plan) error {
	var apps, persons, things []string
	seen := map[string]bool{}
	add := func(list *[]string, v string) {
		if v != "" && !seen[v] {
			seen[v] = true
			*list = append(*list, v)
		}
	}
	for _, e := range p.Exports {
		add(&apps, e.App)
	}
	for i := range p.Changes {
		add(&persons, p.Changes[i].Person)
		add(&persons, p.Changes[i].Account)
		add(&persons, p.People[p.Changes[i].Person])
		add(&things, p.Changes[i].Address().String())
	}
	for i := range p.SetAside {
		add(&persons, p.SetAside[i].Change.Person)
		add(&persons, p.SetAside[i].Change.Account)
		add(&things, p.SetAside[i].Change.Address().String())
	}
	for _, x := range []struct {
		what, where string
		names, have []string
	}{
		{"application", "in the plan", s.apps, apps},
		{"person", "with a change in the plan", s.persons, persons},
		{"thing", "with a change in the plan", s.things, things},
	} {
		have := set(x.have)
		for _, n := range x.names {
			if x.what == "thing" {
				if _, err := model.ParseAddress(n); err != nil {
					return usage("--thing: %w", err)
				}
			}
			if !have[n] {
				near := table.Nearest(n, x.have)
				if near != "" {
					near = "; did you mean " + near + "?"
				}
				return usage("there is no %s %q %s%s", x.what, n, x.where, near)
			}
		}
	}
	return nil
}

func (s *selection) view(p *plan.Plan) (*show.PlanView, error) {
	changes, aside, err := s.choose(p)
	return &show.PlanView{Plan: p, Changes: changes, Aside: aside, Apps: set(s.apps), Part: !s.empty()}, err
}

func set(names []string) map[string]bool {
	if len(names) == 0 {
		return nil
	}
	out := make(map[string]bool, len(names))
	for _, n := range names {
		out[n] = true
	}
	return out
}

func containsFold(list []string, s string) bool {
	for _, x := range list {
		if strings.EqualFold(x, s) {
			return true
		}
	}
	return false
}
