package reach

import (
	"pravet/internal/core/diff"
	"pravet/internal/core/model"
)

// A State is what one account holds directly before a plan and after all of
// it, and whether it may sign in.
type State struct {
	Set, After      uint32
	Open, OpenAfter bool
}

// States are the accounts of all applications that a plan touches.
type States struct {
	accounts []*model.Accounts
	reach    []*Reacher          // of each application, nil for one that was not selected
	of       []map[string]*State // application → account → state
}

// Follow follows the changes of a plan, in O(changes).
func Follow(apps []*model.App, accounts []*model.Accounts, changes []diff.Change) *States {
	s := &States{accounts: accounts}
	for a, app := range apps {
		var r *Reacher
		if accounts[a] != nil {
			r = New(app, accounts[a].Sets)
		}
		s.reach = append(s.reach, r)
		s.of = append(s.of, map[string]*State{})
	}
	for i := range changes {
		ch := &changes[i]
		st := s.of[ch.App][ch.Key]
		if st == nil {
			st = &State{}
			if ch.Account != diff.None {
				st.Open, st.Set = accounts[ch.App].Open[ch.Account], accounts[ch.App].Held[ch.Account]
			}
			st.After, st.OpenAfter = st.Set, st.Open
			s.of[ch.App][ch.Key] = st
		}
		st.Step(accounts[ch.App].Sets, ch.Verb, ch.Thing)
	}
	return s
}

// Step carries one change out on what the account has after those before; the
// thing of a change that has none is -1.
func (st *State) Step(sets *model.Sets, verb model.Verb, thing int32) {
	switch verb {
	case model.Suspend:
		st.OpenAfter = false
	case model.Remove:
		st.OpenAfter, st.After = false, 0
	case model.Create, model.Restore:
		st.OpenAfter = true
	case model.Assign, model.Join, model.Grant:
		st.After = sets.With(st.After, thing)
	case model.Release, model.Leave, model.Revoke:
		st.After = sets.Without(st.After, thing)
	}
}

// Of returns the state of an account, nil for one that the plan does not touch.
func (s *States) Of(app int, account string) *State { return s.of[app][account] }

// App returns the Reacher of an application.
func (s *States) App(app int) *Reacher { return s.reach[app] }

// Losing tells which accounts of an application have a thing actively and will
// not, and how many active holders more there will be, or fewer.
func (s *States) Losing(app int, thing int32) (losers map[string]bool, more int) {
	return s.reach[app].Losing(s.of[app], thing)
}

// Losing tells it of some accounts.
func (r *Reacher) Losing(of map[string]*State, thing int32) (losers map[string]bool, more int) {
	losers = map[string]bool{}
	for key, st := range of {
		before, after := st.Open && r.Has(st.Set, thing), st.OpenAfter && r.Has(st.After, thing)
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
