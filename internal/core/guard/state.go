package guard

import (
	"pravet/internal/core/diff"
	"pravet/internal/core/model"
)

// states follows what the accounts that a plan touches hold, before the plan
// and after all of it.
type states struct {
	in    *Input
	reach []*reacher          // of each application, nil for one that was not selected
	of    []map[string]*state // application → account → state
}

// A reacher tells what sets of things give, by themselves and along.
type reacher struct {
	app  *model.App
	sets *model.Sets
	full map[uint32]uint32 // set → set with all it brings
}

func newReacher(app *model.App, sets *model.Sets) *reacher {
	return &reacher{app, sets, map[uint32]uint32{}}
}

func (r *reacher) reaches(set uint32, thing int32) bool {
	full, ok := r.full[set]
	if !ok {
		members := r.sets.Members(set)
		full = r.sets.Of(append(r.app.Implied(members), members...))
		r.full[set] = full
	}
	return r.sets.Has(full, thing)
}

// brings tells whether one thing is, or brings along, another.
func (r *reacher) brings(thing, other int32) bool {
	return r.reaches(r.sets.Of([]int32{thing}), other)
}

// active counts the accounts that are open and have a thing.
func (r *reacher) active(accounts *model.Accounts, thing int32) int {
	n := 0
	for i, set := range accounts.Held {
		if accounts.Open[i] && r.reaches(set, thing) {
			n++
		}
	}
	return n
}

// losing returns which accounts have a thing actively and will not, and how
// many active holders more there will be, or fewer.
func (r *reacher) losing(of map[string]*state, thing int32) (losers map[string]bool, more int) {
	losers = map[string]bool{}
	for key, st := range of {
		before, after := st.open && r.reaches(st.set, thing), st.openAfter && r.reaches(st.after, thing)
		switch {
		case before && !after:
			more--
			losers[key] = true
		case !before && after:
			more++
		}
	}
	return losers, more
}

type state struct {
	person             int32
	set, after         uint32
	open, openAfter    bool
	exists, existAfter bool
}

func newStates(in *Input) *states {
	s := &states{in: in}
	for a, app := range in.Apps {
		var r *reacher
		if in.Accounts[a] != nil {
			r = newReacher(app, in.Accounts[a].Sets)
		}
		s.reach = append(s.reach, r)
		s.of = append(s.of, map[string]*state{})
	}
	for i := range in.Changes {
		ch := &in.Changes[i]
		st := s.start(ch)
		s.apply(st, ch)
	}
	return s
}

// start returns the state of the account that a change is about.
func (s *states) start(ch *diff.Change) *state {
	st := s.of[ch.App][ch.Key]
	if st == nil {
		st = &state{person: ch.Person}
		if ch.Account != diff.None {
			accounts := s.in.Accounts[ch.App]
			st.exists, st.open, st.set = true, accounts.Open[ch.Account], accounts.Held[ch.Account]
		}
		st.after, st.openAfter, st.existAfter = st.set, st.open, st.exists
		s.of[ch.App][ch.Key] = st
	}
	return st
}

func (s *states) apply(st *state, ch *diff.Change) {
	sets := s.in.Accounts[ch.App].Sets
	switch ch.Verb {
	case model.Suspend:
		st.openAfter = false
	case model.Remove:
		st.openAfter, st.existAfter, st.after = false, false, 0
	case model.Create, model.Restore:
		st.openAfter, st.existAfter = true, true
	case model.Assign, model.Join, model.Grant:
		st.after = sets.With(st.after, ch.Thing)
	case model.Release, model.Leave, model.Revoke:
		st.after = sets.Without(st.after, ch.Thing)
	}
}

// reaches tells whether a set of things gives one, by itself or along.
func (s *states) reaches(a int, set uint32, thing int32) bool { return s.reach[a].reaches(set, thing) }

// brings tells whether one thing is, or brings along, another.
func (s *states) brings(a int, thing, other int32) bool { return s.reach[a].brings(thing, other) }

// holders counts the accounts of an export that have a thing, open or blocked,
// by set.
func (s *states) holders(a int, thing int32) int {
	accounts := s.in.Accounts[a]
	counts := make([]int, accounts.Sets.Count())
	for _, set := range accounts.Held {
		counts[set]++
	}
	n := 0
	for set, count := range counts {
		if count > 0 && s.reaches(a, uint32(set), thing) {
			n += count
		}
	}
	return n
}
