package desk

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

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
)

// A Choice is how changes of a plan are chosen: all that fit each part of it. The part that is empty
// leaves none out.
type Choice struct {
	Apps    []string
	Persons []string // by id, account, display name or user name
	Things  []string // as APPLICATION/KIND/NAME
	Only    string   // a filter over changes
}

// Empty reports whether a choice leaves nothing out.
func (c *Choice) Empty() bool { return len(c.Apps)+len(c.Persons)+len(c.Things) == 0 && c.Only == "" }

// A Selection is what is known of the changes of a plan when some of them are chosen.
type Selection struct {
	Choice
	States  map[string]string // change → what was decided about it, in a word
	History outline.History
	plan    *plan.Plan

	desk     *Desk
	standing *decide.PlanDecisions
	causes   *outline.Outline // of the whole plan, made when it is first asked for
	own      map[*plan.Change]bool
	ids      map[string]int // person → number among the people of the repository
}

// Select reads what a selection needs to know of a plan: what was decided about it, how its
// files were before, and who the persons are that the plan does not name by id, account or
// display name. Outside of a repository nothing is known but the plan.
func (d *Desk) Select(p *plan.Plan, choice Choice) (*Selection, error) {
	s := &Selection{Choice: choice, plan: p, desk: d}
	s.Persons = slices.Clone(choice.Persons)
	if d.Dir == "" {
		return s, nil
	}
	l, err := d.Book()
	if err != nil {
		return nil, err
	}
	if d.book != nil {
		if err := s.decided(l); err != nil {
			return nil, err
		}
	}
	if s.History, err = prepare.History(d.ctx, d.tree, l, p, func() *desired.Repo { return d.state.Repo }, func() *desired.Repo {
		s.folk()
		return d.state.Repo
	}); err != nil {
		return nil, err
	}
	return s, s.people()
}

// Chosen are the changes of a plan that a choice leaves.
func (d *Desk) Chosen(p *plan.Plan, choice Choice) (*Selection, []*plan.Change, error) {
	s, err := d.Select(p, choice)
	if err != nil {
		return nil, nil, err
	}
	changes, _, err := s.Changes()
	return s, changes, err
}

// decided says in a word what was decided about each change, where something was.
func (s *Selection) decided(l ledger.Ledger) (err error) {
	repo, err := s.desk.Repo()
	if err != nil {
		return err
	}
	today := s.desk.today
	s.standing, err = decisions.Read(l, decisions.Of(repo), s.plan, today, nil)
	if err != nil {
		return err
	}
	s.States = statesOf(s.standing, s.plan, s.standing.Ready(s.plan, today))
	return nil
}

