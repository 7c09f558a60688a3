package live

import (
	"context"
	"encoding/json"
	"fmt"

	"pravet/internal/connect"
	"pravet/internal/core/account"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/export"
)

// A step is some changes that are to be sent.
type step struct {
	of       *Application
	changes  []*plan.Change
	answers  map[*plan.Change]error // of those that are not sent
	requests []*Request
}

// Prepare looks at the accounts that changes are about, and makes the requests. A change
// that is done already is not sent, and neither is one about what somebody else has changed.
func (a *Application) Prepare(ctx context.Context, _ string, changes []*plan.Change) (connect.Step, error) {
	found, err := a.readUnlessFresh(ctx, PartOf(a.App, changes))
	if err != nil {
		return nil, err
	}
	s := &step{of: a, changes: changes, answers: map[*plan.Change]error{}}
	a.before = map[string]string{}
	at := map[string]int{}
	var work []Work
	for _, c := range changes {
		is := found[c.Account]
		if is != nil {
			a.before[c.Account] = is.Version
		}
		if done, fault := Compare(a.App, c, found); done || fault != nil {
			s.answers[c] = fault
			continue
		}
		i, ok := at[c.Account]
		if !ok {
			i = len(work)
			at[c.Account] = i
			work = append(work, Work{Account: c.Account, Is: is})
		}
		work[i].Changes = append(work[i].Changes, c)
	}
	if s.requests, err = a.driver.Requests(ctx, work); err != nil {
		return nil, fmt.Errorf("%s: %w", a.App.ID, err)
	}
	return s, nil
}

// Compare reports whether a change is done already. It fails where somebody else has changed
// the same since the application was fetched.
func Compare(app *model.App, c *plan.Change, found map[string]*export.Record) (done bool, _ error) {
	if c.Verb.OfThing() {
		return false, nil
	}
	find := finder(app, found)
	if done, _ := account.Shows(app, find, c); done && !c.Verb.Deed().Makes {
		return true, nil
	}
	if fits, says := account.Fits(app, find, c); !fits && c.Verb != model.HandOver {
		says += "; nothing was sent. Fetch and draft again"
		return false, &connect.Fault{Kind: connect.Conflict, Says: says}
	}
	return false, nil
}

// finder looks accounts up that were read just now.
func finder(app *model.App, found map[string]*export.Record) func(name string) account.Seen {
	return func(name string) account.Seen {
		if r := found[name]; r != nil {
			return r.Value(app)
		}
		return nil
	}
}

func (s *step) Refused() map[string]string { return nil }

func (s *step) Journal() json.RawMessage { return json.RawMessage(`{}`) }

func (s *step) After() string { return "" }

func (s *step) Drop() {}

// Commit sends the requests.
func (s *step) Commit(ctx context.Context, done func(*plan.Change, error)) error {
	for _, c := range s.changes {
		if fault, ok := s.answers[c]; ok {
			done(c, fault)
		}
	}
	for _, name := range Names(s.of.App, s.changes) {
		delete(s.of.looked, name) // it is another by now
	}
	return s.of.send(ctx, s.requests, done)
}
