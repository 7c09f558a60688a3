package desk

import (
	"errors"
	"fmt"
	"strings"

	"pravet/internal/carry"
	"pravet/internal/core/day"
	"pravet/internal/core/guard"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/decisions"
	"pravet/internal/ledger"
	"pravet/internal/prepare"
)

// A Decision is one accept or reject while it is made.
type Decision struct {
	*Selection
	Plan    *plan.Plan
	Choice  decisions.Choice
	ForGood int // of what was chosen, changes that cannot be undone and are not accepted

	maker   *decisions.Maker
	named   map[string]bool // of the choice, those that were named by id or number
	exact   map[string]bool // of those, the ones that were named by id
	because string
}

// Decide finds what is meant: the changes that words name, and those that a choice leaves; the
// whole plan where there is neither. The plan must be one that can still be decided about.
func (d *Desk) Decide(p *plan.Plan, words []string, choice Choice, because string) (*Decision, error) {
	sel, err := d.Select(p, choice)
	if err != nil {
		return nil, err
	}
	x := &Decision{
		Selection: sel, Plan: p, because: because, named: map[string]bool{}, exact: map[string]bool{},
		Choice: decisions.Choice{Changes: map[string]bool{}, All: len(words) == 0 && choice.Empty()},
	}
	if err := x.choose(words); err != nil {
		return nil, err
	}
	l, err := d.entering()
	if err != nil {
		return nil, err
	}
	if err := d.register(l, p); err != nil {
		return nil, err
	}
	if err := sel.open(l); err != nil {
		return nil, err
	}
	x.maker = &decisions.Maker{Ledger: l, Repo: d.state.Repo, Plan: p, Today: d.today, By: d.Actor(), Signer: d.signer()}
	return x, nil
}

// open makes sure that a plan can still be decided about: it was not carried out, and fits the
// files and the exports.
func (s *Selection) open(l ledger.Ledger) error {
	p, done, left := s.plan, 0, 0
	for i := range p.Changes {
		switch s.States[p.Changes[i].ID] {
		case "done":
			done++
		case "rejected":
		default:
			left++
		}
	}
	if done > 0 && left == 0 {
		return sayNothingToDecide(p.ID)
	}
	s.folk() // read, if nobody has asked for them yet
	if err := mend(s.desk.state); err != nil {
		return err
	}
	if err := s.desk.bring(s.desk.state, nil); err != nil {
		return err
	}
	var old *carry.OutOfDate
	err := carry.InDate(s.desk.ctx, s.desk.state, p, l)
	if errors.As(err, &old) {
		return sayTooOldToDecide(p.ID, old.Moved)
	}
	return err
}

// choose resolves the changes named one by one, and those selected.
func (x *Decision) choose(names []string) error {
	for _, name := range names {
		found, err := x.Named(name)
		if err != nil {
			return err
		}
		for _, c := range found {
			if !x.inPlan(c) {
				x.Choice.Aside = append(x.Choice.Aside, c.ID)
				continue
			}
			x.Choice.Changes[c.ID] = true
			x.named[c.ID] = x.named[c.ID] || !strings.HasPrefix(name, ":")
			x.exact[c.ID] = x.exact[c.ID] || strings.HasPrefix(c.ID, name)
		}
	}
	if !x.Choice.All && x.Empty() {
		return nil
	}
	changes, _, err := x.Changes() // what is set aside is taken up by its id only
	if err != nil {
		return err
	}
	if len(changes) == 0 && !x.Choice.All {
		return wrong(sayNothingFits())
	}
	for _, ch := range changes {
		x.Choice.Changes[ch.ID] = true
	}
	return nil
}

// careful leaves out of what is to be accepted what cannot be undone and was not named, and
// counts it.
func (x *Decision) careful() {
	for i := range x.Plan.Changes {
		c := &x.Plan.Changes[i]
		if !c.ForGood || x.named[c.ID] {
			continue
		}
		if x.Choice.All || x.Choice.Changes[c.ID] {
			x.ForGood++
		}
		delete(x.Choice.Changes, c.ID)
	}
}

// spare leaves out of what is to be accepted what was rejected by itself: a selection, a cause
// or a range of numbers does not take a rejection back; an id does.
func (x *Decision) spare() {
	for i := range x.Plan.Changes {
		id := x.Plan.Changes[i].ID
		if x.Choice.All || !x.Choice.Changes[id] || x.exact[id] || x.States[id] != "rejected" {
			continue
		}
		x.Choice.Left = append(x.Choice.Left, id)
		delete(x.Choice.Changes, id)
		delete(x.named, id)
	}
}

