package carry

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"pravet/internal/core/decide"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/ledger"
	"pravet/internal/past"
	"pravet/internal/prepare"
)

// Several machines may carry out one plan, each in the applications whose leases it has. What the others do is read in the
// ledger: what was settled there counts as done, and what they are at counts as if it were done where it gives something, so
// that what must hold at every step holds however their step ends.

// others are the applications of a plan in which somebody else may be at work.
type others struct {
	read int64 // the newest entry that was read
	apps map[string]*other
}

// An other is an application as the record has it.
type other struct {
	number int
	from   int64           // the entry by which it is known
	base   *model.Accounts // as that has it
	done   []string        // changes of the plan that were settled since, by id
	begun  []string        // that somebody is at
	moved  bool            // something of this has changed since it was reckoned
}

// Under says under which lease the job is: nothing is changed but what that holds.
func (j *Job) Under(ctx context.Context, lease ledger.Lease, apps []string) error {
	j.lease = lease
	for app, a := range j.apps {
		if slices.Contains(apps, app) {
			continue
		}
		if j.others == nil {
			j.others = &others{apps: map[string]*other{}}
		}
		j.others.apps[app] = &other{number: a.number, base: j.now.Accounts[a.number]}
	}
	return j.Decide(ctx)
}

// Mine are the applications that the job carries out.
func (j *Job) mine() (apps []string) {
	for app := range j.apps {
		if !j.elsewhere(app) {
			apps = append(apps, app)
		}
	}
	slices.Sort(apps)
	return apps
}

// elsewhere reports whether somebody else carries out an application.
func (j *Job) elsewhere(app string) bool { return j.others != nil && j.others.apps[app] != nil }

// follow reads what others have done since.
func (j *Job) follow() error {
	o := j.others
	if o == nil {
		return nil
	}
	q := ledger.Query{Kinds: []ledger.Kind{ledger.ExportSeen, ledger.StepTaken, ledger.Outcome}, After: o.read}
	if o.read == 0 { // of before, only what is about the plan
		head, err := j.ledger.Head()
		if err != nil {
			return err
		}
		for app, x := range o.apps {
			if x.from, err = seenBy(j.ledger, app); err != nil {
				return err
			}
		}
		if err := j.ledger.Scan(ledger.Query{
			Kinds: []ledger.Kind{ledger.StepTaken, ledger.Outcome}, Plan: j.Plan.ID,
		}, j.heard); err != nil {
			return err
		}
		o.read, q.After = head.Seq, head.Seq
	}
	if err := j.ledger.Scan(q, j.heard); err != nil {
		return err
	}
	return j.picture()
}

// seenBy is the entry by which the record knows an application best.
func seenBy(l ledger.Ledger, app string) (seq int64, err error) {
	err = l.Scan(ledger.Query{Kinds: []ledger.Kind{ledger.ExportSeen}, Subject: app, Newest: true}, func(e *ledger.Entry) error {
		seen, err := ledger.Decode[ledger.Export](e)
		if err == nil && seen.Held != "" {
			seq, err = e.Seq, ledger.ErrStop
		}
		return err
	})
	return seq, err
}

// heard takes one entry in.
func (j *Job) heard(e *ledger.Entry) error {
	o := j.others
	o.read = max(o.read, e.Seq)
	switch e.Kind {
	case ledger.ExportSeen:
		x := o.apps[e.Subject]
		seen, err := ledger.Decode[ledger.Export](e)
		if x == nil || err != nil || seen.Held == "" || e.Seq <= x.from {
			return err
		}
		text, err := past.Text(j.ledger, seen.Held)
		if err != nil {
			return err
		}
		accounts, err := past.Read(text, j.now.Apps[x.number])
		if err != nil {
			return err
		}
		x.from, x.base, x.done, x.moved = e.Seq, accounts, nil, true
	case ledger.StepTaken:
		step, err := ledger.Decode[ledger.Step](e)
		if x := o.apps[step.App]; x != nil && err == nil && step.Plan == j.Plan.ID {
			x.begun, x.moved = append(x.begun, step.Changes...), true
		}
		return err
	case ledger.Outcome:
		out, err := ledger.Decode[ledger.ChangeOutcome](e)
		x := o.apps[out.App]
		if x == nil || err != nil || out.Plan != j.Plan.ID {
			return err
		}
		x.moved = true
		x.begun = slices.DeleteFunc(x.begun, func(id string) bool { return id == out.Change })
		if j.outcomes[out.Change] = out.Settled; out.Settled && e.Seq > x.from {
			x.done = append(x.done, out.Change)
		}
	}
	return nil
}

// picture reckons how the applications of others are.
func (j *Job) picture() error {
	again := false
	for _, x := range j.others.apps {
		if !x.moved {
			continue
		}
		x.moved, again = false, true
		app := j.now.Apps[x.number]
		is := newReadBack(app, x.base)
		var changes []*plan.Change
		for i := range j.Plan.Changes {
			c := &j.Plan.Changes[i]
			if c.App != app.ID {
				continue
			}
			settled := slices.Contains(x.done, c.ID)
			if !settled && (!slices.Contains(x.begun, c.ID) || c.Effect == model.Narrows) {
				continue
			}
			if shows, _ := is.settled(c); !shows {
				changes = append(changes, c)
			}
		}
		after, err := prepare.Done(app, x.base, changes)
		if err != nil {
			return err
		}
		j.now.Accounts[x.number] = after
	}
	if again {
		j.match()
	}
	return nil
}

// record adds entries about some applications under the lease of the job. Where others are at work in the plan, a step is
// refused with ledger.ErrOvertaken when they have done something that was not looked at yet.
func (j *Job) record(run string, apps []string, records ...ledger.Record) error {
	if j.lease == nil {
		return j.ledger.Append(records...)
	}
	var unless *ledger.Query
	if j.others != nil && len(records) == 1 && records[0].Kind == ledger.StepTaken {
		unless = &ledger.Query{Kinds: []ledger.Kind{ledger.StepTaken, ledger.Outcome}, After: j.others.read, Others: run}
	}
	return j.lease.Append(apps, unless, records...)
}

// holds makes sure that nobody else has the application by now.
func (j *Job) holds(app string) error {
	if j.lease == nil {
		return nil
	}
	return j.lease.Holds(app)
}

// pollOthers is how long others are given to do something before the record is looked at again.
const pollOthers = time.Second

// await waits while somebody else is at work on what the rest of this run needs. It reports whether something may have come of it.
func (j *Job) await(ctx context.Context, progress func(Progress)) bool {
	for said := false; j.others != nil; said = true {
		var awaited []string
		for i, state := range j.States {
			if c := j.course.Missing(i, j.States); state == decide.Lacking && c != nil && j.elsewhere(c.App) &&
				!slices.Contains(awaited, c.App) {
				awaited = append(awaited, c.App)
			}
		}
		if len(awaited) == 0 {
			return false
		}
		holder := j.ledger.Holder(awaited...)
		if holder == nil {
			return false
		}
		if !said {
			progress(Progress{App: awaited[0], Says: fmt.Sprintf("%s: waiting for what is needed there: %s", awaited[0], holder)})
		}
		before := j.others.read
		select {
		case <-ctx.Done():
			return false
		case <-time.After(pollOthers):
		}
		if err := j.follow(); err != nil || j.others.read > before {
			return true // whoever decides next says what is wrong
		}
	}
	return false
}

// overtaken reports whether a step was refused because others were faster.
func overtaken(err error) bool { return errors.Is(err, ledger.ErrOvertaken) }
