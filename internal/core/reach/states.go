package reach

import (
	"pravet/internal/core/diff"
	"pravet/internal/core/graph"
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
	apps     []*model.App
	accounts []*model.Accounts
	reach    []*Reacher          // of each application, nil for one that was not selected
	before   []*Reacher          // likewise, by the definitions as exported
	narrowed []*Reacher          // likewise, once the plan has taken from them and not yet added
	of       []map[string]*State // application → account → state
}

// Follow follows the changes of a plan, in O(changes).
func Follow(apps []*model.App, accounts []*model.Accounts, changes []diff.Change) *States {
	return FollowBut(apps, accounts, changes, nil)
}

// FollowBut follows changes where some definitions stay as they are exported.
func FollowBut(
	apps []*model.App,
	accounts []*model.Accounts,
	changes []diff.Change,
	stays func(app int, thing int32) bool,
) *States {
	s := &States{apps: apps, accounts: accounts}
	for a, app := range apps {
		var r, before, narrowed *Reacher
		if accounts[a] != nil {
			wanted, exported := graph.Wanted(app, accounts[a]), graph.Exported(app, accounts[a])
			if stays != nil {
				wanted = graph.Mixed(wanted, exported, func(t int32) bool { return stays(a, t) })
			}
			r = New(wanted, accounts[a].Sets)
			before, narrowed = r, r
			if !exported.Equal(wanted) {
				before, narrowed = New(
					exported,
					accounts[a].Sets,
				), New(
					graph.Common(exported, wanted),
					accounts[a].Sets,
				)
			}
		}
		s.reach, s.before, s.narrowed = append(s.reach, r), append(s.before, before), append(s.narrowed, narrowed)
		s.of = append(s.of, map[string]*State{})
	}
	for i := range changes {
		ch := &changes[i]
		if ch.Verb.OfThing() {
			continue
		}
		st := s.of[ch.App][ch.Key]
		if st == nil {
			st = &State{}
			if ch.Account != diff.None {
				st.Open, st.Set = accounts[ch.App].Open(int(ch.Account)), accounts[ch.App].Held[ch.Account]
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

// Before returns the Reacher of an application as its definitions are before
// the plan.
func (s *States) Before(app int) *Reacher { return s.before[app] }

// Narrowed returns the Reacher of an application as its definitions are while
// the plan narrows: without what it takes from them, and without what it adds.
func (s *States) Narrowed(app int) *Reacher { return s.narrowed[app] }

// Through lists the accounts of an application that gain or lose something by a
// redefinition: those that have the thing before the plan, and also after it
// unless less comes along by then, and may sign in, or with blocked all of them.
// O(accounts).
func (s *States) Through(c *diff.Change, blocked bool) (out []int32) {
	a := int(c.App)
	accounts, before, after := s.accounts[a], s.before[a], s.reach[a]
	moved := accounts.Sets.Of(s.apps[a].Numbers(c.Moved()))
	seen := map[[2]uint32]bool{} // what is held before and after the plan → gains or loses by it
	for i, set := range accounts.Held {
		state := State{set, set, accounts.Open(i), accounts.Open(i)}
		if st := s.of[a][accounts.Key.At(i)]; st != nil {
			state = *st
		}
		if !blocked && (!state.Open || !state.OpenAfter) || !before.Has(set, c.Thing) {
			continue
		}
		brings := c.Field == diff.Brings || c.Verb == model.Define
		if losesMore := brings && c.Sense == diff.Less; !losesMore && !after.Has(state.After, c.Thing) {
			continue // it goes with the thing
		}
		moves, ok := seen[[2]uint32{set, state.After}]
		if !ok {
			switch {
			case !brings:
				moves = c.Sense != diff.Same
			case c.Sense == diff.More:
				moves = before.Without(after.Full(moved), before.Full(set)) != 0
			default:
				moves = before.Without(
					before.Without(before.Full(moved), s.narrowed[a].Full(set)),
					after.Full(state.After),
				) != 0
			}
			seen[[2]uint32{set, state.After}] = moves
		}
		if moves {
			out = append(out, int32(i))
		}
	}
	return out
}

// App returns the Reacher of an application.
func (s *States) App(app int) *Reacher { return s.reach[app] }

// Losing tells which accounts of an application have a thing actively and will
// not, and how many active holders more there will be, or fewer.
func (s *States) Losing(app int, thing int32) (losers map[string]bool, more int) {
	return Losing(s.before[app], s.reach[app], s.of[app], thing)
}

// Losing tells it of some accounts, by how definitions are before and after;
// more is counted from what the accounts would have before by the latter.
func Losing(before, after *Reacher, of map[string]*State, thing int32) (losers map[string]bool, more int) {
	losers = map[string]bool{}
	for key, st := range of {
		was, would, will := st.Open &&
			before.Has(st.Set, thing), st.Open &&
			after.Has(st.Set, thing), st.OpenAfter &&
			after.Has(st.After, thing)
		if was && !will {
			losers[key] = true
		}
		switch {
		case would && !will:
			more--
		case !would && will:
			more++
		}
	}
	return losers, more
}
