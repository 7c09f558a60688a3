// Package duty is the table of what is due to an account: from where a person
// stands, whether an account is due to them in the application, and how the
// account is, follows what is to be done. It is here once, for drafts and for
// questions alike; docs/plans.md shows it.
package duty

import (
	"pravet/internal/core/model"
	"pravet/internal/core/stage"
)

// Holdings is what becomes of what an account holds.
type Holdings uint8

// What becomes of holdings.
const (
	Keep  Holdings = iota // they stay as they are
	Align                 // they are brought in line with what is due, and so are attributes
	Strip                 // what the catalog lists is taken away
)

// A Duty is what is to be done about one account.
type Duty struct {
	// Verb is what happens to the account itself, where Acts is set: create,
	// restore or suspend.
	Verb     model.Verb
	Acts     bool
	Holdings Holdings
}

// Of is what is due to an account in a state, of a person at a stage; due tells
// whether a kit of theirs gives anything in the application, within its scope.
func Of(at stage.Stage, due bool, state model.State) Duty {
	switch {
	case at == stage.Here && due:
		switch state {
		case model.NoAccount:
			return Duty{model.Create, true, Align}
		case model.Blocked:
			return Duty{model.Restore, true, Align}
		}
		return Duty{Holdings: Align}
	case state == model.NoAccount:
		return Duty{}
	}
	out := Duty{Holdings: Keep}
	if at == stage.Here {
		out.Holdings = Strip
	}
	if state == model.Open {
		out.Verb, out.Acts = model.Suspend, true
	}
	return out
}
