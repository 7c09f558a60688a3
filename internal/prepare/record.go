package prepare

import (
	"golang.org/x/sync/errgroup"

	"pravet/internal/core/plan"
	"pravet/internal/ledger"
	"pravet/internal/past"
)

// Record writes a drafted plan and the exports that it was drafted from into
// the ledger, each once, with what the exports held.
func Record(l ledger.Ledger, s *State, p *plan.Plan, file string) error {
	held, err := keep(l, s, p)
	if err != nil {
		return err
	}
	var records []ledger.Record
	for i, e := range p.Exports {
		var seen ledger.Export
		ok, err := l.Last(ledger.ExportSeen, e.App, &seen)
		if err != nil {
			return err
		}
		if !ok || seen.Digest != e.Digest || seen.Held == "" {
			records = append(records, ledger.Record{Kind: ledger.ExportSeen, Subject: e.App,
				Body: ledger.Export{
					App:      e.App,
					Digest:   e.Digest,
					TakenAt:  e.TakenAt,
					Accounts: e.Accounts,
					Suspect:  e.Suspect,
					Held:     held[i],
				}})
		}
	}
	var before ledger.Plan
	ok, err := l.Last(ledger.PlanDrafted, p.ID, &before)
	if err != nil {
		return err
	}
	if !ok || before.Digest != p.Digest {
		records = append(records, ledger.Record{Kind: ledger.PlanDrafted, Subject: p.ID, Body: ledger.Plan{
			Plan:     p.ID,
			Digest:   p.Digest,
			File:     file,
			AsOf:     p.AsOf,
			Revision: p.Desired.Revision,
			Desired:  p.Desired.Digest,
			People:   p.Desired.People,
			Suspect:  p.Desired.Suspect,
			Whole:    p.Selection == nil,
			SetAside: len(p.SetAside),
			Totals:   p.Totals,
		}})
	}
	return l.Append(records...)
}

// keep keeps what the exports of a plan held that were not seen before, or not kept,
// several at a time, and returns the digest of each, "" for one that was.
func keep(l ledger.Ledger, s *State, p *plan.Plan) ([]string, error) {
	out := make([]string, len(p.Exports))
	var group errgroup.Group
	for i := range p.Exports {
		e := &p.Exports[i]
		var seen ledger.Export
		ok, err := l.Last(ledger.ExportSeen, e.App, &seen)
		if err != nil {
			return nil, err
		}
		if ok && seen.Digest == e.Digest && seen.Held != "" {
			continue
		}
		group.Go(func() (err error) {
			a := s.Repo.App(e.App)
			out[i], err = past.Keep(l, s.Repo.Apps[a], s.Exports[a].Accounts)
			return err
		})
	}
	return out, group.Wait()
}
