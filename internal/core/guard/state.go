package guard

import (
	"pravet/internal/core/diff"
	"pravet/internal/core/model"
)

// states follows what the accounts that a plan touches hold, before the plan
// and after all of it.
type states struct {
	in    *Input
	reach []map[uint32]uint32 // application → set → set with all it brings
	of    []map[string]*state // application → account → state
}

type state struct {
	person             int32
	set, after         uint32
	open, openAfter    bool
	exists, existAfter bool
}

func newStates(in *Input) *states {
	s := &states{in: in}
	for range in.Apps {
		s.reach = append(s.reach, map[uint32]uint32{})
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
func (s *states) reaches(a int, set uint32, thing int32) bool {
	sets := s.in.Accounts[a].Sets
	full, ok := s.reach[a][set]
	if !ok {
		members := sets.Members(set)
		full = sets.Of(append(s.in.Apps[a].Implied(members), members...))
		s.reach[a][set] = full
	}
	return sets.Has(full, thing)
}

// brings tells whether one thing is, or brings along, another.
func (s *states) brings(a int, thing, other int32) bool {
	return s.reaches(a, s.in.Accounts[a].Sets.Of([]int32{thing}), other)
}

// holders counts the accounts of an export that have a thing, by set.
func (s *states) holders(a int, thing int32, openOnly bool) int {
	accounts := s.in.Accounts[a]
	counts := make([]int, accounts.Sets.Count())
	for i, set := range accounts.Held {
		if accounts.Open[i] || !openOnly {
			counts[set]++
		}
	}
	n := 0
	for set, count := range counts {
		if count > 0 && s.reaches(a, uint32(set), thing) {
			n += count
		}
	}
	return n
}
