// Package connect is the seam between carrying plans out and the applications
// that they are about. An Application is read, prepares a step for some changes,
// commits it, and can be read back; it says by a mark of its own whether it is as
// it was left. In which order changes come, what they need, what is written down
// about them and when a step is tried again is not its business: that is carry's,
// once for all applications.
//
// Each way of reaching an application is a package below this one; files is the
// one for applications whose users live in files.
package connect

import (
	"context"
	"encoding/json"
	"time"

	"pravet/internal/core/model"
	"pravet/internal/core/plan"
)

// An Application is one application as it can be reached. It is used by one
// goroutine at a time. Every method gives up, changing nothing, when its context
// ends before it has begun to change something.
type Application interface {
	// Read reads the application's state.
	Read(ctx context.Context) (*State, error)
	// Mark is what State.Mark would be, where that can be told without reading
	// everything.
	Mark(ctx context.Context) (string, error)
	// Prepare makes ready to carry out some changes, in their order, on the
	// application as it is under a mark. It changes nothing that the application
	// shows. An error of type *MovedError says that it is no longer as under the
	// mark.
	Prepare(ctx context.Context, mark string, changes []*plan.Change) (Step, error)
	// Resume finds out what became of a step of which nothing but its journal is
	// known, as the process that took it has ended. Where the application shows
	// nothing of the step, it is given up, and taken is false. Where it shows some
	// of it, the rest is done, and taken is true.
	Resume(ctx context.Context, journal json.RawMessage) (taken bool, err error)
}

// A State is an application as it was read.
type State struct {
	Accounts *model.Accounts
	Mark     string    // the same as long as nothing has changed, and never again after that
	TakenAt  time.Time // when the state was as it is
	Says     bool      // the application says so itself; else the time may be later than the truth
	Files    []string  // where it was read, for messages
}

// A Step is some changes that are ready to be carried out.
type Step interface {
	// Refused says which of the changes the application can be known beforehand
	// not to carry out, by id, and why. They are no part of the step.
	Refused() map[string]string
	// Journal is what Resume needs to know. It is on record before Commit.
	Journal() json.RawMessage
	// After is the mark that the application will have, or "" where that cannot
	// be known.
	After() string
	// Commit carries the step out, and calls done with each change and how it
	// went. An error says that the step as a whole ended before its time; what is
	// done by then stays. It does not end with the context of Prepare.
	Commit(done func(c *plan.Change, err error)) error
	// Drop gives a step up that was not committed.
	Drop()
}

// A MovedError says that an application is not as it is known to be.
type MovedError struct{ Says string }

func (e *MovedError) Error() string { return e.Says }
