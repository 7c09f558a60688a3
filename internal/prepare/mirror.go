package prepare

import (
	"context"
	"time"

	"pravet/internal/connect"
	"pravet/internal/core/model"
)

// Mirror puts in the place of each application that was read a copy of it in memory, which
// wrap may put something around. Nothing reaches the applications any more.
func (s *State) Mirror(wrap func(app *model.App, m *Mirror) connect.Application) error {
	for a, e := range s.Exports {
		if e == nil {
			continue
		}
		at, err := time.Parse(time.RFC3339, e.TakenAt)
		if err != nil {
			return err
		}
		state := &connect.State{Accounts: e.Accounts, Mark: e.Digest, TakenAt: at, Says: e.Says}
		m := &Mirror{App: s.Repo.Apps[a], Keeps: s.Repo.Exports[a].Shows(model.Removed), State: state}
		s.Reached[a] = wrap(s.Repo.Apps[a], m)
	}
	return nil
}

// Reread reads the applications again that were read before, and nothing else.
func (s *State) Reread(ctx context.Context) error {
	for a, e := range s.Exports {
		if e == nil {
			continue
		}
		again, err := s.readExport(ctx, a)
		if err != nil {
			return err
		}
		again.Before = e.Before
		s.Exports[a] = again
	}
	return nil
}
