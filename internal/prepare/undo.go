package prepare

import (
	"fmt"
	"slices"
	"strings"

	"pravet/internal/core/day"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/core/undo"
	"pravet/internal/gitrepo"
	"pravet/internal/ledger"
)

// RunOf is a run of the ledger: its plan, and the changes that it has settled, in their
// order.
func RunOf(l ledger.Ledger, run string) (planID string, done []string, err error) {
	var r ledger.Run
	ok, err := l.Last(ledger.RunStarted, run, &r)
	if err != nil {
		return "", nil, err
	}
	if !ok {
		return "", nil, fmt.Errorf("there is no run %q; list the runs with: pravet log --kind run", run)
	}
	err = l.Scan(ledger.Query{Subject: run, Kinds: []ledger.Kind{ledger.Outcome}}, func(e *ledger.Entry) error {
		o, err := ledger.Decode[ledger.ChangeOutcome](e)
		if err == nil && o.Settled {
			done = append(done, o.Change)
		}
		return err
	})
	return r.Plan, done, err
}

// Undo drafts the plan that undoes what a run, or several of the same plan, have settled.
// The applications of the plan were read.
func Undo(s *State, run string, p *plan.Plan, done []string, today day.Day) *plan.Plan {
	repo := s.Repo
	accounts := make([]*model.Accounts, len(repo.Apps))
	limits := make([]model.Guards, len(repo.Apps))
	for a, app := range repo.Apps {
		if s.Exports[a] != nil {
			accounts[a] = s.Exports[a].Accounts
		}
		limits[a] = app.Guards.Or(repo.Guards).Or(model.DefaultGuards())
	}
	found := undo.Changes(undo.Input{
		Run: run, Plan: p, Done: done, Apps: repo.Apps, Accounts: accounts, Limits: limits,
	})
	revision, clean := gitrepo.Revision(repo.Dir)
	out := &plan.Plan{
		Format: plan.Format, Organization: repo.Organization, AsOf: today.String(), Undoes: run,
		Desired: plan.Desired{
			Environment: repo.Tree.Environment,
			Revision:    revision,
			Clean:       clean,
			Digest:      repo.Digest(),
			People:      repo.People.Len(),
		},
		Exports: []plan.Export{}, Changes: found.Changes, Reasons: found.Reasons, Notices: found.Notices,
		SetAside: []plan.SetAside{}, People: map[string]string{},
	}
	if out.Changes == nil {
		out.Changes, out.Reasons = []plan.Change{}, []plan.Reason{}
	}
	if out.Notices == nil {
		out.Notices = []plan.Notice{}
	}
	slices.SortStableFunc(out.Notices, func(x, y plan.Notice) int { return strings.Compare(x.App, y.App) })
	for a, e := range s.Exports {
		if e != nil {
			out.Exports = append(out.Exports, plan.Export{
				App: repo.Apps[a].ID, Title: repo.Apps[a].Title, Digest: e.Digest, TakenAt: e.TakenAt, Accounts: e.Accounts.Len(),
			})
		}
	}
	for i := range out.Changes {
		c := &out.Changes[i]
		out.Totals.Changes++
		out.Totals.Add(c)
		if name, ok := p.People[c.Person]; ok && c.Person != "" {
			out.People[c.Person] = name
		}
	}
	order(out, repo.Apps)
	return out
}

// order puts the changes of a back-out in the order of applications, keeping that in which
// they undo a run within each.
func order(p *plan.Plan, apps []*model.App) {
	at := map[string]int{}
	for a, app := range apps {
		at[app.ID] = a
	}
	slices.SortStableFunc(p.Changes, func(x, y plan.Change) int { return at[x.App] - at[y.App] })
}
