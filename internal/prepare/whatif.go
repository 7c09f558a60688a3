package prepare

import (
	"context"

	"pravet/internal/core/access"
	"pravet/internal/core/day"
	"pravet/internal/core/filter"
	"pravet/internal/core/plan"
	"pravet/internal/ledger"
)

// A WhatIf is what would become of one person with other attributes: the plan for that
// person as things are, the plan as they would be, and how things would be then.
type WhatIf struct {
	State      *State
	Missing    []error
	View       *access.View // with the other attributes
	Person     int          // among the people of the view
	Now, Then  *plan.Plan
	IsNew      bool
	Attributes []string // those that people have
}

// If answers what would become of a person with some values; nobody by that name is
// someone new, whose id and user name that is. Nothing is written.
func (s *State) If(
	ctx context.Context,
	l ledger.Ledger,
	name string,
	values map[string]string,
	today, clock day.Day,
) (w *WhatIf, err error) {
	w = &WhatIf{State: s}
	if _, w.Missing, err = s.Look(ctx, nil, today); err != nil {
		return w, err
	}
	people := w.State.Repo.People
	w.Attributes = people.Attributes()
	if w.Person = people.Named(name); w.Person < 0 {
		w.Person, w.IsNew = people.Len(), true
		with := map[string]string{"id": name, "userName": name}
		for k, v := range values {
			with[k] = v
		}
		values = with
	} else {
		only, err := filter.Parse("id eq " + filter.Quote(people.Get(w.Person, "id")))
		if err != nil {
			return w, err
		}
		if w.Now, err = Draft(w.State, l, today, clock, only); err != nil {
			return w, err
		}
	}
	then := *w.State
	repo := *w.State.Repo
	repo.People = people.With(w.Person, values)
	then.Repo = &repo
	only, err := filter.Parse("id eq " + filter.Quote(repo.People.Get(w.Person, "id")))
	if err != nil {
		return w, err
	}
	if w.Then, err = Draft(&then, l, today, clock, only); err != nil {
		return w, err
	}
	if w.Now == nil {
		w.Now = &plan.Plan{}
	}
	w.View = then.View(today)
	return w, nil
}
