package prepare

import (
	"pravet/internal/core/plan"
	"pravet/internal/ledger"
	"pravet/internal/past"
)

// Record writes a drafted plan and the exports that it was drafted from into
// the ledger, each once, with what the exports held.
func Record(l ledger.Ledger, s *State, p *plan.Plan, file string) error {
	var records []ledger.Record
	for _, e := range p.Exports {
		var seen ledger.Export
		ok, err := l.Last(ledger.ExportSeen, e.App, &seen)
		if err != nil {
			return err
		}
		if !ok || seen.Digest != e.Digest {
			a := s.Repo.App(e.App)
			held, err := past.Keep(l, s.Repo.Apps[a], s.Exports[a].Accounts)
			if err != nil {
				return err
			}
			records = append(records, ledger.Record{Kind: ledger.ExportSeen, Subject: e.App,
				Body: ledger.Export{
					App:      e.App,
					Digest:   e.Digest,
					TakenAt:  e.TakenAt,
					Accounts: e.Accounts,
					Suspect:  e.Suspect,
					Held:     held,
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