// attribute is how the people files spell an attribute of people, with or without
// "person." before it; ok is false where no file gives it.
func (s *Selection) attribute(name string) (string, bool) {
	if s.desk.Dir == "" {
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
func (s *Selection) folk() *model.People {
	repo := s.desk.state.Repo
	if s.ids == nil {
		repo.ReadPeople()
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
func (s *Selection) personValue(ch *plan.Change, attr string) string {
	people := s.folk()
	if i, ok := s.ids[ch.Person]; ok && ch.Person != "" {
		return people.Get(i, attr)
	}
	return ""
}

// values are those of an attribute of a change, or of its person, for a filter.
func (s *Selection) values(c *plan.Change, attr string) []string {
	values, known := outline.Values(s.plan, c, attr)
	v := ""
	switch folded := table.Fold(attr); {
	case known:
		return values
	case folded == "cause":
		v = s.cause(c)
	case folded == "decision":
		v = cmp.Or(s.States[c.ID], "undecided")
	default:
		if name, ok := s.attribute(attr); ok {
			v = s.personValue(c, name)
		}
	}
	if v == "" {
		return nil
	}
	return []string{v}
}

// cause is the cause of a change as a filter knows it: the file and the line, or for
// one in the people's rows what it says.
func (s *Selection) cause(c *plan.Change) string {
	x := s.whole().CauseOf(c.ID)
	switch {
	case x == nil:
		return ""
	case x.Kind == outline.Lined && x.File != "":
		return fmt.Sprintf("%s:%d", x.File, x.Line)
	}
	return words.Cause(x)
}

// knows reports whether a filter over changes may name an attribute.
func (s *Selection) knows(attr string) bool {
	if containsFold(plan.Attributes, attr) {
		return true
	}
	_, ok := s.attribute(attr)
	return ok
}

// Changes returns the changes that the selection names, in the plan's order, and
// those of the ones set aside. A name that is nowhere in the plan is an error,
// with the nearest that is.
func (s *Selection) Changes() (changes []*plan.Change, aside []*plan.SetAside, err error) {
	var f *filter.Filter
	if s.Only != "" {
		if f, err = filter.Parse(s.Only); err != nil {
			return nil, nil, wrongIn("only", err)
		}
		for _, cl := range f.Clauses() {
			if !s.knows(cl.Attr) {
				return nil, nil, &Wrong{"only", cl.Column, prepare.UnknownName("attribute of a change", cl.Attr, plan.Attributes)}
			}
		}
	}
	if err := s.known(); err != nil {
		return nil, nil, err
	}
	today, err := day.Parse(s.plan.AsOf)
	if err != nil {
		return nil, nil, err
	}
	apps, persons, things := set(s.Apps), set(s.Persons), set(s.Things)
	fits := func(ch *plan.Change) bool {
		if apps != nil && !apps[ch.App] || things != nil && !things[ch.Address().String()] ||
			persons != nil && !persons[ch.Person] && !persons[ch.Account] && !persons[s.plan.People[ch.Person]] {
			return false
		}
		return f == nil || f.MatchAny(func(attr string) []string { return s.values(ch, attr) }, today)
	}
	for i := range s.plan.Changes {
		if fits(&s.plan.Changes[i]) {
			changes = append(changes, &s.plan.Changes[i])
		}
	}
	for i := range s.plan.SetAside {
		if fits(&s.plan.SetAside[i].Change) {
			aside = append(aside, &s.plan.SetAside[i])
		}
	}
	return changes, aside, nil
}

// people finds those of the persons of a selection that the plan does not name by
// id, account or display name among the people of the repository, by user name:
// where accounts are matched by something else, a plan has no user names.
func (s *Selection) people() error {
	if len(s.Persons) == 0 {
		return nil
	}
	named := set(s.Persons)
	for name := range named {
		named[name] = false
	}
	names := func(name string) {
		if _, wanted := named[name]; wanted {
			named[name] = true
		}
	}
	for id, name := range s.plan.People {
		names(id)
		names(name)
	}
	for i := range s.plan.Changes {
		names(s.plan.Changes[i].Account)
	}
	for i, name := range s.Persons {
		if named[name] {
			continue
		}
		if people := s.folk(); people.Len() > 0 {
			if at := people.Named(name); at >= 0 {
				s.Persons[i] = people.Get(at, "id")
			}
		}
	}
	return nil
}

// known checks that what is named is in the plan.
func (s *Selection) known() error {
	for _, name := range s.Things {
		if _, err := model.ParseAddress(name); err != nil {
			return wrongIn("thing", err)
		}
	}
	apps := func(f func(string)) {
		for _, e := range s.plan.Exports {
			f(e.App)
		}
	}
	persons := func(f func(string)) {
		each(s.plan, func(ch *plan.Change) {
			f(ch.Person)
			f(ch.Account)
			f(s.plan.People[ch.Person])
		})
	}
	things := func(f func(string)) {
		each(s.plan, func(ch *plan.Change) { f(ch.Address().String()) })
	}
	for _, x := range []struct {
		what, where string
		wanted      []string
		all         func(func(string))
	}{
		{"application", "in the plan", s.Apps, apps},
		{"person", "with a change in the plan", s.Persons, persons},
		{"thing", "with a change in the plan", s.Things, things},
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
				return wrong(sayNotInPlan(x.what, name, x.where, table.Nearest(name, all)))
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

// Earlier are, of the accepted changes, those that were accepted in an earlier plan.
func (s *Selection) Earlier() map[string]decide.Carried {
	if s.standing == nil {
		return nil
	}
	return s.standing.Carried
}

// Lifted is the decision by which a guard does not hold a change, or nil.
func (s *Selection) Lifted(ch *plan.Change, guard string) *decide.Lift {
	if s.standing == nil {
		return nil
	}
	return s.standing.Lifted(s.plan, ch, guard, s.desk.today)
}

// Outline is the outline of some changes of the plan.
func (s *Selection) Outline(changes []*plan.Change) *outline.Outline {
	return outline.Make(outline.Input{Plan: s.plan, Changes: changes, States: s.States, History: s.History})
}

// sayNotInPlan is a name of what a plan has no change of; near is the nearest that it
// has, or "".
func sayNotInPlan(what, name, where, near string) error {
	return fmt.Errorf("there is no %s %q %s%s", what, name, where, meant("; ", near, ""))
}
