package course

import (
	"slices"

	"pravet/internal/core/fact"

	"pravet/internal/core/account"
	"pravet/internal/core/diff"
	"pravet/internal/core/guard"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/core/table"
)

// A simulation carries changes out on one application in thought.
type simulation struct {
	*Now
	trial    *Trial
	a        int
	app      *model.App
	accounts *model.Accounts
	defs     *model.Definitions
	reach    *diff.Reacher
	index    *table.Index
	of       map[string]*state
	limited  []limit
	apart    []*model.Separation // those that this application has a side in
	byPerson map[int32][]*state
	rows     map[string]int32 // id of a person → person
}

type state struct {
	set    uint32
	had    uint32 // of a removed account: what it holds again once it is restored
	open   bool
	person int32
}

// A limit is a thing of which so many may be held, or so many must be.
type limit struct {
	thing int32
	count int // holders of a license, active holders of what some must stay of
	seats bool
}

// reacher reaches by the definitions as they are in thought.
func (s *simulation) reacher() *diff.Reacher {
	as := *s.accounts
	as.Definitions = s.defs
	return diff.New(model.ExportedGraph(s.app, &as), s.accounts.Sets)
}

// count counts the holders of what is limited, with what was carried out in
// thought so far.
func (s *simulation) count() {
	for i := range s.limited {
		l := &s.limited[i]
		l.count = 0
		s.each(func(st state) {
			if l.counts(s.reach, &st) {
				l.count++
			}
		})
	}
}

// counts reports whether an account is one of those that a limit counts.
func (l *limit) counts(r *diff.Reacher, st *state) bool {
	return (l.seats || st.open) && r.Has(st.set, l.thing)
}

// each calls f with every account as it is in thought.
func (s *simulation) each(f func(state)) {
	seen := 0
	for i, set := range s.accounts.Held {
		if len(s.of) > 0 {
			if st := s.of[s.accounts.Key.At(i)]; st != nil {
				seen++
				f(*st)
				continue
			}
		}
		f(state{set: set, open: s.accounts.Open(i), person: diff.None})
	}
	if seen == len(s.of) {
		return
	}
	for key, st := range s.of { // those that were created
		if s.index.Find(key) < 0 {
			f(*st)
		}
	}
}

// account is the state of a change's account.
func (s *simulation) account(c *plan.Change) *state {
	key, at := c.Account, s.index.Spelled(c.Account)
	if at >= 0 {
		key = s.accounts.Key.At(at)
	}
	st := s.of[key]
	if st == nil {
		st = &state{person: diff.None}
		if at >= 0 {
			st.set, st.open, st.person = s.accounts.Held[at], s.accounts.Open(at), s.PersonOf[s.a][at]
			st.had = s.accounts.Had[int32(at)]
		} else if c.Person != "" {
			st.person = s.row(c.Person)
		}
		s.of[key] = st
		if st.person != diff.None {
			s.byPerson[st.person] = append(s.byPerson[st.person], st)
		}
	}
	return st
}

// row finds a person by id.
func (s *simulation) row(id string) int32 {
	if s.rows == nil {
		s.rows = map[string]int32{}
		if ids := s.People.Column("id"); ids != nil {
			for i := range ids.Len() {
				s.rows[ids.At(i)] = int32(i)
			}
		}
	}
	if p, ok := s.rows[id]; ok {
		return p
	}
	return diff.None
}

// step carries one change out in thought, unless that would break something.
func (s *simulation) step(c *plan.Change, lifted func(string, *plan.Change) bool) *plan.Hold {
	if c.Verb.OfThing() {
		return s.definition(c, lifted)
	}
	st := s.account(c)
	after := *st
	thing := diff.None
	if c.Thing != nil {
		if thing = s.app.Thing(c.Thing.Kind, c.Thing.Name); thing < 0 {
			return nil
		}
	}
	next := diff.State{After: st.set, OpenAfter: st.open, Had: st.had}
	verb := c.Verb
	if c.Blocked {
		verb = model.Update // the account is there, and nobody may sign in
	}
	next.Step(s.app, s.accounts.Sets, verb, thing)
	after.set, after.open, after.had = next.After, next.OpenAfter, next.Had
	for i := range s.limited {
		l := &s.limited[i]
		was, will := l.counts(s.reach, st), l.counts(s.reach, &after)
		if was == will {
			continue
		}
		if h := s.beyond(l, will); h != nil && !lifted(h.Guard, c) {
			return h
		}
	}
	if h := s.pairs(st, &after); h != nil && !lifted(h.Guard, c) {
		return h
	}
	for i := range s.limited {
		l := &s.limited[i]
		switch was, will := l.counts(s.reach, st), l.counts(s.reach, &after); {
		case was && !will:
			l.count--
		case will && !was:
			l.count++
		}
	}
	*st = after
	return nil
}

