package decisions

import (
	"slices"
	"strings"

	"pravet/internal/core/day"
	"pravet/internal/core/decide"
	"pravet/internal/core/entitle"
	"pravet/internal/core/model"
	"pravet/internal/core/outline"
	"pravet/internal/core/plan"
	"pravet/internal/core/table"
	"pravet/internal/desired"
	"pravet/internal/ledger"
)

// May tells whether a person is one of those whom a rule names.
func (b *Bench) May(r *decide.Rule, c *plan.Change, person string) bool {
	at := b.find(person)
	if at < 0 {
		return false
	}
	people := b.repo.People
	if ends, err := day.Parse(people.Get(at, "ends")); err == nil && ends < b.today {
		return false
	}
	switch {
	case r.Owner:
		a := b.repo.App(c.App)
		return a >= 0 && b.repo.Apps[a].Owner == person
	case r.Kit != "":
		return b.holds(r.Kit, at)
	}
	return r.People.Match(func(attr string) string { return people.Get(at, strings.TrimPrefix(attr, "person.")) }, b.today)
}

// holds reports whether a person holds a kit.
func (b *Bench) holds(kit string, person int) bool {
	due := b.known.kits[b.today]
	if due == nil {
		due = entitle.Compute(entitle.Input{People: b.repo.People, Kits: b.repo.Kits, Today: b.today, Clock: b.today})
		b.known.kits[b.today] = due
	}
	return slices.ContainsFunc(due.Classes[due.Of[person]].Kits, func(h entitle.Held) bool {
		return b.repo.Kits[h.Kit].Name == kit
	})
}

// Covers reports whether a rule is about a change.
func (b *Bench) Covers(p *plan.Plan) func(r *decide.Rule, c *plan.Change) bool {
	return func(r *decide.Rule, c *plan.Change) bool {
		return r.Changes.MatchAny(func(attr string) []string {
			if values, known := outline.Values(p, c, attr); known {
				return values
			}
			if at := b.find(c.Person); at >= 0 && c.Person != "" {
				if v := b.repo.People.Get(at, strings.TrimPrefix(attr, "person.")); v != "" {
					return []string{v}
				}
			}
			return nil
		}, b.today)
	}
}

// Deciders are the ids of those of the files who may decide about a change by a rule; none where anybody may.
func Deciders(repo *desired.Repo, r *decide.Rule, c *plan.Change, drafter string, today day.Day) (ids []string) {
	if r.Anybody() {
		return nil
	}
	b := (&Bench{repo: repo}).on(today)
	for i := range repo.People.Len() {
		if id := repo.People.Get(i, "id"); r.Counts(c, id, drafter, b.May) {
			ids = append(ids, id)
		}
	}
	return ids
}

// Deciding tells on a day whether a rule means a person: by a filter, a kit, or as an owner.
func Deciding(repo *desired.Repo, today day.Day) func(r *decide.Rule, c *plan.Change, person string) bool {
	return (&Bench{repo: repo}).on(today).May
}

// DrafterOf is who drafted a plan: the id of a person, or what the record says.
func DrafterOf(l ledger.Ledger, repo *desired.Repo, id string) (string, error) {
	d, err := (&Bench{repo: repo}).on(day.None).drafted(l, id)
	return d.by, err
}

// About reports whether a rule may be about changes of an application: what its filter says of anything else may be so.
func About(r *decide.Rule, app string, today day.Day) bool {
	clauses := r.Changes.Clauses()
	return r.Changes.Truth(func(i int) bool { return table.Fold(clauses[i].Attr) != "app" || clauses[i].Match(app, today) })
}

// Could counts how many people of the files could decide by a rule about an application's changes, whoever drafted the plan
// and whomever it is about.
func Could(repo *desired.Repo, r *decide.Rule, app *model.App, today day.Day) (n int, anybody bool) {
	if r.Anybody() {
		return 0, true
	}
	b := (&Bench{repo: repo}).on(today)
	c := &plan.Change{App: app.ID}
	for i := range repo.People.Len() {
		if b.May(r, c, repo.People.Get(i, "id")) {
			n++
		}
	}
	return n, false
}
