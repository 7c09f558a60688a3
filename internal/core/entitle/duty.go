// This is the table of what is due to an account: from where a person
// stands, whether an account is due to them in the application, and how the
// account is, follows what is to be done. It is here once, for drafts and for
// questions alike; docs/plans.md shows it.

package entitle

import (
	"pravet/internal/core/day"
	"pravet/internal/core/model"
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
	// restore, suspend or withdraw; or invite, see For.
	Verb     model.Verb
	Acts     bool
	Holdings Holdings
}

// DutyOf is what is due to an account in a state, of a person at a stage; due tells
// whether a kit of theirs gives anything in the application, within its scope.
func DutyOf(at Stage, due bool, state model.State) Duty {
	switch {
	case at == Here && due:
		switch state {
		case model.NoAccount:
			return Duty{model.Create, true, Align}
		case model.Blocked, model.Removed:
			return Duty{model.Restore, true, Align}
		}
		return Duty{Holdings: Align}
	case state == model.NoAccount, state == model.Removed:
		return Duty{}
	case state == model.Invited && at == Away:
		return Duty{}
	case state == model.Invited:
		return Duty{Verb: model.Withdraw, Acts: true}
	}
	out := Duty{Holdings: Keep}
	if at == Here {
		out.Holdings = Strip
	}
	if state == model.Open {
		out.Verb, out.Acts = model.Suspend, true
	}
	return out
}

// For is a duty as an application has it for a person, whose attributes get gives: where people are invited, that stands for
// making an account, and where accounts are opened by hand, one is made blocked and
// filled when it is opened; shut is true then.
func (d Duty) For(app *model.App, get func(attr string) string, today day.Day) (out Duty, shut bool) {
	switch {
	case !d.Acts || d.Verb != model.Create:
	case app.AreInvited(get, today):
		d.Verb = model.Invite
	case app.OpenedByHand(get, today):
		d.Holdings = Keep
		return d, true
	}
	return d, false
}
