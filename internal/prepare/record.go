package prepare

import (
	"golang.org/x/sync/errgroup"

	"pravet/internal/core/day"
	"pravet/internal/core/diff"
	"pravet/internal/core/entitle"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/ledger"
	"pravet/internal/past"
)

// Record writes a drafted plan and the exports that it was drafted from into
// the ledger, each once, with what the exports held.
func Record(l ledger.Ledger, s *State, p *plan.Plan, file string, clock day.Day) error {
	held, err := keep(l, s, p)
	if err != nil {
		return err
	}
	records, err := stood(l, s, p, clock)
	if err != nil {
		return err
	}
	if !p.Desired.Suspect {
		more, err := lingers(l, s, clock)
		if err != nil {
			return err
		}
		records = append(records, more...)
	}
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
			Plan:        p.ID,
			Digest:      p.Digest,
			File:        file,
			AsOf:        p.AsOf,
			Revision:    p.Desired.Revision,
			Environment: p.Desired.Environment,
			Desired:     p.Desired.Digest,
			Decides:     s.Repo.Signing != nil || len(s.Repo.Deciders) > 0,
			People:      p.Desired.People,
			Suspect:     p.Desired.Suspect,
			Whole:       p.Selection == nil,
			SetAside:    len(p.SetAside),
			Undoes:      p.Undoes,
			Totals:      p.Totals,
		}})
	}
	return l.Append(records...)
}

// stood are the records of what stands about accounts on their way out. A suspicious export
// or roster tells nothing of that.
func stood(l ledger.Ledger, s *State, p *plan.Plan, clock day.Day) (out []ledger.Record, err error) {
	accounts := make([]*model.Accounts, len(s.Repo.Apps))
	any := false
	for i := range p.Exports {
		a := s.Repo.App(p.Exports[i].App)
		if !p.Exports[i].Suspect && !p.Desired.Suspect && leads(s.Repo, a) {
			accounts[a], any = s.Exports[a].Accounts, true
		}
	}
	if !any {
		return nil, nil
	}
	var match *diff.Result
	if s.marks == nil { // the draft was of another day, or of some people only
		match = diff.Match(diff.Input{People: s.Repo.People, Apps: s.Repo.Apps, Accounts: accounts})
	}
	for a, app := range s.Repo.Apps {
		if accounts[a] == nil {
			continue
		}
		var records []ledger.Record
		if match != nil {
			records, err = Stood(l, s.Repo, a, accounts[a], match.PersonOf[a], clock)
		} else {
			var before map[entitle.Mark]day.Day
			before, err = past.Stood(l, app.ID)
			records = standing(app.ID, before, s.marks[a], clock)
		}
		if err != nil {
			return nil, err
		}
		out = append(out, records...)
	}
	return out, nil
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
