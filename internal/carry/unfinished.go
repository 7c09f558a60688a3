package carry

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"

	"pravet/internal/connect"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/core/words"
	"pravet/internal/ledger"
	"pravet/internal/prepare"
)

// An Unfinished is a run that was cut off and that Settle has settled.
type Unfinished struct {
	Run, Plan  string
	Settled    int // changes of its last steps that the applications show
	NotSettled int // changes that they do not show, or that were never begun
	Warnings   []string

	marks map[string]string // of live applications as they were fetched
	held  map[string]error  // applications that are held up, and why
	claim func(app string) error
}

func (u *Unfinished) String() string {
	return fmt.Sprintf(
		"%s of plan %s was cut off; of what it had begun, %d settled, %d not. To go on: pravet apply %s",
		u.Run,
		u.Plan,
		u.Settled,
		u.NotSettled,
		u.Plan,
	)
}

// A HeldUp is an application of a run that was cut off, of which nobody can tell what the run has left there. Nothing
// else waits for it.
type HeldUp struct {
	Run, App string
	Err      error
}

// Settle closes the books of runs that were cut off: a step that no application
// shows anything of is given up, one that an application shows some of is
// finished, and then the application is read back. Nobody decides anew about what
// is half done; everything else waits for decisions as before. load finds a plan
// by its id; claim makes this the only process that changes an application. An application that cannot be
// reached, or that another process changes, is held up, and its run stays open.
func Settle(
	ctx context.Context,
	s *prepare.State,
	l ledger.Ledger,
	load func(id string) (*plan.Plan, error),
	claim func(app string) error,
) (out []*Unfinished, held []HeldUp, err error) {
	open, err := openRuns(l)
	for _, r := range open {
		if err != nil {
			break
		}
		u := &Unfinished{Run: r.Run, Plan: r.Plan, claim: claim, held: map[string]error{}}
		if app, by := underWay(r, claim); by != nil {
			held = append(held, HeldUp{r.Run, app, by})
			continue
		}
		if err = u.settle(ctx, s, l, load); err != nil {
			break
		}
		if len(u.held) == 0 {
			out = append(out, u)
		}
		for _, app := range slices.Sorted(maps.Keys(u.held)) {
			held = append(held, HeldUp{r.Run, app, u.held[app]})
		}
	}
	return out, held, err
}

// underWay finds who is still at work on a run, if anybody: the error is a *ledger.Leased. Whoever begins a run keeps the
// leases of its applications until it ends.
func underWay(r ledger.Run, claim func(app string) error) (app string, by error) {
	for _, app := range r.Apps {
		var leased *ledger.Leased
		if err := claim(app); errors.As(err, &leased) {
			return app, leased
		}
	}
	return "", nil
}

// openRuns are the runs whose books are open, the oldest first.
func openRuns(l ledger.Ledger) (open []ledger.Run, err error) {
	err = l.Scan(ledger.Query{Kinds: []ledger.Kind{ledger.RunStarted}, Newest: true}, func(e *ledger.Entry) error {
		r, err := ledger.Decode[ledger.Run](e)
		if err != nil {
			return err
		}
		var end ledger.RunEnd
		ended, err := l.Last(ledger.RunEnded, e.Subject, &end)
		switch {
		case err != nil:
			return err
		case !ended:
			r.Run = e.Subject
			open = append(open, r)
		case len(r.Open) == 0:
			return ledger.ErrStop // those before it were settled before it began
		}
		return nil
	})
	slices.Reverse(open)
	return open, err
}

