package prepare

import (
	"context"
	"time"

	"golang.org/x/sync/errgroup"

	"pravet/internal/connect"
	"pravet/internal/core/model"
	"pravet/internal/ledger"
	"pravet/internal/past"
)

// A Fetched is what came of fetching one application.
type Fetched struct {
	App      string
	Accounts int
	Before   int // of the export before; -1 where there was none
	TakenAt  string
	Digest   string
	Same     bool // nothing has changed
	Err      error
	Error    string
	Took     float64
	at       time.Time // when it began
}

// Live lists the applications that are named, all live ones when none is, by number.
func (s *State) Live(apps []string) (out []int, notLive []string, err error) {
	chosen, err := choose(s.Repo, apps)
	if err != nil {
		return nil, nil, err
	}
	for a, app := range s.Repo.Apps {
		switch {
		case !chosen[a]:
		case s.Repo.Connects[a].Live:
			out = append(out, a)
		case len(apps) > 0:
			notLive = append(notLive, app.ID)
		}
	}
	return out, notLive, nil
}

// Fetch fetches applications concurrently, and records what was fetched. told is called
// with how many accounts were read of each by then, from several goroutines.
func (s *State) Fetch(
	ctx context.Context, l ledger.Ledger, apps []int, told func(app string, accounts int),
) ([]Fetched, error) {
	out := make([]Fetched, len(apps))
	states := make([]*connect.State, len(apps))
	var group errgroup.Group
	for i, a := range apps {
		app := s.Repo.Apps[a]
		before, _, err := Measures(l, app.ID)
		if err != nil {
			return nil, err
		}
		out[i] = Fetched{App: app.ID, Before: before, at: time.Now()}
		group.Go(func() error {
			reached, ok := s.Reached[a].(connect.Live)
			if !ok {
				return nil
			}
			states[i], out[i].Err = reached.Fetch(ctx, func(n int) { told(app.ID, n) })
			out[i].Took = time.Since(out[i].at).Seconds()
			return nil
		})
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	var records []ledger.Record
	for i, a := range apps {
		state := states[i]
		if out[i].Err != nil || state == nil {
			if out[i].Err != nil {
				out[i].Error = out[i].Err.Error()
			}
			continue
		}
		out[i].Accounts, out[i].Digest = state.Accounts.Len(), state.Mark
		out[i].TakenAt = state.TakenAt.UTC().Format(time.RFC3339)
		var seen ledger.Export
		known, err := l.Last(ledger.ExportSeen, out[i].App, &seen)
		if err != nil {
			return nil, err
		}
		out[i].Same = known && seen.Digest == state.Mark
		held, err := past.Keep(l, s.Repo.Apps[a], state.Accounts)
		if err != nil {
			return nil, err
		}
		if err := s.Share(ctx, l, a, state.Mark); err != nil {
			return nil, err
		}
		records = append(records, ledger.Record{Kind: ledger.ExportSeen, Subject: out[i].App, Body: ledger.Export{
			App: out[i].App, Digest: state.Mark, TakenAt: out[i].TakenAt, Accounts: out[i].Accounts, Held: held,
			Suspect: shrunk(s, a, out[i].Before, out[i].Accounts), Fetched: true,
		}})
	}
	return out, l.Append(records...)
}

// shrunk reports whether an application has so few accounts that this is no measure for the
// next time.
func shrunk(s *State, a, before, now int) bool {
	limit := s.Repo.Apps[a].Guards.Or(s.Repo.Guards).Or(model.DefaultGuards()).ExportShrink
	return before >= 0 && (now == 0 && before > 0 || before-now > limit.Of(before))
}
