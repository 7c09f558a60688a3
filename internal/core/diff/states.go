package diff

import (
	"slices"

	"pravet/internal/core/model"
)

// A State is what one account holds directly before a plan and after all of
// it, and whether it may sign in.
type State struct {
	Set, After      uint32
	Open, OpenAfter bool
	Touched         bool   // by any change
	Had             uint32 // of a removed account: what it holds again once it is restored
}

// Start is the state of an account before a plan.
func Start(accounts *model.Accounts, account int32) State {
	set, open := accounts.Held[account], accounts.Open(int(account))
	return State{Set: set, After: set, Open: open, OpenAfter: open, Had: accounts.Had[account]}
}

// States are the accounts of all applications that a plan touches.
type States struct {
	apps     []*model.App
	accounts []*model.Accounts
	reach    []*Reacher        // of each application, nil for one that was not selected
	before   []*Reacher        // likewise, by the definitions as exported
	narrowed []*Reacher        // likewise, once the plan has taken from them and not yet added
	of       [][]State         // application → slot of the changes → state
	slots    [][]int32         // application → account → slot, or diff.None; see At
	same     []map[int32]int32 // see diff.Result
	changes  []Change
}

// Follow follows the changes of a plan, in O(changes): what accounts hold, and what
// brings what along once the definitions are as those changes leave them. same is
// that of the diff.Result that they are of.
func Follow(apps []*model.App, accounts []*model.Accounts, same []map[int32]int32, changes []Change) *States {
	s := &States{apps: apps, accounts: accounts, same: same, changes: changes, slots: make([][]int32, len(apps))}
	slots, definitions := make([]int32, len(apps)), make([][]*Change, len(apps))
	for i := range changes {
		c := &changes[i]
		slots[c.App] = max(slots[c.App], c.Slot+1)
		if c.Verb.OfThing() {
			definitions[c.App] = append(definitions[c.App], c)
		}
	}
	for a, app := range apps {
		var r, before, narrowed *Reacher
		if accounts[a] != nil {
			exported := model.ExportedGraph(app, accounts[a])
			wanted := After(app, exported, definitions[a])
			r = New(wanted, accounts[a].Sets)
			before, narrowed = r, r
			if !exported.Equal(wanted) {
				before, narrowed = New(
					exported,
					accounts[a].Sets,
				), New(narrowing(app, exported, definitions[a]), accounts[a].Sets)
			}
		}
		s.reach, s.before, s.narrowed = append(s.reach, r), append(s.before, before), append(s.narrowed, narrowed)
		s.of = append(s.of, make([]State, slots[a]))
	}
	for i := range changes {
		ch := &changes[i]
		if ch.Verb.OfThing() {
			continue
		}
		st := &s.of[ch.App][ch.Slot]
		if !st.Touched {
			if ch.Account != None {
				*st = Start(accounts[ch.App], ch.Account)
			}
			st.Touched = true
		}
		st.Step(apps[ch.App], accounts[ch.App].Sets, ch.Does(), ch.Thing)
	}
	return s
}

// narrowing is a graph once those changes of definitions are carried out that come before what widens.
func narrowing(app *model.App, g *model.Graph, changes []*Change) *model.Graph {
	return After(app, g, slices.DeleteFunc(slices.Clone(changes), func(c *Change) bool {
		return c.Verb != model.Redefine || c.Sense != Less || c.Late
	}))
}

// After is a graph once some changes of definitions are carried out. What is to
// be retired brings along what it does, as long as it is there.
func After(app *model.App, g *model.Graph, changes []*Change) *model.Graph {
	edges := map[int32][]int32{}
	for _, c := range changes {
		is, ok := edges[c.Thing]
		if !ok {
			is = g.Brings(c.Thing)
		}
		switch {
		case c.Verb == model.Define:
			edges[c.Thing] = app.Things[c.Thing].Implies
		case c.Def.Field != Brings:
		case c.Sense == Less:
			edges[c.Thing] = model.Without(is, c.Def.Moved)
		default:
			edges[c.Thing] = append(model.Without(is, c.Def.Gone), model.Without(c.Def.Moved, is)...)
		}
	}
	if len(edges) == 0 {
		return g
	}
	return g.With(edges)
}

