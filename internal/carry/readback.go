package carry

import (
	"context"
	"fmt"
	"time"

	"pravet/internal/connect"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/core/words"
	"pravet/internal/ledger"
	"pravet/internal/past"
	"pravet/internal/prepare"
)

// maxNamed is how many password files a run names after one step.
const maxNamed = 12

// readBack reads the application again and records what became of each change
// of a step.
func (j *Job) readBack(
	ctx context.Context,
	res *Result,
	step []int,
	errs map[string]error,
	progress func(Progress),
) error {
	a := j.of(step)
	app := j.now.Apps[a.number]
	accounts, state, err := j.again(ctx, a, j.changes(step), errs)
	if err != nil {
		return fmt.Errorf("%s: the changes were written and cannot be read back: %w", app.ID, err)
	}
	seen := newReadBack(app, accounts)
	for old, name := range seen.renames(j.changes(step)) {
		if a.renamed == nil {
			a.renamed = map[string]string{}
		}
		a.renamed[old] = name
	}
	var records []ledger.Record
	bad, left, waits, named := 0, 0, 0, 0
	for _, i := range step {
		c := &j.Plan.Changes[i]
		o := outcome(res.Run, j.Plan, c)
		o.Settled, o.Says = seen.settled(a.named(c))
		if errs[c.ID] == nil && seen.untold(a.named(c)) {
			o.Settled, o.Says = true, "" // the application says yes, and never tells how old a key is
		}
		switch err := errs[c.ID]; {
		case o.Settled:
			o.Result = ledger.Done
			res.Settled++
		case err != nil:
			o.Result, o.Says = result(err), err.Error()
		case a.live != nil:
			o.Result, o.Says = a.unseen(c, o.Says)
			res.faults[app.ID]++
		case a.later != nil:
			o.Result, o.Mark = ledger.Waiting, state.Mark
			o.Says = "somebody is to carry it out; see the checklist in " + a.later.Where()
		default:
			o.Result = ledger.Ignored
		}
		if j.state.ComesWithPassword(a.number, c) {
			says, err := j.state.SettlePassword(ctx, a.number, c, errs[c.ID], o.Settled)
			if err != nil {
				return fmt.Errorf("%s: the password of %s: %w; the next draft or apply settles that", app.ID, c.Account, err)
			}
			if !o.Settled {
				o.Says = words.Also(o.Says, says)
			} else if named++; named <= maxNamed {
				progress(Progress{App: app.ID, Says: app.ID + ": " + says})
			}
		}
		switch {
		case o.Settled:
		case o.Result == ledger.NotBegun:
			left++
		case o.Result == ledger.Waiting:
			res.Waiting++
			waits++
			a.waits[c.ID] = o.Mark
		default:
			bad++
			res.NotSettled++
			res.Failures = append(res.Failures, o)
			j.tried[c.ID] = true
		}
		j.outcomes[c.ID] = o.Settled
		records = append(records, ledger.Record{Kind: ledger.Outcome, Subject: res.Run, Body: o})
	}
	if state != nil {
		records = append(records, seenExport(j.ledger, res.Run, app, state))
	}
	if err := j.record(res.Run, []string{app.ID}, records...); err != nil {
		return fmt.Errorf(
			"%s: the changes were written, and what became of them could not be recorded: %w; the next draft or "+
				"apply settles that",
			app.ID,
			err,
		)
	}
	moved := state != nil && a.mark != "" && state.Mark != a.mark
	if state != nil {
		a.mark = state.Mark
	}
	j.now.Accounts[a.number] = accounts
	j.match()
	// A wait counts from the day on which the step before it is seen done.
	stood, err := prepare.Stood(j.ledger, j.state.Repo, a.number, accounts, j.now.PersonOf[a.number], j.Today)
	if err == nil {
		err = j.ledger.Append(stood...)
	}
	if err != nil {
		return fmt.Errorf("%s: since when accounts are on their way out could not be recorded: %w", app.ID, err)
	}
	if named > maxNamed {
		progress(Progress{App: app.ID, Says: fmt.Sprintf("%s: %d more in the same folder", app.ID, named-maxNamed)})
	}
	says := fmt.Sprintf(
		"%s: read back, %s settled", app.ID, model.Count(len(step)-bad-left-waits, "change is", "changes are"),
	)
	if bad > 0 {
		says += fmt.Sprintf(", %d not settled", bad)
	}
	if waits > 0 {
		says += fmt.Sprintf(", %d waiting for somebody", waits)
	}
	if left > 0 {
		says += fmt.Sprintf(", %d not begun", left)
	}
	progress(Progress{App: app.ID, Says: says})
	if moved {
		return fmt.Errorf("%s was changed by someone else while it was written. Draft again", app.ID)
	}
	return nil
}

// again reads an application again after a step: a live one as far as the step is about,
// any other whole, which is its state then.
func (j *Job) again(
	ctx context.Context, a *application, changes []*plan.Change, errs map[string]error,
) (*model.Accounts, *connect.State, error) {
	if a.live != nil {
		app, accounts := j.now.Apps[a.number], j.now.Accounts[a.number]
		mayCome := func(c *plan.Change) bool { return errs[c.ID] == nil || result(errs[c.ID]) == ledger.Unknown }
		err := seen(ctx, app, a.live, changes, mayCome, func(part *model.Accounts, names []string) {
			accounts = accounts.Merge(app, part, names)
		})
		return accounts, nil, err
	}
	state, err := a.reached.Read(ctx)
	if err != nil {
		return nil, nil, err
	}
	return state.Accounts, state, nil
}

func outcome(run string, p *plan.Plan, c *plan.Change) ledger.ChangeOutcome {
	return ledger.ChangeOutcome{
		Run:     run,
		Plan:    p.ID,
		App:     c.App,
		Change:  c.ID,
		Person:  c.Person,
		Account: c.Account,
		What:    words.Sentence(p, c),
		Does:    c.Does(),
		Touches: c.Touches(),
		Verb:    c.Verb.String(),
		Thing:   thing(c),
	}
}

func thing(c *plan.Change) string {
	if c.Thing == nil {
		return ""
	}
	return c.Address().String()
}

// seenExport is the record of an application as it was read back, with what it holds
// kept. Where that cannot be kept, the record is there all the same.
func seenExport(l ledger.Ledger, run string, app *model.App, state *connect.State) ledger.Record {
	held, err := past.Keep(l, app, state.Accounts)
	if err != nil {
		held = "" // a past day is then answered from the export before
	}
	return ledger.Record{Kind: ledger.ExportSeen, Subject: app.ID, Body: ledger.Export{App: app.ID, Digest: state.Mark,
		TakenAt: state.TakenAt.UTC().Format(time.RFC3339), Accounts: state.Accounts.Len(), Held: held, After: run}}
}
