package carry

import (
	"slices"

	"pravet/internal/core/decide"
	"pravet/internal/core/guard"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/export"
)

// Recheck holds what may not be carried out because other changes of its
// application are not, such as the leaving of an administrator whose successor
// was rejected. A plan that is carried out as a whole was checked when it was
// drafted.
func (j *Job) Recheck() error {
	j.Why = map[string]string{}
	accounts := map[string]*model.Accounts{}
	for again := true; again; {
		var err error
		if again, err = j.recheck(accounts); err != nil {
			return err
		}
	}
	return nil
}

// recheck looks once, and tells whether it held anything, so that what counted
// on it has to be looked at again. read keeps what was read.
func (j *Job) recheck(read map[string]*model.Accounts) (again bool, err error) {
	for _, e := range j.Plan.Exports {
		a := j.repo.App(e.App)
		app := j.repo.Apps[a]
		var ready []*plan.Change
		part := false
		for i := range j.Plan.Changes {
			if c := &j.Plan.Changes[i]; c.App == e.App && j.States[i] == decide.Ready {
				ready = append(ready, c)
			} else if c.App == e.App {
				part = true
			}
		}
		guarded := slices.ContainsFunc(app.Things, func(t model.Thing) bool { return t.AtLeast > 0 })
		if !part || !guarded || len(ready) == 0 {
			continue
		}
		if read[e.App] == nil {
			if read[e.App], _, err = export.Read(j.dir, j.repo.Exports[a], app); err != nil {
				return false, err
			}
		}
		for id, says := range guard.Recheck(app, read[e.App], ready) {
			j.Why[id] = says
		}
	}
	for i := range j.Plan.Changes {
		if c := &j.Plan.Changes[i]; j.Why[c.ID] != "" && j.States[i] == decide.Ready && !j.lifted(c) {
			j.States[i], again = decide.Held, true
		}
	}
	can := map[string]bool{}
	for i := range j.Plan.Changes {
		c := &j.Plan.Changes[i]
		if j.States[i] == decide.Ready && slices.ContainsFunc(c.Needs, func(n string) bool { return !can[n] }) {
			j.States[i], again = decide.Lacking, true
		}
		can[c.ID] = j.States[i] == decide.Ready || j.States[i] == decide.Completed
	}
	return again, nil
}

// lifted tells whether the guard that Recheck knows is lifted for a change.
func (j *Job) lifted(c *plan.Change) bool {
	for i := range j.Standing.Lifts {
		if j.Standing.Lifts[i].Covers(guard.AtLeast, c.App, j.Plan.ID, j.Today) {
			return true
		}
	}
	return false
}
