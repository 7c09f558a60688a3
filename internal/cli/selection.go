package cli

import (
	"cmp"
	"fmt"
	"strings"
	"sync"

	"github.com/spf13/cobra"

	"pravet/internal/core/day"
	"pravet/internal/core/decide"
	"pravet/internal/core/filter"
	"pravet/internal/core/model"
	"pravet/internal/core/outline"
	"pravet/internal/core/plan"
	"pravet/internal/core/table"
	"pravet/internal/core/words"
	"pravet/internal/decisions"
	"pravet/internal/desired"
	"pravet/internal/ledger"
	"pravet/internal/prepare"
	"pravet/internal/say"
)

// selection is how commands choose changes of a plan, and what is known of them.
type selection struct {
	apps    []string
	persons []string
	things  []string
	only    string

	states   map[string]string // change → what was decided about it, in a word
	standing *decide.Standing
	today    day.Day // of what was decided
	history  outline.History
	causes   *outline.Outline // of the whole plan, made when it is first asked for
	repo     func() *desired.Repo
	own      map[*plan.Change]bool
	ids      map[string]int // person → number among the people of the repository
}

// prepare reads what a selection needs to know of a plan: what was decided about it,
// how its files were before, and who the persons are that the plan does not name by
// id, account or display name.
func (s *selection) prepare(c *program, dir string, p *plan.Plan) error {
	if dir == "" {
		return nil
	}
	tree, err := c.tree(dir)
	if err != nil {
		return err
	}
	s.repo = sync.OnceValue(func() *desired.Repo { return desired.Rules(c.ctx, tree) })
	l, err := ledger.OpenReading(dir, c.ledgerOptions())
	if err != nil {
		return err
	}
	if l != nil {
		defer l.Close()
		if err := s.decided(l, p, day.Of(c.Now())); err != nil {
			return err
		}
	}
	if s.history, err = prepare.History(c.ctx, tree, l, p, func() *desired.Repo {
		s.folk()
		return s.repo()
	}); err != nil {
		return err
	}
	return s.people(p)
}

// decided says in a word what was decided about each change, where something was.
func (s *selection) decided(l ledger.Ledger, p *plan.Plan, today day.Day) (err error) {
	if asOf, err := day.Parse(p.AsOf); err == nil {
		today = max(today, asOf) // what will have ended by then is no decision about it
	}
	repo := s.repo()
	s.today = today
	s.standing, err = decisions.Read(l, decisions.Of(repo), p, today, nil)
	if err != nil {
		return err
	}
	s.states = map[string]string{}
	for i, state := range s.standing.Ready(p, today) {
		id := p.Changes[i].ID
		switch {
		case state == decide.Completed:
			s.states[id] = "done"
		case state == decide.Refused:
			s.states[id] = "rejected"
		case s.standing.Accepts(&p.Changes[i]):
			s.states[id] = "accepted"
		}
	}
	return nil
}

// attribute is how the people files spell an attribute of people, with or without
// "person." before it; ok is false where no file gives it.
func (s *selection) attribute(name string) (string, bool) {
	if s.repo == nil {
		return "", false
	}
	folded := strings.TrimPrefix(table.Fold(name), "person.")
	for _, a := range s.folk().Attributes() {
		if table.Fold(a) == folded {
			return a, true
		}
	}
	return "", false
}

// folk are the people of the repository, read when they are first asked for.
func (s *selection) folk() *model.People {
	repo := s.repo()
	if s.ids == nil {
		if repo.People.Len() == 0 {
			repo.ReadPeople()
		}
		s.ids = make(map[string]int, repo.People.Len())
		if ids := repo.People.Column("id"); ids != nil {
			for i := range ids.Len() {
				s.ids[ids.At(i)] = i
			}
		}
	}
	return repo.People
}

// personValue is an attribute of the person of a change.
func (s *selection) personValue(ch *plan.Change, attr string) string {
	people := s.folk()
	if i, ok := s.ids[ch.Person]; ok && ch.Person != "" {
		return people.Get(i, attr)
	}
	return ""
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
	offer(cmd, "only", c.completeFilter)
	offer(cmd, "app", s.of(c, "app", appOf))
	offer(cmd, "person", s.of(c, "person", personOf))
	offer(cmd, "thing", s.of(c, "thing", addressOf))
}

func (s *selection) empty() bool {
	return len(s.apps)+len(s.persons)+len(s.things) == 0 && s.only == ""
}

