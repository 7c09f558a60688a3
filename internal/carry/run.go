package carry

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"pravet/internal/connect"
	"pravet/internal/core/decide"
	"pravet/internal/core/guard"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/core/words"
	"pravet/internal/ledger"
	"pravet/internal/past"
	"pravet/internal/prepare"
)

// A Result is what a run came to.
type Result struct {
	ledger.RunEnd
	Failures []ledger.ChangeOutcome // what is not settled
	Written  string                 // the application that was changed and could not be recorded or read back, or ""
}

// Run carries out what is ready, step by step, and returns what it came to.
// progress is told what happens. An error ends the run between two steps or
// within one; what was done before it is recorded, where that is possible, and
// told in the result. When the context ends, a step that has not begun is given
// up, and one that has is finished and read back.
func (j *Job) Run(ctx context.Context, progress func(string)) (*Result, error) {
	run, err := j.ledger.Begin(
		ledger.Run{Plan: j.Plan.ID, Digest: j.Plan.Digest, People: j.roster(), Changes: j.Count(decide.Ready)},
	)
	if err != nil {
		return nil, err
	}
	res := &Result{RunEnd: ledger.RunEnd{Run: run, Plan: j.Plan.ID}}
	before := j.Count(decide.Completed)
	err = j.steps(ctx, res, progress)
	res.Held = j.Held()
	res.Left = len(j.States) - before - res.Settled - res.NotSettled - res.Held
	if err != nil {
		res.Error = err.Error()
	}
	end := j.ledger.Append(ledger.Record{Kind: ledger.RunEnded, Subject: run, Body: res.RunEnd})
	return res, errors.Join(err, end)
}

// roster is how many people the files name, 0 where that is suspiciously few and
// nobody has said that it is right: then what the next plans are compared with
// stays what it was.
func (j *Job) roster() int {
	held := func(c plan.Change) bool {
		return slices.ContainsFunc(j.Standing.Holding(j.Plan, &c, j.Today), func(h plan.Hold) bool {
			return h.Guard == guard.RosterShrink
		})
	}
	if j.Plan.Desired.Suspect && slices.ContainsFunc(j.Plan.Changes, held) {
		return 0
	}
	return j.now.People.Len()
}

// steps takes steps until none is left. What was refused for how things were may
// have its turn after the next step.
func (j *Job) steps(ctx context.Context, res *Result, progress func(string)) error {
	refused := map[string]plan.Hold{}
	for {
		if ctx.Err() != nil {
			return errStopped
		}
		if err := j.Decide(ctx); err != nil {
			return stopped(ctx, err)
		}
		step, none := j.next(refused)
		if none {
			return nil
		}
		if len(step) == 0 {
			continue
		}
		took, err := j.step(ctx, res, step, refused, progress)
		if err != nil {
			return err
		}
		if took {
			clear(refused)
		}
	}
}

// stopped is an error, or that the run was interrupted.
func stopped(ctx context.Context, err error) error {
	if ctx.Err() != nil {
		return errStopped
	}
	return err
}

// next chooses a step. What would break an invariant now is noted as refused, and
// is not in it; none says that nothing is left to be done.
func (j *Job) next(refused map[string]plan.Hold) (step []int, none bool) {
	for i := range j.Plan.Changes {
		if h, ok := refused[j.Plan.Changes[i].ID]; ok && j.States[i] == decide.Ready {
			j.States[i], j.Why[j.Plan.Changes[i].ID] = decide.Held, h
		}
	}
	j.course.Lack(j.States)
	front := j.course.Next(j.States)
	if front == nil {
		return nil, true
	}
	no := j.now.Try(j.lifted).Refuse(j.of(front).number, j.changes(front))
	for _, i := range front {
		if h, held := no[j.Plan.Changes[i].ID]; held {
			refused[j.Plan.Changes[i].ID] = h
			continue
		}
		step = append(step, i)
	}
	return step, false
}

// of is the application of a step.
func (j *Job) of(step []int) *application { return j.apps[j.Plan.Changes[step[0]].App] }

// changes are those of a step, under the names that their accounts have now.
func (j *Job) changes(step []int) (out []*plan.Change) {
	for _, i := range step {
		c := &j.Plan.Changes[i]
		out = append(out, j.apps[c.App].named(c))
	}
	return out
}