// Accept accepts what was chosen, and lifts guards. What cannot be undone is accepted where it
// was named, or with forGood.
func (x *Decision) Accept(lift []string, forGood bool) (*decisions.Made, error) {
	x.spare()
	if x.Choice.ForGood = forGood; !forGood {
		x.careful()
		if x.ForGood > 0 && !x.Choice.All && len(x.Choice.Changes)+len(x.Choice.Aside) == 0 {
			return nil, wrong(sayOnlyForGood(x.ForGood))
		}
	}
	for _, g := range lift {
		switch entry, known := guard.Named(g); {
		case !known:
			return nil, wrongIn("lift", prepare.UnknownName("guard", g, guard.Names(guard.ForChange)))
		case g == guard.Keeping:
			return nil, wrong(sayCannotLiftKept())
		case entry.Lift == guard.Never:
			return nil, wrong(sayCannotLift(g))
		case entry.Lift == guard.ForChange && len(x.named) == 0:
			return nil, wrong(sayLiftOneByOne(g))
		}
	}
	lifts := decisions.Lifts{Guards: lift}
	for i := range x.Plan.Changes {
		if id := x.Plan.Changes[i].ID; x.named[id] {
			lifts.Changes = append(lifts.Changes, id)
		}
	}
	made, err := x.maker.Accept(x.desk.ctx, x.Choice, lifts, x.because)
	if err == nil && x.maker.Sheet == nil {
		err = x.desk.note(x.maker.Ledger)
	}
	if errors.Is(err, decisions.ErrLeft) {
		return nil, wrong(sayAllRejected(len(x.Choice.Left), x.Choice.Left[0]))
	}
	return made, err
}

// Held counts the changes that a guard holds, of those that were named or else of all.
func (x *Decision) Held(guard string) (n int) {
	for i := range x.Plan.Changes {
		c := &x.Plan.Changes[i]
		for _, h := range c.Holds {
			if h.Guard == guard && (len(x.named) == 0 || x.named[c.ID]) {
				n++
			}
		}
	}
	return n
}

// Reject rejects what was chosen until a day, day.None for good. A decision that cannot be made
// tells what of it was done already.
func (x *Decision) Reject(until day.Day, standing bool) (*decisions.Made, error) {
	if asOf, err := day.Parse(x.Plan.AsOf); err == nil && until != day.None && until < asOf {
		return nil, wrong(sayUntilIsOver(until, asOf))
	}
	made, err := x.maker.Reject(x.desk.ctx, x.Choice, until, standing, x.because)
	if err == nil && x.maker.Sheet == nil {
		err = x.desk.note(x.maker.Ledger)
	}
	return made, err
}

// sayAllRejected is a selection of nothing but what was rejected.
func sayAllRejected(n int, id string) error {
	return fmt.Errorf(
		"nothing was accepted: %s rejected earlier; to accept one, name it by its id, for example %s",
		model.Count(n, "change that fits was", "changes that fit were"), id,
	)
}

// sayNothingToDecide is a decision about a plan that has been carried out.
func sayNothingToDecide(plan string) error {
	return fmt.Errorf(
		"plan %s has been carried out, so there is nothing left to decide about it; draft again with: pravet draft",
		plan,
	)
}

// sayTooOldToDecide is a decision about a plan that is out of date.
func sayTooOldToDecide(plan string, moved []string) error {
	return fmt.Errorf(
		"plan %s is out of date, and nothing was decided: %s. Draft again, and decide about the new plan", plan,
		strings.Join(moved, "; "),
	)
}

// sayNothingFits is a selection that no change fits.
func sayNothingFits() error { return errors.New("the plan has no change that fits") }

// sayOnlyForGood is a choice of nothing but what cannot be undone, none of it by name.
func sayOnlyForGood(n int) error {
	return fmt.Errorf(
		"%s cannot be undone, and nothing was accepted; name %s by id or number, or add --for-good",
		model.Count(n, "change", "changes"), model.Plural(n, "it", "them"),
	)
}

// sayCannotLift is a guard that holds what cannot be done.
func sayCannotLift(guard string) error {
	return fmt.Errorf("--lift: the guard %s cannot be lifted; remove what causes it", guard)
}

// sayLiftOneByOne is a guard that may be lifted only for single changes.
func sayLiftOneByOne(guard string) error {
	return fmt.Errorf(
		"--lift: the guard %s can be lifted only for one change at a time; name the change by its id or number: "+
			"pravet accept PLAN CHANGE --lift %s --because REASON", guard, guard,
	)
}

// sayCannotLiftKept is said of what standing.yaml keeps.
func sayCannotLiftKept() error {
	return errors.New(
		"--lift: the guard kept cannot be lifted; remove the entry under kept in standing.yaml, or wait until it expires",
	)
}

// sayUntilIsOver is a rejection that would end before the day of its plan.
func sayUntilIsOver(until, asOf day.Day) error {
	return fmt.Errorf("--until: %s is over on %s, the day of the plan", until, asOf)
}