// beyond is the hold of one holder more, or one fewer, of what is limited.
func (s *simulation) beyond(l *limit, more bool) *plan.Hold {
	thing := &s.app.Things[l.thing]
	switch {
	case l.seats && more && l.count+1 > thing.Seats:
		return held(
			guard.Seats,
			fact.Fact{Kind: fact.NoSeatNow, Thing: thing.String(), Whole: thing.Seats, Count: l.count},
		)
	case !l.seats && !more && l.count-1 < thing.AtLeast:
		return held(guard.AtLeast, guard.TooFew(l.count-1, thing))
	}
	return nil
}

// pairs is the hold of an account that comes to have, with all that its person
// has, what is kept apart.
func (s *simulation) pairs(is, will *state) *plan.Hold {
	if is.person == diff.None || is.set == will.set {
		return nil
	}
	for _, sep := range s.apart {
		gained := false
		for _, x := range sep.Apart {
			gained = gained || x.App == s.a && !s.reach.Has(is.set, x.Thing) && s.reach.Has(will.set, x.Thing)
		}
		if !gained {
			continue
		}
		before, after := s.sides(sep, is, is), s.sides(sep, is, will)
		if after > before && after > 1 && s.exception(sep, is.person) == nil {
			return s.apartNow(sep, is.person)
		}
	}
	return nil
}

func held(name string, f fact.Fact) *plan.Hold {
	h := guard.Hold(name, f)
	return &h
}

// apartNow is the hold of a person who would hold what is kept apart.
func (s *simulation) apartNow(sep *model.Separation, p int32) *plan.Hold {
	return held(guard.Separation, fact.Fact{
		Kind:   fact.ApartToday,
		Person: s.People.Get(int(p), "displayName"),
		Other:  sep.Name,
		Place:  sep.Pos.String(),
	})
}

// sides counts the things of a separation that a person has, in all accounts of
// all applications, where one account is as given.
func (s *simulation) sides(sep *model.Separation, of, as *state) (n int) {
	for _, x := range sep.Apart {
		if s.has(x, of, as) {
			n++
		}
	}
	return n
}

func (s *simulation) has(x model.AppThing, of, as *state) bool {
	if x.App == s.a && s.reach.Has(as.set, x.Thing) {
		return true
	}
	accounts := s.Accounts[x.App]
	if accounts == nil {
		return false
	}
	there := s.trial.of(x.App)
	for _, st := range there.byPerson[of.person] {
		if st != of && there.reach.Has(st.set, x.Thing) {
			return true
		}
	}
	for _, at := range s.trial.accountsOf(of.person) {
		if at.App == x.App && there.of[accounts.Key.At(int(at.Thing))] == nil &&
			there.reach.Has(accounts.Held[at.Thing], x.Thing) {
			return true
		}
	}
	return false
}

func (s *simulation) exception(sep *model.Separation, p int32) *model.Exception {
	return model.Excepted(s.Exceptions, sep.Name, s.People.Get(int(p), "id"), s.Today)
}

// definition carries a change of a definition out in thought. What it moves, it
// moves for all who have the thing.
func (s *simulation) definition(c *plan.Change, lifted func(string, *plan.Change) bool) *plan.Hold {
	before, defs, counts := s.reach, s.defs, slices.Clone(s.limited)
	s.defs = account.Define(s.app, s.defs, c)
	s.reach = s.reacher()
	s.count()
	var h *plan.Hold
	for i := range s.limited {
		l, was := &s.limited[i], &counts[i]
		thing := &s.app.Things[l.thing]
		switch {
		case l.seats && l.count > was.count && l.count > thing.Seats:
			h = held(
				guard.Seats,
				fact.Fact{Kind: fact.SeatsNow, Thing: thing.String(), Count: l.count, Whole: thing.Seats},
			)
		case !l.seats && l.count < was.count && l.count < thing.AtLeast:
			h = held(guard.AtLeast, guard.TooFew(l.count, thing))
		}
	}
	if h == nil {
		h = s.newPairs(before)
	}
	if h != nil && !lifted(h.Guard, c) {
		s.reach, s.defs, s.limited = before, defs, counts
		return h
	}
	return nil
}

// newPairs is the hold of somebody who comes to hold what is kept apart by
// another definition than before.
func (s *simulation) newPairs(before *diff.Reacher) *plan.Hold {
	now := s.reach
	for _, sep := range s.apart {
		for i, p := range s.PersonOf[s.a] {
			if p == diff.None {
				continue
			}
			st := s.of[s.accounts.Key.At(i)]
			if st == nil {
				st = &state{set: s.accounts.Held[i], open: s.accounts.Open(i), person: p}
			}
			gains := slices.ContainsFunc(sep.Apart, func(x model.AppThing) bool {
				return x.App == s.a && now.Has(st.set, x.Thing) && !before.Has(st.set, x.Thing)
			})
			if !gains {
				continue
			}
			after := s.sides(sep, st, st)
			s.reach = before
			was := s.sides(sep, st, st)
			s.reach = now
			if after > was && after > 1 && s.exception(sep, p) == nil {
				return s.apartNow(sep, p)
			}
		}
	}
	return nil
}