// step carries changes of one application out, unless they are rejected while it
// is made ready. took reports whether something was carried out.
func (j *Job) step(
	ctx context.Context,
	res *Result,
	step []int,
	refused map[string]plan.Hold,
	progress func(string),
) (took bool, err error) {
	a, changes := j.of(step), j.changes(step)
	app := j.now.Apps[a.number].ID
	progress(fmt.Sprintf("%s: writing %s", app, model.Count(len(step), "change", "changes")))
	s, err := a.reached.Prepare(ctx, a.mark, changes)
	if err != nil {
		var moved *connect.MovedError
		switch {
		case ctx.Err() != nil:
			return false, errStopped
		case errors.As(err, &moved):
			return false, fmt.Errorf("%w; nothing of this step was carried out. Draft again", err)
		}
		return false, fmt.Errorf("%w; nothing of this step was carried out", err)
	}
	if no := s.Refused(); len(no) > 0 {
		s.Drop()
		for id, says := range no {
			refused[id] = impossible(says)
		}
		return false, nil
	}
	// Somebody may have rejected some of it by now.
	if err := j.Decide(ctx); err != nil {
		s.Drop()
		return false, stopped(ctx, err)
	}
	for _, i := range step {
		if j.States[i] != decide.Ready {
			s.Drop()
			return false, nil
		}
	}
	if ctx.Err() != nil {
		s.Drop()
		return false, errStopped
	}
	if err := j.ledger.Append(j.note(res.Run, app, step, s)); err != nil {
		s.Drop()
		return false, fmt.Errorf("%s: the step could not be recorded, and nothing of it was carried out: %w", app, err)
	}
	errs := map[string]error{}
	if err := s.Commit(func(c *plan.Change, err error) { errs[c.ID] = err }); err != nil {
		return true, fmt.Errorf("%s: the step ended before its time: %w", app, err)
	}
	if after := s.After(); after != "" {
		a.mark = after
	}
	res.Written = app
	// What was written is read back and recorded, whoever interrupts.
	if err := j.readBack(context.WithoutCancel(ctx), res, step, errs, progress); err != nil {
		return true, err
	}
	res.Written = ""
	return true, nil
}

// note is the record of a step that is about to be taken.
func (j *Job) note(run, app string, step []int, s connect.Step) ledger.Record {
	body := ledger.Step{Run: run, Plan: j.Plan.ID, App: app, Journal: s.Journal(), After: s.After()}
	seen := map[string]bool{"": true}
	for _, i := range step {
		c := &j.Plan.Changes[i]
		body.Changes = append(body.Changes, c.ID)
		if !seen[c.Person] {
			seen[c.Person] = true
			body.People = append(body.People, c.Person)
		}
	}
	return ledger.Record{Kind: ledger.StepTaken, Subject: run, Body: body}
}

// readBack reads the application again and records what became of each change
// of a step.
func (j *Job) readBack(
	ctx context.Context,
	res *Result,
	step []int,
	errs map[string]error,
	progress func(string),
) error {
	a := j.of(step)
	app := j.now.Apps[a.number]
	state, err := a.reached.Read(ctx)
	if err != nil {
		return fmt.Errorf("%s: the changes were written and cannot be read back: %w", app.ID, err)
	}
	seen := newReadBack(app, state.Accounts)
	for old, name := range seen.renames(j.changes(step)) {
		if a.renamed == nil {
			a.renamed = map[string]string{}
		}
		a.renamed[old] = name
	}
	var records []ledger.Record
	bad := 0
	for _, i := range step {
		c := &j.Plan.Changes[i]
		o := outcome(res.Run, j.Plan, c)
		o.Settled, o.Says = seen.settled(a.named(c))
		if err := errs[c.ID]; err != nil && !o.Settled {
			o.Says = err.Error()
		}
		if o.Settled {
			res.Settled++
		} else {
			bad++
			res.NotSettled++
			res.Failures = append(res.Failures, o)
			j.tried[c.ID] = true
		}
		records = append(records, ledger.Record{Kind: ledger.Outcome, Subject: res.Run, Body: o})
	}
	records = append(records, seenExport(j.ledger, res.Run, app, state))
	if err := j.ledger.Append(records...); err != nil {
		return fmt.Errorf(
			"%s: the changes were written, and what became of them could not be recorded: %w; the next draft or "+
				"apply settles that",
			app.ID,
			err,
		)
	}
	moved := a.mark != "" && state.Mark != a.mark
	a.mark = state.Mark
	j.now.Accounts[a.number] = state.Accounts
	j.match()
	// A wait counts from the day on which the step before it is seen done.
	stood, err := prepare.Stood(
		j.ledger, j.state.Repo, a.number, state.Accounts, j.now.PersonOf[a.number], j.Today,
	)
	if err == nil {
		err = j.ledger.Append(stood...)
	}
	if err != nil {
		return fmt.Errorf("%s: since when accounts are on their way out could not be recorded: %w", app.ID, err)
	}
	says := fmt.Sprintf("%s: read back, %s settled", app.ID, model.Count(len(step)-bad, "change is", "changes are"))
	if bad > 0 {
		says += fmt.Sprintf(", %d not settled", bad)
	}
	progress(says)
	if moved {
		return fmt.Errorf("%s was changed by someone else while it was written. Draft again", app.ID)
	}
	return nil
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
