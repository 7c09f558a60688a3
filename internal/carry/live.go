package carry

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"pravet/internal/connect"
	"pravet/internal/connect/live"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/ledger"
)

// maxBeside is how many changes of others are named.
const maxBeside = 12

// refresh looks, at live applications, at the accounts that the plan is about: a run goes
// by what is there now, and not by what was there when it was fetched.
func (j *Job) refresh(ctx context.Context) error {
	for app, a := range j.apps {
		l, ok := a.reached.(connect.Live)
		if !ok {
			continue
		}
		a.live = l
		var changes []*plan.Change
		for i := range j.Plan.Changes {
			if c := &j.Plan.Changes[i]; c.App == app {
				changes = append(changes, c)
			}
		}
		part := live.PartOf(j.state.Repo.Apps[a.number], changes)
		if len(part.Accounts) == 0 {
			continue
		}
		is, err := l.Look(ctx, part.Accounts, part.Groups...)
		if err != nil {
			return fmt.Errorf("%w; nothing was changed", err)
		}
		a.fetched = j.state.Exports[a.number].Accounts
		j.state.Exports[a.number].Accounts = a.fetched.Merge(j.state.Repo.Apps[a.number], is, part.Accounts)
	}
	return nil
}

// result is what became of a change by what the application answered.
func result(err error) ledger.Result {
	var f *connect.Fault
	switch {
	case errors.Is(err, connect.ErrNotBegun):
		return ledger.NotBegun
	case !errors.As(err, &f):
		return ledger.Failed
	case f.Kind == connect.Refused:
		return ledger.Refused
	case f.Kind == connect.Conflict:
		return ledger.Conflict
	case f.Kind == connect.Unknown:
		return ledger.Unknown
	}
	return ledger.Failed
}

// The pauses between two looks at what an application does not show yet.
const (
	firstLook = 50 * time.Millisecond
	lastLook  = 2 * time.Second
)

// seen looks at the accounts of changes that were sent, again and again until the
// application shows all those that may come, or for as long as that may take. look is told
// what was seen of which accounts.
func seen(
	ctx context.Context, app *model.App, l connect.Live, changes []*plan.Change, mayCome func(*plan.Change) bool,
	look func(part *model.Accounts, names []string),
) error {
	deadline := time.Now().Add(l.Limits().Settle)
	left := changes
	for wait := firstLook; ; wait = min(2*wait, lastLook) {
		began := time.Now() // only a look that begins when all must be there tells that something is not
		part := live.PartOf(app, left)
		is, err := l.Look(ctx, part.Accounts, part.Groups...)
		if err != nil {
			return err
		}
		look(is, part.Accounts)
		back := newReadBack(app, is)
		left = slices.DeleteFunc(slices.Clone(left), func(c *plan.Change) bool {
			ok, _ := back.settled(c)
			return ok || !mayCome(c) || back.untold(c)
		})
		if len(left) == 0 || began.After(deadline) {
			return nil
		}
		time.Sleep(min(wait, max(time.Until(deadline), 0)+time.Millisecond))
	}
}

// unseen is what is to be said of a change that an application said yes to and does not
// show.
func (a *application) unseen(c *plan.Change, says string) (ledger.Result, string) {
	within := a.live.Limits().Settle
	same, known := a.live.Unmoved(c.Account)
	if c.Thing != nil && c.Thing.Kind == model.Group {
		known = false // the group is of another version then, and not its member
	}
	if known && same {
		return ledger.Ignored, "the application said yes and did nothing: " + says
	} else if known {
		return ledger.NotYet, fmt.Sprintf(
			"the application said yes and has changed the account, but does not show this %s later: %s; look again "+
				"with: pravet fetch", within, says,
		)
	}
	return ledger.Ignored, fmt.Sprintf("the application said yes, and %s later %s", within, says)
}

