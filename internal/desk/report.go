package desk

import (
	"fmt"
	"slices"
	"strings"

	"pravet/internal/core/day"
	"pravet/internal/core/model"
	"pravet/internal/core/report"
	"pravet/internal/gitrepo"
	"pravet/internal/ledger"
)

// A Reporting is what reports are wanted of.
type Reporting struct {
	Names    []string // of the reports; all when none is named
	Apps     []string // all when none is named
	At       string   // a past day; "" for how it is
	Idle     string   // after how long without a sign-in an account is idle, an ISO 8601 duration
	From, To string   // the span of what was done and decided; "" for the last thirty days
}

// A Reported is the reports that were wanted, and what they are of.
type Reported struct {
	*Sight
	Tables []*report.Table
	Head   ledger.Head // the newest entry of the ledger
	Files  string      // the revision of the files, "" outside of Git
	Clean  bool        // the files are as that revision has them
}

// Sources are the exports that the reports are of: application, title, when it was taken, accounts.
func (r *Reported) Sources() (out [][4]string) {
	for a, e := range r.State.Exports {
		if e != nil && e.Accounts != nil {
			app := r.State.Repo.Apps[a]
			out = append(out, [4]string{
				app.ID, app.Title, r.State.Repo.Zone.MinuteOf(e.TakenAt), model.Thousands(e.Accounts.Len()),
			})
		}
	}
	return out
}

// Report makes reports.
func (d *Desk) Report(x Reporting) (*Reported, error) {
	in := &report.Input{}
	var err error
	if in.Idle, err = day.ParseDuration(x.Idle); err != nil {
		return nil, wrongIn("idle", err)
	}
	sight, err := d.Listed(x.Apps, d.today, x.At)
	if err != nil {
		return nil, err
	}
	if known := sight.Known; known != nil && len(known.Exports) == 0 && known.Revision == "" {
		return nil, sayBeforeTheLedger(x.At)
	}
	if sight.Known == nil {
		sight.Only(x.Apps)
	}
	in.View, in.Outsiders = sight.View, sight.State.Repo.Outsiders
	if in.To, err = dayIn("to", x.To, sight.Today); err != nil {
		return nil, err
	}
	if in.From, err = dayIn("from", x.From, in.To.Back(day.Duration{Days: 30})); err != nil {
		return nil, err
	}
	if in.From > in.To {
		return nil, wrong(saySpanTurned(in.From, in.To))
	}
	l, err := d.Book()
	if err != nil {
		return nil, err
	}
	if err := recorded(l, in); err != nil {
		return nil, err
	}
	out := &Reported{Sight: sight, Files: sight.Revision(), Clean: true}
	if sight.Known == nil {
		if out.Files, out.Clean, err = gitrepo.Revision(d.Dir); err != nil {
			out.Files, out.Clean = "", true // outside of Git there is none
		}
	}
	if out.Head, err = l.Head(); err != nil {
		return nil, err
	}
	for _, k := range report.Kinds {
		if len(x.Names) == 0 || slices.Contains(x.Names, k.Name) {
			out.Tables = append(out.Tables, k.Of(in))
		}
	}
	return out, nil
}

// recorded reads what was changed and decided in the span.
func recorded(l ledger.Ledger, in *report.Input) error {
	return l.Scan(ledger.Query{Kinds: []ledger.Kind{ledger.Outcome, ledger.Decided}}, func(e *ledger.Entry) error {
		on, err := l.Zone().DayOf(e.At)
		if err != nil || on < in.From || on > in.To {
			return nil
		}
		if e.Kind == ledger.Decided {
			made, err := ledger.Decode[ledger.Decision](e)
			if err != nil {
				return err
			}
			for _, d := range made.Parts() {
				in.Decisions = append(in.Decisions, decisionRows(e, d, on)...)
			}
			return nil
		}
		o, err := ledger.Decode[ledger.ChangeOutcome](e)
		if err != nil || !o.Settled {
			return err
		}
		effect := model.Keeps
		if verb, ok := model.ParseVerb(o.Verb); ok {
			effect = verb.Effect()
		}
		in.Changes = append(in.Changes, report.Change{
			On: on.String(), App: o.App, Verb: o.Verb, Account: o.Account, Person: o.Person, What: o.What, Run: o.Run,
			By: ledger.Who(e.By), Effect: effect.String(),
		})
		return nil
	})
}

// decisionRows is a decision as rows: one for each change that it names, one for a whole plan.
func decisionRows(e *ledger.Entry, d ledger.Decision, on day.Day) (out []report.Decision) {
	row := report.Decision{On: on.String(), By: ledger.Who(d.Maker(e.By)), Verdict: d.Verdict, Plan: d.Plan, Because: d.Because}
	if len(d.Changes) == 0 {
		row.What = sayWholePlan(d.Guards)
		return []report.Decision{row}
	}
	for i, id := range d.Changes {
		row.What = id
		if i < len(d.What) && d.What[i] != "" {
			row.What = d.What[i]
		}
		out = append(out, row)
	}
	return out
}

// saySpanTurned is a span that ends before it begins.
func saySpanTurned(from, to day.Day) error {
	return fmt.Errorf("--from %s is after --to %s; exchange them", from, to)
}

// sayBeforeTheLedger is a past day of which nothing is known.
func sayBeforeTheLedger(on string) error {
	return fmt.Errorf(
		"nothing is on record of %s: neither a plan, nor an export, nor a commit of the files by then",
		on,
	)
}

// sayWholePlan is what a decision is about that names no change.
func sayWholePlan(guards []string) string {
	if len(guards) > 0 {
		return model.Plural(len(guards), "guard ", "guards ") + strings.Join(guards, ", ")
	}
	return "the whole plan"
}
