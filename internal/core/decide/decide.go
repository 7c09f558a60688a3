// Package decide computes what follows from decisions about a plan: which
// changes go along with an accepted one, which fall with a rejected one, what
// an earlier rejection sets aside, and what may be carried out.
package decide

import (
	"fmt"

	"pravet/internal/core/day"
	"pravet/internal/core/guard"
	"pravet/internal/core/plan"
)

// A Rejection says that a difference stays. It holds for the change with this
// id, and so for as long as the difference stays the same.
type Rejection struct {
	Change  string
	Until   day.Day // the last day it counts, or None
	Because string
	By      string
}

// On reports whether the rejection counts on a day.
func (r *Rejection) On(d day.Day) bool { return r.Until == day.None || d <= r.Until }

// A Lift takes a guard away: for one application or for all (App ""), for one
// plan or until a day.
type Lift struct {
	Guard   string
	App     string
	Plan    string // id of the plan, or "" for every plan
	Change  string // id of the change, or "" for all changes
	Until   day.Day
	Because string
	By      string
}

// Covers reports whether the lift counts for a hold of a guard on a change of
// an application, in a plan of a day. Without a change, it is asked for all of them.
func (l *Lift) Covers(guard, app, planID, change string, d day.Day) bool {
	return l.Guard == guard && (l.Change == "" || l.Change == change) && (l.App == "" || l.App == app) &&
		(l.Plan == "" || l.Plan == planID) && (l.Until == day.None || d <= l.Until)
}

// SetAside parts the changes of a draft, of which it returns the numbers of
// those left, from those that a rejection, or the rejection of something that
// they need, sets aside. Needed ones come first. O(changes).
func SetAside(changes []plan.Change, rejections []Rejection, today day.Day) (left []int, aside []plan.SetAside) {
	byID := map[string]*Rejection{}
	for i := range rejections {
		if r := &rejections[i]; r.On(today) {
			byID[r.Change] = r
		}
	}
	because := map[string]*Rejection{}
	left = make([]int, 0, len(changes))
	for i := range changes {
		c := &changes[i]
		r := byID[c.ID]
		if r == nil && len(byID) > 0 {
			r = byID[plan.FormerID(c)]
		}
		says := ""
		if r != nil {
			says = r.Because
		}
		for _, need := range c.Needs {
			if n := because[need]; n != nil && r == nil {
				r, says = n, fmt.Sprintf("it needs %s, which was rejected: %s", need, n.Because)
			}
		}
		if r == nil {
			left = append(left, i)
			continue
		}
		because[c.ID] = r
		aside = append(aside, plan.SetAside{Change: *c, Because: says, By: r.By, Until: r.Until.String()})
	}
	return left, aside
}

// WithNeeds adds to the chosen changes all that they need, to any depth, and
// returns the ids that it added, in the plan's order. O(changes).
func WithNeeds(p *plan.Plan, chosen map[string]bool) (added []string) {
	also := map[string]bool{}
	// Backwards, since what is needed comes before what needs it.
	for i := len(p.Changes) - 1; i >= 0; i-- {
		c := &p.Changes[i]
		if !chosen[c.ID] {
			continue
		}
		for _, need := range c.Needs {
			if !chosen[need] {
				chosen[need], also[need] = true, true
			}
		}
	}
	return inOrder(p, also)
}

// WithNeeding adds to the chosen changes all that need one of them, to any
// depth, and returns the ids that it added, in the plan's order. O(changes).
func WithNeeding(p *plan.Plan, chosen map[string]bool) (added []string) {
	also := map[string]bool{}
	for i := range p.Changes {
		c := &p.Changes[i]
		for _, need := range c.Needs {
			if chosen[need] && !chosen[c.ID] {
				chosen[c.ID], also[c.ID] = true, true
			}
		}
	}
	return inOrder(p, also)
}

func inOrder(p *plan.Plan, ids map[string]bool) (out []string) {
	if len(ids) == 0 {
		return nil
	}
	for i := range p.Changes {
		if ids[p.Changes[i].ID] {
			out = append(out, p.Changes[i].ID)
		}
	}
	return out
}

// A Verdict is what was decided about one change, the latest decision.
type Verdict int

// The verdicts.
const (
	Undecided Verdict = iota
	Accepted
	Rejected
)

// A State is what may become of one change.
type State string

