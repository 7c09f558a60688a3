package draft

import (
	"pravet/internal/core/course"
	"pravet/internal/core/decide"
	"pravet/internal/core/diff"
	"pravet/internal/core/guard"
	"pravet/internal/core/plan"
)

// tried carries the plan out in thought, as a run would, without what guards hold,
// and holds what would break on the way what must hold at every step. Where too
// few would stay, all who go are held: which of them may is for a person to say.
func (d *drafter) tried(p *plan.Plan, changes []diff.Change) {
	now := &course.Now{People: d.in.People, Apps: d.in.Apps, Accounts: d.accounts, PersonOf: d.personOf,
		Separations: d.in.Separations, Exceptions: d.in.Exceptions, Today: d.in.Today}
	lifted := func(guard string, c *plan.Change) bool { return d.isLifted(guard, c.App) }
	for {
		states := make([]decide.State, len(p.Changes))
		for i := range states {
			states[i] = decide.Ready
			if len(p.Changes[i].Holds) > 0 {
				states[i] = decide.Held
			}
		}
		refused := now.Preview(p, states, lifted)
		if len(refused) == 0 {
			return
		}
		for i := range p.Changes {
			if h, ok := refused[p.Changes[i].ID]; ok {
				p.Changes[i].Holds = append(p.Changes[i].Holds, h)
			}
		}
	}
}

// isLifted reports whether a guard that would hold something in an application is
// lifted, and counts that.
func (d *drafter) isLifted(guard, app string) bool {
	for i := range d.in.Lifts {
		if l := &d.in.Lifts[i]; l.Covers(guard, app, "", "", d.in.Today) {
			d.lifted[liftedIn{app, i}]++
			return true
		}
	}
	return false
}

// A liftedIn is a lifted guard by its number, in an application.
type liftedIn struct {
	app  string
	lift int
}

// head says what the plan is about. changes are all, also those set aside.
func (d *drafter) head(p *plan.Plan, checked *guard.Result, changes []diff.Change) {
	p.Desired.Suspect = checked.Roster
	var apps []string
	for a, e := range d.in.Exports {
		if e == nil {
			continue
		}
		apps = append(apps, d.in.Apps[a].ID)
		p.Exports = append(p.Exports, plan.Export{
			App:      d.in.Apps[a].ID,
			Title:    d.in.Apps[a].Title,
			Digest:   e.Digest,
			TakenAt:  e.TakenAt,
			Accounts: e.Accounts.Len(),
			Suspect:  checked.Suspect[a],
		})
	}
	if len(apps) < len(d.in.Apps) || d.in.Only != nil {
		p.Selection = &plan.Selection{}
		if len(apps) < len(d.in.Apps) {
			p.Selection.Apps = apps
		}
		if d.in.Only != nil {
			p.Selection.Only = d.in.Only.String()
		}
	}
	wanted, n := make([]bool, d.in.People.Len()), 0
	for i := range changes {
		if person := changes[i].Person; person != diff.None && !wanted[person] {
			wanted[person] = true
			n++
		}
	}
	names := d.in.People.Column("displayName")
	if names == nil {
		names = d.in.People.Column("userName")
	}
	p.People = make(map[string]string, n)
	for i := range wanted {
		if wanted[i] {
			p.People[d.ids.At(i)] = names.At(i)
		}
	}
}
