package course

import (
	"slices"

	"pravet/internal/core/day"
	"pravet/internal/core/decide"
	"pravet/internal/core/diff"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/core/table"
)

// Now is how things are between two steps of a run.
type Now struct {
	People      *model.People
	Apps        []*model.App
	Accounts    []*model.Accounts // as read last; nil for an application that the plan is not about
	PersonOf    [][]int32         // application → account → person, or diff.None
	Separations []model.Separation
	Exceptions  []model.Exception
	Today       day.Day
}

// A Trial carries changes out in thought, one after the other, on applications
// as they are, and refuses those that would break what must hold at every step:
// no more seats of a license held than were bought, no fewer active holders than
// must stay, nobody with what is kept apart. What is broken already is no reason
// to refuse what does not make it worse.
//
// It costs O(accounts) for each thing that is limited, and then O(1) a change; a
// redefinition costs O(accounts). A Trial is used by one goroutine at a time.
type Trial struct {
	now    *Now
	lifted func(guard string, c *plan.Change) bool
	sims   []*simulation

	persons map[int32][]model.AppThing // see accountsOf
}

// Try begins a trial. lifted reports whether a guard is lifted for a change; what
// it allows counts for the changes after it.
func (n *Now) Try(lifted func(guard string, c *plan.Change) bool) *Trial {
	return &Trial{now: n, lifted: lifted, sims: make([]*simulation, len(n.Apps))}
}

// Refuse carries out changes of one application, in their order, and returns
// those that it refuses, by id, with the hold that says why.
func (t *Trial) Refuse(a int, changes []*plan.Change) map[string]plan.Hold {
	s := t.of(a)
	out := map[string]plan.Hold{}
	if len(s.limited) == 0 && len(s.apart) == 0 {
		return out
	}
	for _, c := range changes {
		if h := s.step(c, t.lifted); h != nil {
			out[c.ID] = *h
		}
	}
	return out
}

// of is the simulation of an application.
func (t *Trial) of(a int) *simulation {
	if t.sims[a] == nil {
		t.sims[a] = t.simulate(a)
	}
	return t.sims[a]
}

// Preview carries a whole plan out in thought, as a run would, and returns what
// would be refused on the way. states are those before the run; they are not
// changed.
func (n *Now) Preview(
	p *plan.Plan,
	states []decide.State,
	lifted func(guard string, c *plan.Change) bool,
) map[string]plan.Hold {
	if !n.limits() {
		return nil
	}
	numbers := map[string]int{}
	for a, app := range n.Apps {
		numbers[app.ID] = a
	}
	c, t := New(p), n.Try(lifted)
	states = slices.Clone(states)
	refused := map[string]plan.Hold{}
	for step := c.Next(states); step != nil; step = c.Next(states) {
		changes := make([]*plan.Change, len(step))
		for k, i := range step {
			changes[k] = &p.Changes[i]
		}
		no := t.Refuse(numbers[changes[0].App], changes)
		for k, i := range step {
			states[i] = decide.Completed
			if h, held := no[changes[k].ID]; held {
				states[i] = decide.Held
				refused[changes[k].ID] = h
			}
		}
		if len(no) < len(step) { // what was refused may have its turn now
			for i := range states {
				if _, held := refused[p.Changes[i].ID]; held && states[i] == decide.Held {
					states[i] = decide.Ready
					delete(refused, p.Changes[i].ID)
				}
			}
		}
	}
	return refused
}

// limits reports whether anything must hold at every step.
func (n *Now) limits() bool {
	limited := func(t model.Thing) bool { return t.Kind == model.License && t.Seats >= 0 || t.AtLeast > 0 }
	return len(n.Separations) > 0 ||
		slices.ContainsFunc(n.Apps, func(app *model.App) bool { return slices.ContainsFunc(app.Things, limited) })
}

// bare is a simulation that counts nothing yet.
func (t *Trial) bare(a int) *simulation {
	n := t.now
	app, accounts := n.Apps[a], n.Accounts[a]
	s := &simulation{
		Now:      n,
		trial:    t,
		a:        a,
		app:      app,
		accounts: accounts,
		defs:     accounts.Definitions,
		of:       map[string]*state{},
		byPerson: map[int32][]*state{},
	}
	s.reach = s.reacher()
	return s
}

func (t *Trial) simulate(a int) *simulation {
	n, s := t.now, t.bare(a)
	app, accounts := s.app, s.accounts
	for t := range app.Things {
		thing := &app.Things[t]
		if thing.Kind == model.License && thing.Seats >= 0 {
			s.limited = append(s.limited, limit{thing: int32(t), seats: true})
		}
		if thing.AtLeast > 0 {
			s.limited = append(s.limited, limit{thing: int32(t)})
		}
	}
	for i := range n.Separations {
		if sep := &n.Separations[i]; slices.ContainsFunc(sep.Apart, func(x model.AppThing) bool { return x.App == a }) {
			s.apart = append(s.apart, sep)
		}
	}
	if len(s.limited) > 0 || len(s.apart) > 0 {
		s.index = table.NewIndex(accounts.Key, nil)
		s.count()
	}
	return s
}

// accountsOf lists the accounts of a person that hold anything, as pairs of
// application and account. O(accounts), once.
func (t *Trial) accountsOf(person int32) []model.AppThing {
	if t.persons == nil {
		t.persons = map[int32][]model.AppThing{}
		for a, accounts := range t.now.Accounts {
			if accounts == nil {
				continue
			}
			for i, p := range t.now.PersonOf[a] {
				if p != diff.None && accounts.Held[i] != 0 {
					t.persons[p] = append(t.persons[p], model.AppThing{App: a, Thing: int32(i)})
				}
			}
		}
	}
	return t.persons[person]
}
