package carry

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"pravet/internal/connect"
	"pravet/internal/core/decide"
	"pravet/internal/core/guard"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/ledger"
)

// A Result is what a run came to.
type Result struct {
	ledger.RunEnd
	Failures []ledger.ChangeOutcome // what is not settled
	Written  string                 // the application that was changed and could not be recorded or read back, or ""

	touched map[string]bool // applications that something was carried out in
	faults  map[string]int  // by application, how many changes came to nothing
}

// Progress is what a run is at.
type Progress struct {
	App     string
	Says    string // what has just happened, in words; or ""
	Change  *plan.Change
	Err     error // how Change went
	Fetched int   // how many accounts were read by now, while the application is fetched again
}

// Run carries out what is ready, step by step, and returns what it came to.
// progress is told what happens. An error ends the run between two steps or
// within one; what was done before it is recorded, where that is possible, and
// told in the result. A run of which nobody could say what became of it has no end on
// record: Settle finds it, and closes it. When the context ends, a step that has not begun is given
// up, and one that has is finished and read back.
func (j *Job) Run(ctx context.Context, progress func(Progress)) (*Result, error) {
	open, err := j.open()
	if err != nil {
		return nil, err
	}
	run, err := j.ledger.Begin(
		ledger.Run{
			Plan: j.Plan.ID, Digest: j.Plan.Digest, People: j.roster(), Changes: j.Count(decide.Ready), Open: open,
			Apps: j.mine(),
		},
	)
	if err != nil {
		return nil, err
	}
	res := newResult(run, j.Plan.ID)
	before := j.Count(decide.Completed)
	err = j.steps(ctx, res, progress)
	// What was changed is fetched again, whoever interrupts.
	var after error
	if res.Written == "" || !errors.As(err, new(*ledger.Lost)) {
		after = j.close(context.WithoutCancel(ctx), res, res.touched, progress)
	}
	res.Held = j.Held()
	res.Left = len(j.States) - before - res.Settled - res.NotSettled - res.Held - res.Waiting
	if err != nil {
		res.Error = err.Error()
	}
	if after != nil {
		res.After = after.Error()
	}
	if res.Written != "" { // the books stay open, for Settle to close them
		return res, errors.Join(err, after)
	}
	end := j.record(run, j.mine(), ledger.Record{Kind: ledger.RunEnded, Subject: run, Body: res.RunEnd})
	return res, errors.Join(err, after, end)
}

func newResult(run, plan string) *Result {
	return &Result{
		RunEnd: ledger.RunEnd{Run: run, Plan: plan}, touched: map[string]bool{}, faults: map[string]int{},
	}
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
func (j *Job) steps(ctx context.Context, res *Result, progress func(Progress)) (failed error) {
	refused := map[string]plan.Hold{}
	j.ended = map[string]error{}
	for {
		if ctx.Err() != nil {
			return errors.Join(failed, errStopped)
		}
		if err := j.Decide(ctx); err != nil {
			return errors.Join(failed, stopped(ctx, err))
		}
		step, none := j.next(refused)
		if none && j.await(ctx, progress) {
			continue
		}
		if none {
			return failed
		}
		if len(step) == 0 {
			continue
		}
		took, err := j.step(ctx, res, step, refused, progress)
		var alone *appError
		switch {
		case overtaken(err):
			continue
		case errors.As(err, &alone): // the others go on
			j.ended[alone.app] = alone.err
			failed = errors.Join(failed, alone.err)
		case err != nil:
			return errors.Join(failed, err)
		}
		if took {
			clear(refused)
		}
	}
}

// An appError ends the steps of one application, and no other's.
type appError struct {
	app string
	err error
}

func (e *appError) Error() string { return e.err.Error() }

func (e *appError) Unwrap() error { return e.err }

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
	for i := range j.Plan.Changes {
		c := &j.Plan.Changes[i]
		if err := j.ended[c.App]; err != nil && j.States[i] == decide.Ready {
			j.States[i], j.Why[c.ID] = decide.Held, impossible("the run has stopped in "+c.App)
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
	if j.of(front).later != nil {
		return j.all(front, step), false
	}
	if a := j.of(front); a.live != nil { // so that not too much is unknown at a time
		step = step[:min(len(step), max(1, a.live.Limits().Batch))]
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
	progress func(Progress),
) (took bool, err error) {
	a, changes := j.of(step), j.changes(step)
	app := j.now.Apps[a.number].ID
	progress(Progress{App: app, Says: fmt.Sprintf("%s: writing %s", app, model.Count(len(step), "change", "changes"))})
	s, err := a.reached.Prepare(ctx, a.mark, changes)
	if err != nil {
		var moved *connect.MovedError
		switch {
		case ctx.Err() != nil:
			return false, errStopped
		case errors.As(err, &moved):
			err = fmt.Errorf("%w; nothing of this step was carried out. Draft again", err)
		default:
			err = fmt.Errorf("%w; nothing of this step was carried out", err)
		}
		return false, &appError{app, err}
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
	if err := j.record(res.Run, []string{app}, j.note(res.Run, app, step, s)); err != nil {
		s.Drop()
		if overtaken(err) {
			return false, err
		}
		return false, fmt.Errorf("%s: the step could not be recorded, and nothing of it was carried out: %w", app, err)
	}
	res.touched[app] = true
	res.Written = app
	errs, ended := j.commit(ctx, res, app, a, s, progress)
	if err := j.holds(app); err != nil {
		return true, err // whoever has it now, or comes next, settles what was begun
	}
	res.Written = ""
	if ended != nil && a.live == nil {
		return true, &appError{app, fmt.Errorf("%s: the step failed: %w", app, ended)}
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
	if most := j.most(a); most > 0 && res.faults[app] >= most {
		return true, &appError{app, fmt.Errorf(
			"%s: %s, which is the limit (failures), so the run stopped there", app,
			model.Count(res.faults[app], "change failed", "changes failed"),
		)}
	}
	return true, ended
}

// most is how many changes of an application may come to nothing before the run ends; 0 for
// any number.
func (j *Job) most(a *application) int {
	if a.live == nil {
		return 0
	}
	return a.live.Limits().Failures
}

// commit carries a step out. When too many changes come to nothing, the rest of it is not
// begun.
func (j *Job) commit(
	ctx context.Context, res *Result, app string, a *application, s connect.Step, progress func(Progress),
) (errs map[string]error, err error) {
	within, stop := context.WithCancel(connect.Allowed(ctx, func() error { return j.holds(app) }))
	defer stop()
	errs = map[string]error{}
	err = s.Commit(within, func(c *plan.Change, err error) {
		errs[c.ID] = err
		if err != nil && !errors.Is(err, connect.ErrNotBegun) {
			res.faults[app]++
			if most := j.most(a); most > 0 && res.faults[app] >= most {
				stop()
			}
		}
		progress(Progress{App: app, Change: c, Err: err})
	})
	return errs, err
}

// note is the record of a step that is about to be taken.
func (j *Job) note(run, app string, step []int, s connect.Step) ledger.Record {
	body := ledger.Step{Run: run, Plan: j.Plan.ID, App: app, Journal: s.Journal(), After: s.After()}
	if j.lease != nil {
		body.Lease = j.lease.Number(app)
	}
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