// The states of a change, as it stands before a run.
const (
	Ready          State = "ready"     // will be carried out
	NotAccepted    State = "undecided" // nobody has accepted it, while others were
	StateRejected  State = "rejected"
	Held           State = "held"    // a guard holds it
	Lacking        State = "lacking" // something that it needs is not carried out
	Completed      State = "done"    // a run of the plan has settled it
	NoLongerDue    State = "past"    // it is no longer due
	AwaitingPerson State = "waiting" // somebody else is to carry it out, and it is not seen yet
	Tried          State = "tried"   // this run has carried it out, and the application does not show it
)

// PlanDecisions are what is decided about a plan as a whole.
type PlanDecisions struct {
	All      bool               // everything that is not decided by itself is accepted
	ForGood  bool               // and that is meant for what cannot be undone, too
	Verdicts map[string]Verdict // change → its own verdict
	AtRun    map[string]bool    // changes that were accepted only as a part was carried out
	Named    map[string]bool    // changes that were accepted by themselves, not only as another needs them
	Carried  map[string]Carried // of those accepted, those that were in another plan
	Lifts    []Lift
	Done     map[string]bool   // settled by an earlier run
	Waits    map[string][]Wait // accepted by some, and by the rules for deciders not by enough
	Ignored  []Ignored         // decisions that count for nothing
}

// An Ignored is a decision that is on record and counts for nothing.
type Ignored struct {
	Entry int64
	By    string
	Says  string // why
}

// AnyAccepted reports whether some change was accepted individually: not only as a run of a part of the plan was asked for,
// which leaves the rest as it was.
func (s *PlanDecisions) AnyAccepted() bool {
	for id, v := range s.Verdicts {
		if v == Accepted && !s.AtRun[id] {
			return true
		}
	}
	return false
}

// Accepts reports whether a change is accepted. What cannot be undone is so only by itself,
// or where that was said of the whole plan.
func (s *PlanDecisions) Accepts(c *plan.Change) bool {
	return s.Wanted(c) && len(s.Waits[c.ID]) == 0
}

// Wanted reports whether a change would be accepted, had enough of those accepted it who decide about it.
func (s *PlanDecisions) Wanted(c *plan.Change) bool {
	named := s.Verdicts[c.ID] == Accepted
	if c.ForGood {
		return named && s.Named[c.ID] || s.All && s.ForGood
	}
	return named || s.All
}

// Ready tells for each change of the plan what may become of it, in the
// plan's order. When All is not set and some changes are accepted by
// themselves, only those are ready. O(changes).
func (s *PlanDecisions) Ready(p *plan.Plan, today day.Day) []State {
	out := make([]State, len(p.Changes))
	at := map[string]State{} // of those that another change needs
	for i := range p.Changes {
		for _, need := range p.Changes[i].Needs {
			at[need] = NotAccepted
		}
	}
	for i := range p.Changes {
		c := &p.Changes[i]
		v := s.Verdicts[c.ID]
		switch {
		case s.Done[c.ID]:
			out[i] = Completed
		case v == Rejected:
			out[i] = StateRejected
		case len(s.Holding(p, c, today)) > 0:
			out[i] = Held
		case s.Accepts(c):
			out[i] = Ready
		default:
			out[i] = NotAccepted
		}
		if out[i] == Ready {
			for _, need := range c.Needs {
				if st := at[need]; st != Ready && st != Completed {
					out[i] = Lacking
				}
			}
		}
		if _, needed := at[c.ID]; needed {
			at[c.ID] = out[i]
		}
	}
	return out
}

// IfAccepted is what Ready would be, were everything accepted that is not rejected and that nothing holds.
func (s *PlanDecisions) IfAccepted(p *plan.Plan, today day.Day) []State {
	all := *s
	all.All, all.ForGood, all.Waits = true, true, nil
	return all.Ready(p, today)
}

// Lifted is what takes a guard away from a change on a day, or nil.
func (s *PlanDecisions) Lifted(p *plan.Plan, c *plan.Change, guard string, today day.Day) *Lift {
	for i := range s.Lifts {
		if l := &s.Lifts[i]; l.Covers(guard, c.App, p.ID, c.ID, today) {
			return l
		}
	}
	return nil
}

// Holding returns the holds of a change that no lift covers, and that do not end by
// its being accepted by itself.
func (s *PlanDecisions) Holding(p *plan.Plan, c *plan.Change, today day.Day) (out []plan.Hold) {
	for _, h := range c.Holds {
		if guard.Asks(h.Guard) && s.Named[c.ID] && s.Verdicts[c.ID] == Accepted {
			continue
		}
		if s.Lifted(p, c, h.Guard, today) != nil {
			continue
		}
		out = append(out, h)
	}
	return out
}
