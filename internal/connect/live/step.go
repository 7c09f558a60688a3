package live

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"

	"pravet/internal/connect"
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
	names := Names(a.App, changes)
	found, err := a.recent(ctx, names)
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
		if done, fault := compare(a.App, c, is); done || fault != nil {
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

// compare reports whether a change is done already. It fails where somebody else has changed
// the same since the application was fetched.
func compare(app *model.App, c *plan.Change, is *export.Record) (done bool, _ error) {
	conflict := func(format string, args ...any) (bool, error) {
		says := fmt.Sprintf(format, args...) + "; nothing was sent. Fetch and draft again"
		return false, &connect.Fault{Kind: connect.Conflict, Says: says}
	}
	if c.Verb.OfThing() {
		return false, nil
	}
	there := is != nil && is.State != model.Removed.String()
	switch c.Verb {
	case model.Create, model.Invite:
		if there && c.Attribute == "" {
			return conflict("somebody has made the account %s meanwhile", c.Account)
		}
		return false, nil
	case model.Remove, model.Withdraw:
		return !there, nil
	}
	if is == nil {
		return conflict("the account %s is not there any more", c.Account)
	}
	state := stateOf(is)
	switch c.Verb {
	case model.Suspend:
		return state == model.Blocked, nil
	case model.Restore:
		return state == model.Open, nil
	case model.Update:
		now := valueOf(app, is, c.Attribute)
		if now == text(c.After) {
			return true, nil
		}
		if now != text(c.Before) {
			return conflict(
				"somebody has changed %s to %q meanwhile, where the plan has %q", c.Attribute, now, text(c.Before),
			)
		}
	case model.HandOver:
	default:
		holds := slices.Contains(is.Held(c.Thing.Kind), c.Thing.Name)
		return holds == (c.Verb == model.Gaining(c.Thing.Kind)), nil
	}
	return false, nil
}

func stateOf(r *export.Record) model.State {
	if r.State == "" {
		return model.Open
	}
	return model.ParseState(r.State)
}

func valueOf(app *model.App, r *export.Record, attr string) string {
	if attr == app.Match {
		return r.Account
	}
	return r.Attributes[attr]
}

// text is a value of a change as text, "" for none.
func text(v any) string {
	if v == nil {
		return ""
	}
	return fmt.Sprint(v)
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