// Step carries one change out on what the account has after those before; the
// thing of a change that has none is -1. A thing of a kind of which everybody has one replaces another.
func (st *State) Step(app *model.App, sets *model.Sets, verb model.Verb, thing int32) {
	deed := verb.Deed()
	if deed.Moves {
		st.OpenAfter = deed.To == model.Open
	}
	switch {
	case deed.Clears:
		st.After = 0
	case deed.Back:
		st.After, st.Had = sets.Union(st.After, st.Had), 0
	case deed.Gains:
		st.After = app.Gain(sets, st.After, thing)
	case deed.Loses:
		st.After, st.Had = sets.Without(st.After, thing), sets.Without(st.Had, thing)
	}
}

// Of returns the state of the account of a change, nil where the plan does not
// touch it.
func (s *States) Of(c *Change) *State { return s.slot(int(c.App), c.Slot) }

func (s *States) slot(app int, slot int32) *State {
	if slot == None || int(slot) >= len(s.of[app]) || !s.of[app][slot].Touched {
		return nil
	}
	return &s.of[app][slot]
}

// At returns the state of an account by its number, nil for one that the plan does
// not touch. It costs O(accounts) the first time.
func (s *States) At(app, account int) *State { return s.slot(app, s.Slot(app, account)) }

// Slot returns the slot of the changes of an account, diff.None where it has none.
func (s *States) Slot(app, account int) int32 {
	if s.slots[app] == nil {
		s.slots[app] = slices.Repeat([]int32{None}, s.accounts[app].Len())
		for i := range s.changes {
			if c := &s.changes[i]; int(c.App) == app && c.Account != None && c.Slot != None {
				s.slots[app][s.one(app, c.Account)] = c.Slot
			}
		}
	}
	return s.slots[app][s.one(app, int32(account))]
}

// one is the row that stands for all rows of an account's name.
func (s *States) one(app int, account int32) int32 {
	if s.same != nil {
		if first, ok := s.same[app][account]; ok {
			return first
		}
	}
	return account
}

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
func (s *States) Through(c *Change, blocked bool) (out []int32) {
	a := int(c.App)
	accounts, before, after := s.accounts[a], s.before[a], s.reach[a]
	moved := accounts.Sets.Of(c.Def.Moved)
	seen := map[[2]uint32]bool{} // what is held before and after the plan → gains or loses by it
	for i, set := range accounts.Held {
		state := Start(accounts, int32(i))
		if st := s.At(a, i); st != nil {
			state = *st
		}
		if !blocked && (!state.Open || !state.OpenAfter) || !before.Has(set, c.Thing) {
			continue
		}
		brings := c.Verb == model.Define || c.Def.Field == Brings
		if losesMore := brings && c.Sense == Less; !losesMore && !after.Has(state.After, c.Thing) {
			continue // it goes with the thing
		}
		moves, ok := seen[[2]uint32{set, state.After}]
		if !ok {
			switch {
			case !brings:
				moves = c.Sense != Same
			case c.Sense == More:
				moves = before.Without(after.Full(moved), before.Full(set)) != 0
			case c.Late: // it waits for what gives back
				moves = before.Without(before.Full(moved), after.Full(set)) != 0
			default: // what others give in the same plan may not come
				moves = before.Without(before.Full(moved), s.narrowed[a].Full(set)) != 0
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

// Losing tells which accounts of an application, by their slots, have a thing
// actively and will not, and how many active holders more there will be, or fewer.
func (s *States) Losing(app int, thing int32) (losers map[int32]bool, more int) {
	return Losing(s.before[app], s.reach[app], s.of[app], thing)
}

// Losing tells it of some accounts, by how definitions are before and after;
// more is counted from what the accounts would have before by the latter.
func Losing(before, after *Reacher, of []State, thing int32) (losers map[int32]bool, more int) {
	losers = map[int32]bool{}
	for slot := range of {
		st := &of[slot]
		if !st.Touched {
			continue
		}
		was, would, will := st.Open &&
			before.Has(st.Set, thing), st.Open &&
			after.Has(st.Set, thing), st.OpenAfter &&
			after.Has(st.After, thing)
		if was && !will {
			losers[int32(slot)] = true
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