func (u *Unfinished) settle(
	ctx context.Context,
	s *prepare.State,
	l ledger.Ledger,
	load func(string) (*plan.Plan, error),
) error {
	known := map[string]bool{}
	var steps []ledger.Step
	err := l.Scan(
		ledger.Query{Subject: u.Run, Kinds: []ledger.Kind{ledger.StepTaken, ledger.Outcome}},
		func(e *ledger.Entry) error {
			if e.Kind == ledger.Outcome {
				o, err := ledger.Decode[ledger.ChangeOutcome](e)
				known[o.Change] = true
				return err
			}
			step, err := ledger.Decode[ledger.Step](e)
			steps = append(steps, step)
			return err
		},
	)
	if err != nil {
		return err
	}
	var records []ledger.Record
	for _, step := range steps {
		step.Changes = slices.DeleteFunc(slices.Clone(step.Changes), func(id string) bool { return known[id] })
		if len(step.Changes) == 0 || u.held[step.App] != nil {
			continue
		}
		err := u.claim(step.App)
		var more []ledger.Record
		if err == nil {
			more, err = u.step(ctx, l, s, &step, load)
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err != nil {
			u.held[step.App] = err
			continue
		}
		records = append(records, more...)
	}
	fetched, err := u.fetch(ctx, s, l, steps)
	if err != nil {
		return err
	}
	records = append(records, fetched...)
	if len(u.held) > 0 {
		return l.Append(records...)
	}
	end := ledger.RunEnd{
		Run:        u.Run,
		Plan:       u.Plan,
		Settled:    u.Settled,
		NotSettled: u.NotSettled,
		Error:      "it was cut off; what it had begun was settled later",
		Marks:      u.marks,
	}
	return l.Append(append(records, ledger.Record{Kind: ledger.RunEnded, Subject: u.Run, Body: end})...)
}

// step settles one step, and returns what is to be recorded.
func (u *Unfinished) step(
	ctx context.Context,
	l ledger.Ledger,
	s *prepare.State,
	step *ledger.Step,
	load func(string) (*plan.Plan, error),
) ([]ledger.Record, error) {
	a := s.Repo.App(step.App)
	if a < 0 {
		u.Warnings = append(
			u.Warnings,
			fmt.Sprintf(
				"there is no application %s any more, so nothing is known of %s",
				step.App,
				model.Count(len(step.Changes), "change", "changes"),
			),
		)
		return nil, nil
	}
	taken := true
	if len(step.Journal) > 0 {
		var err error
		taken, err = s.Reached[a].Resume(ctx, step.Journal)
		var moved *connect.MovedError
		if errors.As(err, &moved) {
			u.Warnings = append(u.Warnings, err.Error())
		} else if err != nil {
			return nil, err
		}
	}
	p, err := load(step.Plan)
	if err != nil {
		u.Warnings = append(
			u.Warnings,
			fmt.Sprintf(
				"plan %s cannot be read (%v), so nothing is known of %s",
				step.Plan,
				err,
				model.Count(len(step.Changes), "change", "changes"),
			),
		)
		return nil, nil
	}
	byID := map[string]*plan.Change{}
	for i := range p.Changes {
		byID[p.Changes[i].ID] = &p.Changes[i]
	}
	var changes []*plan.Change
	for _, id := range step.Changes {
		if c := byID[id]; c != nil {
			changes = append(changes, c)
		}
	}
	accounts, state, err := look(ctx, s, a, changes)
	if err != nil {
		return nil, err
	}
	seen := newReadBack(s.Repo.Apps[a], accounts)
	as := &application{renamed: seen.renames(changes)}
	var records []ledger.Record
	for _, c := range changes {
		o := outcome(u.Run, p, c)
		if taken {
			o.Settled, o.Says = seen.settled(as.named(c))
		} else {
			o.Says = "the run was cut off before this was carried out"
		}
		switch {
		case o.Settled:
			o.Result = ledger.Done
			u.Settled++
		case taken:
			o.Result = ledger.Unknown
			u.NotSettled++
		default:
			o.Result = ledger.NotBegun
			u.NotSettled++
		}
		if s.ComesWithPassword(a, c) {
			var came error
			if !taken {
				came = connect.ErrNotBegun
			}
			r := seen.Row(as.named(c).Account)
			tells := r < 0 || renewedOn(seen.App, accounts, r) != ""
			if came == nil && !o.Settled && tells {
				came = &connect.Fault{Kind: connect.Failed, Says: o.Says} // it had all the time to show it
			}
			says, err := s.SettlePassword(ctx, a, c, came, o.Settled)
			if err != nil {
				return nil, err
			}
			u.Warnings = append(u.Warnings, step.App+": "+says)
			if !o.Settled {
				o.Says = words.Also(o.Says, says)
			}
		}
		records = append(records, ledger.Record{Kind: ledger.Outcome, Subject: u.Run, Body: o})
	}
	if taken && state != nil {
		records = append(records, seenExport(l, u.Run, s.Repo.Apps[a], state))
	}
	return records, nil
}

// renewedOn is the day of which the key of an account is, as the application shows it.
func renewedOn(app *model.App, accounts *model.Accounts, r int) string {
	if n := app.Attr(model.KeySince); n >= 0 {
		return accounts.Attr(n, r)
	}
	return ""
}

// look reads an application after a step of which nobody knows what became. A live one is
// looked at until it shows what may have been carried out; its state is fetched when all
// steps of the run are settled.
func look(
	ctx context.Context, s *prepare.State, a int, changes []*plan.Change,
) (accounts *model.Accounts, state *connect.State, err error) {
	state, err = s.Reached[a].Read(ctx)
	if err != nil {
		return nil, nil, err
	}
	l, ok := s.Reached[a].(connect.Live)
	if !ok {
		return state.Accounts, state, nil
	}
	accounts = state.Accounts
	all := func(*plan.Change) bool { return true }
	err = seen(ctx, s.Repo.Apps[a], l, changes, all, func(part *model.Accounts, names []string) {
		accounts = accounts.Merge(s.Repo.Apps[a], part, names)
	})
	return accounts, nil, err
}

// fetch fetches the live applications that a run had begun to change.
func (u *Unfinished) fetch(
	ctx context.Context, s *prepare.State, l ledger.Ledger, steps []ledger.Step,
) (records []ledger.Record, err error) {
	for _, step := range steps {
		a := s.Repo.App(step.App)
		if a < 0 || u.marks[step.App] != "" || u.held[step.App] != nil {
			continue
		}
		reached, ok := s.Reached[a].(connect.Live)
		if !ok {
			continue
		}
		state, err := reached.Fetch(ctx, func(int) {})
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if err != nil {
			u.held[step.App] = err
			continue
		}
		if u.marks == nil {
			u.marks = map[string]string{}
		}
		if err := s.Share(ctx, l, a, state.Mark); err != nil {
			return nil, err
		}
		u.marks[step.App] = state.Mark
		records = append(records, seenExport(l, u.Run, s.Repo.Apps[a], state))
	}
	return records, nil
}
