package desk

import (
	"fmt"
	"slices"

	"pravet/internal/core/outline"
	"pravet/internal/core/plan"
	"pravet/internal/core/words"
	"pravet/internal/decisions"
	"pravet/internal/signing"
)

// A Paper is a plan, or what of it waits for one person, for somebody who reads and decides away from the repository.
type Paper struct {
	*Selection
	Plan        *plan.Plan
	Part        []*plan.Change // what is on it, in the plan's order
	Of          *outline.Outline
	Seats       *Seatings // once all is carried out that is neither rejected nor held
	Waiting     []*Waiting
	Environment string
	Day         string // on which it was made, YYYY-MM-DD
	Signed      bool   // decisions count only if they are signed
	Namespace   string // of signatures; see ssh-keygen -Y sign
	For, Called string // the id of whom it is for, and the name; "" for anybody
	Grouped     []string
}

// Paper gathers a plan, or what of it waits for one person.
func (d *Desk) Paper(p *plan.Plan, forPerson string) (*Paper, error) {
	l, err := d.Record()
	if err != nil {
		return nil, err
	}
	sel, err := d.Select(p, Choice{})
	if err != nil {
		return nil, err
	}
	changes, _, err := sel.Changes()
	if err != nil {
		return nil, err
	}
	repo := d.state.Repo
	x := &Paper{
		Selection: sel, Plan: p, Environment: repo.Here(), Day: d.today.String(), Namespace: signing.Namespace,
		Signed: repo.Signing != nil && repo.Signing.Required,
	}
	if forPerson != "" {
		at, err := Somebody(repo, forPerson)
		if err != nil {
			return nil, wrongIn("for", err)
		}
		x.For, x.Called = repo.People.Get(at, "id"), repo.People.Called(at)
		drafter, err := decisions.DrafterOf(l, repo, p.ID)
		if err != nil {
			return nil, err
		}
		if changes = x.waitsFor(changes, drafter); len(changes) == 0 {
			return nil, wrong(sayNothingWaits(p.ID, x.Called))
		}
	}
	x.Part, x.Of = changes, sel.Outline(changes)
	for _, w := range sel.Waits() {
		if w.Rule != nil {
			x.Waiting = append(x.Waiting, w)
		}
	}
	x.Grouped = slices.Clone(Groupings)
	for _, a := range []string{"department", "title", "location", "userType", "manager"} {
		if name, ok := sel.attribute(a); ok {
			x.Grouped = append(x.Grouped, name)
		}
	}
	return x, x.count()
}

// waitsFor are the changes that wait for the person: those that the rules leave to them and, where no rule says who decides,
// those of applications that they own.
func (x *Paper) waitsFor(changes []*plan.Change, drafter string) (out []*plan.Change) {
	repo, today := x.desk.state.Repo, x.desk.today
	owns := map[string]bool{}
	for _, app := range repo.Apps {
		owns[app.ID] = app.Owner == x.For
	}
	may := decisions.Deciding(repo, today)
	waits := map[string]bool{}
	for _, w := range x.Waits() {
		for _, c := range w.Changes {
			if w.Rule == nil || w.Rule.Anybody() {
				waits[c.ID] = waits[c.ID] || owns[c.App]
				continue
			}
			waits[c.ID] = waits[c.ID] || !slices.Contains(w.By, x.For) && w.Rule.Counts(c, x.For, drafter, may)
		}
	}
	for _, c := range changes {
		if waits[c.ID] {
			out = append(out, c)
		}
	}
	return out
}

// count counts the seats, were all carried out that is neither rejected nor held.
func (x *Paper) count() error {
	b, err := (&Review{Selection: x.Selection, Plan: x.Plan, Today: x.desk.today}).Bureau()
	if err != nil {
		return err
	}
	s := b.Count(x.standing.IfAccepted(x.Plan, x.desk.today))
	x.Seats = &s
	return nil
}

// Value is an attribute of the person of a change.
func (x *Paper) Value(c *plan.Change, attr string) string { return x.personValue(c, attr) }

// Says is a change in one sentence.
func (x *Paper) Says(c *plan.Change) string { return words.Sentence(x.Plan, c) }

// State is what is decided about a change, or holds it, in a word.
func (x *Paper) State(c *plan.Change) string {
	switch {
	case x.States[c.ID] != "":
		return x.States[c.ID]
	case x.standing != nil && len(x.standing.Holding(x.Plan, c, x.desk.today)) > 0:
		return "held"
	}
	return "undecided"
}

// sayNothingWaits is a person whom nothing waits for.
func sayNothingWaits(plan, name string) error {
	return fmt.Errorf("nothing of plan %s waits for %s to decide", plan, name)
}
