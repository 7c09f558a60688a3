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
	"errors"
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
	// went: nil where the application said yes, else an error that says what it said
	// instead (Fault tells what that means). An error says that the step as a whole ended
	// before its time; what is done by then stays. When the context ends, what has not
	// begun stays undone, with ErrNotBegun, where the application can do that.
	Commit(ctx context.Context, done func(c *plan.Change, err error)) error
	// Drop gives a step up that was not committed.
	Drop()
}

// A Live application is reached while it is in use: its exported state is what was
// fetched last, and what a run looks at is asked of the application itself.
type Live interface {
	Application
	// Fetch reads the whole application and puts what it shows in the place of its
	// exported state. told is called with how many accounts were read by then. After an
	// error the exported state is what it was before.
	Fetch(ctx context.Context, told func(accounts int)) (*State, error)
	// Look reads some accounts as they are now, by the value of the match attribute. Those
	// that are not there are left out. Of the groups it matters whether they are in them.
	Look(ctx context.Context, accounts []string, groups ...string) (*model.Accounts, error)
	// Unmoved reports whether an account, as it was looked at last, is the very version
	// that it was when a step was prepared, so that what the application said yes to did
	// nothing. known is false where the application tells no versions.
	Unmoved(account string) (same, known bool)
	// Check tries whether the application can be reached, and says what this caller may and
	// may not do. It changes nothing.
	Check(ctx context.Context) ([]Ability, error)
	// Limits are how a run deals with the application.
	Limits() Limits
}

// Signs is an application that can be asked whether a password signs an account in. known is false where that cannot be
// told. It is tried once, as many applications count tries that fail.
type Signs interface {
	SignsIn(ctx context.Context, account, password string) (yes, known bool)
}

// Known is an application that says of itself which one it is, by whatever address it is reached; "" where it does not say.
type Known interface {
	Identity(ctx context.Context) string
}

// An Ability is something that a caller may need to do.
type Ability struct {
	What  string // for example: read accounts
	May   bool
	Spare bool   // Pravet can do without
	Says  string // what the application said
}

// A Later application takes changes that somebody else carries out: what it said yes to
// is seen in an export to come.
type Later interface {
	Application
	// Where is where the changes of a run wait for somebody, for messages.
	Where() string
}

type allowedKey struct{}

// Allowed is a context within which something may be changed as long as still says nothing against it. It is asked before each
// request.
func Allowed(ctx context.Context, still func() error) context.Context {
	return context.WithValue(ctx, allowedKey{}, still)
}

// Still asks whether something may be changed; see Allowed.
func Still(ctx context.Context) error {
	if still, ok := ctx.Value(allowedKey{}).(func() error); ok {
		return still()
	}
	return nil
}

// ErrNotBegun is what became of a change that was not begun, as the run was to end.
var ErrNotBegun = errors.New("the run ended before this was sent")

// A Fault is what an application answered to a change, or did not.
type Fault struct {
	Kind FaultKind
	Says string
}

func (e *Fault) Error() string { return e.Says }

// A FaultKind is what an answer means.
type FaultKind uint8

// The kinds of faults.
const (
	Refused  FaultKind = iota // the application said no
	Conflict                  // somebody else has changed the same since it was read
	Failed                    // it could not be carried out: it was not sent, or not taken
	Unknown                   // it was sent, and nobody knows what became of it
)

var faultKinds = [...]string{"refused", "conflict", "failed", "unknown"}

func (k FaultKind) String() string { return faultKinds[k] }

// A MovedError says that an application is not as it is known to be.
type MovedError struct{ Says string }

func (e *MovedError) Error() string { return e.Says }