// value is an attribute of a change, or of its person, for a filter.
func (s *selection) value(p *plan.Plan, c *plan.Change, attr string) string {
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
		return v.Text()
	case "forgood":
		return fmt.Sprint(c.ForGood)
	case "held":
		return fmt.Sprint(len(c.Holds) > 0)
	case "kit":
		return outline.Kit(p, c)
	case "cause":
		return s.cause(p, c)
	case "decision":
		return cmp.Or(s.states[c.ID], "undecided")
	case "sensitive":
		return fmt.Sprint(c.Sensitive())
	case "first":
		return fmt.Sprint(c.First)
	default:
		if name, ok := s.attribute(attr); ok {
			return s.personValue(c, name)
		}
	}
	return ""
}

// values are those of an attribute of a change; only guards may be several.
func (s *selection) values(p *plan.Plan, c *plan.Change, attr string) (out []string) {
	if table.Fold(attr) == "guard" {
		for i := range c.Holds {
			out = append(out, c.Holds[i].Guard)
		}
		return out
	}
	if v := s.value(p, c, attr); v != "" {
		return []string{v}
	}
	return nil
}

// cause is the cause of a change as a filter knows it: the file and the line, or for
// one in the people's rows what it says.
func (s *selection) cause(p *plan.Plan, c *plan.Change) string {
	x := s.whole(p).CauseOf(c.ID)
	switch {
	case x == nil:
		return ""
	case x.Kind == outline.Lined && x.File != "":
		return fmt.Sprintf("%s:%d", x.File, x.Line)
	}
	return words.Cause(x)
}

// knows reports whether a filter over changes may name an attribute.
func (s *selection) knows(attr string) bool {
	if containsFold(plan.Attributes, attr) {
		return true
	}
	_, ok := s.attribute(attr)
	return ok
}

// choose returns the changes that the selection names, in the plan's order, and
// those of the ones set aside. A name that is nowhere in the plan is an error,
// with the nearest that is.
func (s *selection) choose(p *plan.Plan) (changes []*plan.Change, aside []*plan.SetAside, err error) {
	var f *filter.Filter
	if s.only != "" {
		if f, err = filter.Parse(s.only); err != nil {
			return nil, nil, usage(say.Flag("only", err))
		}
		for _, cl := range f.Clauses() {
			if !s.knows(cl.Attr) {
				return nil, nil, usage(
					say.FilterColumn(cl.Column, prepare.UnknownName("attribute of a change", cl.Attr, plan.Attributes)),
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
		return f == nil || f.MatchAny(func(attr string) []string { return s.values(p, ch, attr) }, today)
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

// people finds those of the persons of a selection that the plan does not name by
// id, account or display name among the people of the repository, by user name:
// where accounts are matched by something else, a plan has no user names.
func (s *selection) people(p *plan.Plan) error {
	if len(s.persons) == 0 {
		return nil
	}
	named := set(s.persons)
	for name := range named {
		named[name] = false
	}
	names := func(name string) {
		if _, wanted := named[name]; wanted {
			named[name] = true
		}
	}
	for id, name := range p.People {
		names(id)
		names(name)
	}
	for i := range p.Changes {
		names(p.Changes[i].Account)
	}
	for i, name := range s.persons {
		if named[name] {
			continue
		}
		if people := s.folk(); people.Len() > 0 {
			if at := people.Named(name); at >= 0 {
				s.persons[i] = people.Get(at, "id")
			}
		}
	}
	return nil
}

// known checks that what is named is in the plan.
func (s *selection) known(p *plan.Plan) error {
	for _, name := range s.things {
		if _, err := model.ParseAddress(name); err != nil {
			return usage(say.Flag("thing", err))
		}
	}
	apps := func(f func(string)) {
		for _, e := range p.Exports {
			f(e.App)
		}
	}
	persons := func(f func(string)) {
		each(p, func(ch *plan.Change) {
			f(ch.Person)
			f(ch.Account)
			f(p.People[ch.Person])
		})
	}
	things := func(f func(string)) {
		each(p, func(ch *plan.Change) { f(ch.Address().String()) })
	}
	for _, x := range []struct {
		what, where string
		wanted      []string
		all         func(func(string))
	}{
		{"application", "in the plan", s.apps, apps},
		{"person", "with a change in the plan", s.persons, persons},
		{"thing", "with a change in the plan", s.things, things},
	} {
		missing := set(x.wanted)
		if len(missing) == 0 {
			continue
		}
		x.all(func(name string) { delete(missing, name) })
		for _, name := range x.wanted {
			if missing[name] {
				var all []string
				x.all(func(name string) { all = append(all, name) })
				return usage(say.NotInPlan(x.what, name, x.where, table.Nearest(name, all)))
			}
		}
	}
	return nil
}

// each calls f with the changes of a plan, and with those that it sets aside.
func each(p *plan.Plan, f func(*plan.Change)) {
	for i := range p.Changes {
		f(&p.Changes[i])
	}
	for i := range p.SetAside {
		f(&p.SetAside[i].Change)
	}
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