// close fetches anew the live applications that a run has changed, so that the next plan
// starts from what is there, and notes what else has changed in them meanwhile.
func (j *Job) close(ctx context.Context, res *Result, touched map[string]bool, progress func(Progress)) error {
	var errs []error
	for app, a := range j.apps {
		if a.live == nil || !touched[app] {
			continue
		}
		state, err := a.live.Fetch(ctx, func(n int) { progress(Progress{App: app, Fetched: n}) })
		if err != nil {
			errs = append(errs, fmt.Errorf(
				"what %s shows now could not be fetched: %w. Before the next draft: pravet fetch %s", app, err, app,
			))
			continue
		}
		if res.Marks == nil {
			res.Marks = map[string]string{}
		}
		res.Marks[app] = state.Mark
		beside := j.beside(a, state.Accounts)
		if n := len(beside) - maxBeside; n > 0 {
			beside = append(beside[:maxBeside:maxBeside], fmt.Sprintf("%s: %d more", app, n))
		}
		res.Beside = append(res.Beside, beside...)
		err = j.state.Share(ctx, j.ledger, a.number, state.Mark)
		if err == nil {
			err = j.record(res.Run, []string{app}, seenExport(j.ledger, res.Run, j.now.Apps[a.number], state))
		}
		if err != nil {
			errs = append(errs, err)
		}
	}
	return errors.Join(errs...)
}

// beside tells what has changed in an application since it was fetched for the plan, other
// than by the changes of the plan.
func (j *Job) beside(a *application, now *model.Accounts) (out []string) {
	app, was := j.now.Apps[a.number], a.fetched
	if was == nil {
		return nil
	}
	ours := map[string]map[string]bool{} // account → what the plan is about
	note := func(account, what string) {
		if ours[account] == nil {
			ours[account] = map[string]bool{}
		}
		ours[account][what] = true
	}
	for i := range j.Plan.Changes {
		c := &j.Plan.Changes[i]
		if c.App != app.ID {
			continue
		}
		for _, account := range live.Names(app, []*plan.Change{c}) {
			switch {
			case c.Verb == model.HandOver:
				note(account, model.Owned)
			case c.Verb == model.Update:
				note(account, c.Attribute)
				if c.Attribute == app.Match {
					note(account, "there")
				}
			case c.Thing != nil:
				note(account, c.Thing.Kind.String()+" "+c.Thing.Name)
			case c.Verb == model.Suspend, c.Verb == model.Restore:
				note(account, "state")
			default:
				note(account, "there")
			}
		}
	}
	say := func(account, what, format string, args ...any) {
		if ours[account][what] || ours[account]["there"] {
			return
		}
		out = append(out, fmt.Sprintf("%s: %s ", app.ID, account)+fmt.Sprintf(format, args...))
	}
	at := make(map[string]int, now.Len())
	for i := range now.Len() {
		at[now.Key.At(i)] = i
	}
	for i := range was.Len() {
		name := was.Key.At(i)
		k, ok := at[name]
		delete(at, name)
		if !ok {
			say(name, "there", "is gone")
			continue
		}
		if was.States[i] != now.States[k] {
			say(name, "state", "is %s and was %s", now.States[k], was.States[i])
		}
		for n, attr := range app.Attrs {
			if x, y := was.Attr(n, i), now.Attr(n, k); x != y && !attr.Observed {
				say(name, attr.Name, "has %s %q and had %q", attr.Name, y, x)
			}
		}
		before, after := was.Sets.Members(was.Has(i)), now.Sets.Members(now.Has(k))
		for _, t := range model.Without(after, before) {
			say(name, app.Things[t].String(), "holds %s now", app.Things[t].String())
		}
		for _, t := range model.Without(before, after) {
			say(name, app.Things[t].String(), "does not hold %s any more", app.Things[t].String())
		}
	}
	for i := range now.Len() {
		if name := now.Key.At(i); at[name] == i {
			if _, fresh := at[name]; fresh {
				say(name, "there", "is new")
			}
		}
	}
	return out
}
