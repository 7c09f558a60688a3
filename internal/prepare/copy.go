// A mirror is an application in memory: a copy of what an export shows, to which
// changes are done in thought. A rehearsal carries plans out on it.

package prepare

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"pravet/internal/connect"
	"pravet/internal/core/account"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/export"
	"pravet/internal/ledger"
	"pravet/internal/past"
)

// Mirror is a copy of an application.
type Mirror struct {
	App   *model.App
	Keeps bool // it keeps accounts that were removed
	State *connect.State
	turn  int
}

// Read returns the state.
func (m *Mirror) Read(context.Context) (*connect.State, error) { return m.State, nil }

// Mark is the state's mark.
func (m *Mirror) Mark(context.Context) (string, error) { return m.State.Mark, nil }

// Resume gives a step up: a mirror has done all of it or nothing. Of a step that was taken in the application itself,
// by a run that was cut off before, the copy shows what it shows.
func (m *Mirror) Resume(_ context.Context, journal json.RawMessage) (taken bool, err error) {
	var turn int
	if json.Unmarshal(journal, &turn) != nil {
		return true, nil
	}
	return m.turn > turn, nil
}

type step struct {
	of      *Mirror
	changes []*plan.Change
	after   *model.Accounts
	refused map[string]string
	turn    int // which the mirror was at
}

// Prepare does the changes to a copy.
func (m *Mirror) Prepare(_ context.Context, _ string, changes []*plan.Change) (connect.Step, error) {
	s := &step{of: m, changes: changes, turn: m.turn, refused: map[string]string{}}
	in := account.In(m.App, m.State.Accounts)
	book := &account.Book{App: m.App, Keeps: m.Keeps, Look: in.Value}
	defs := m.State.Accounts.Definitions
	for _, c := range changes {
		if c.Verb.OfThing() {
			if defs == nil {
				s.refused[c.ID] = "the export shows no definitions, so none can be rehearsed"
				continue
			}
			defs = account.Define(m.App, defs, c)
			continue
		}
		if says := book.Do(c); says != "" {
			s.refused[c.ID] = says
		}
	}
	var records []*export.Record
	var names []string
	book.Each(func(name string, v *account.Value) {
		names = append(names, name)
		if v != nil {
			records = append(records, export.RecordOf(v))
		}
	})
	slices.Sort(names)
	slices.SortFunc(records, func(x, y *export.Record) int { return strings.Compare(x.Account, y.Account) })
	part, err := export.Collect(m.App, records)
	if err != nil {
		return nil, err
	}
	s.after = m.State.Accounts.Merge(m.App, part, names)
	if s.after.Definitions = defs; defs != nil {
		for _, kind := range []model.Kind{model.Group, model.Role} {
			s.after.Defined[kind] = defined(defs, kind)
		}
	}
	return s, nil
}

// defined are the names of the definitions of a kind, nil where there are none.
func defined(defs *model.Definitions, kind model.Kind) (out []string) {
	for _, d := range append(slices.Clone(defs.Of), defs.Others...) {
		if d != nil && d.Kind == kind {
			out = append(out, d.Name)
		}
	}
	slices.Sort(out)
	return out
}

func (s *step) Refused() map[string]string { return s.refused }

func (s *step) Journal() json.RawMessage { return json.RawMessage(fmt.Sprint(s.turn)) }

func (s *step) After() string { return fmt.Sprintf("turn %d", s.turn+1) }

func (s *step) Drop() {}

// Commit makes the copy the state.
func (s *step) Commit(_ context.Context, done func(*plan.Change, error)) error {
	state := *s.of.State
	state.Accounts = s.after
	s.of.turn++
	state.Mark = fmt.Sprintf("turn %d", s.of.turn)
	s.of.State = &state
	for _, c := range s.changes {
		done(c, nil)
	}
	return nil
}

// Done is an application with changes done to it in thought.
func Done(app *model.App, accounts *model.Accounts, changes []*plan.Change) (*model.Accounts, error) {
	if len(changes) == 0 {
		return accounts, nil
	}
	m := &Mirror{App: app, Keeps: true, State: &connect.State{Accounts: accounts}}
	s, err := m.Prepare(context.Background(), "", changes)
	if err != nil {
		return nil, err
	}
	return s.(*step).after, nil
}

// Elsewhere puts in the place of an application what the record has of it, as it is carried out on another machine and
// perhaps reached from there alone.
func (s *State) Elsewhere(a int, l ledger.Ledger) error {
	app := s.Repo.Apps[a]
	seen, accounts, err := past.Newest(l, app)
	if err != nil {
		return err
	}
	if seen == nil {
		return fmt.Errorf("%s is carried out elsewhere, and the record does not hold its state; draft again", app.ID)
	}
	at, err := time.Parse(time.RFC3339, seen.TakenAt)
	if err != nil {
		return err
	}
	state := &connect.State{Accounts: accounts, Mark: seen.Digest, TakenAt: at}
	s.Reached[a] = &Mirror{App: app, Keeps: true, State: state}
	return nil
}
