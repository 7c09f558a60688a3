// A rehearsal carries a plan out on copies of the applications in memory, with the
// ledger copied too: step by step, with interruptions thrown in, and with what must hold at
// every step counted anew after each. Then it undoes everything, and compares with the start.
// Nothing outside of it is changed.

package carry

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"

	"pravet/internal/connect"
	"pravet/internal/core/course"
	"pravet/internal/core/day"
	"pravet/internal/core/decide"
	"pravet/internal/core/diff"
	"pravet/internal/core/draft"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/ledger"
	"pravet/internal/prepare"
)

// Input is what is rehearsed. The State is used up: its applications are replaced.
type Rehearsing struct {
	State  *prepare.State // with the applications of the plan read
	Plan   *plan.Plan
	Ledger ledger.Ledger // a copy
	Today  day.Day
	Faults float64 // how many of the steps are interrupted, between 0 and 1
	Seed   uint64
}

// A Report is what came of it.
type Rehearsed struct {
	Plan       string   `json:"plan"`
	Changes    int      `json:"changes"` // of the plan
	Settled    int      `json:"settled"`
	NotSettled []string `json:"notSettled"` // with why
	// LeftAlone counts the others by what is decided about them: held, rejected, done before.
	LeftAlone map[decide.State]int `json:"leftAlone"`
	Steps     int                  `json:"steps"`
	Thrown    int                  `json:"interruptions"` // after each of which the run went on
	Broken    []string             `json:"broken"`        // what did not hold after a step
	Undone    int                  `json:"undone"`
	NotUndone []string             `json:"notUndone"`  // in words
	Differs   []string             `json:"differs"`    // from the start, once all is undone
	SameAgain bool                 `json:"startAgain"` // the start was reached again
}

// errThrown interrupts a run.
var errThrown = errors.New("an interruption was thrown in")

// maxRuns bounds how often a run is begun again.
const maxRuns = 200

type rehearsal struct {
	Rehearsing
	out    *Rehearsed
	chance *rand.Rand
	broken map[string]int // at the start
}

// Run rehearses a plan.
func Rehearse(ctx context.Context, in Rehearsing) (*Rehearsed, error) {
	r := &rehearsal{
		Rehearsing: in, chance: rand.New(rand.NewPCG(in.Seed, 7)),
		out: &Rehearsed{
			Plan:       in.Plan.ID,
			Changes:    len(in.Plan.Changes),
			NotSettled: []string{},
			LeftAlone:  map[decide.State]int{},
			Broken:     []string{},
			NotUndone:  []string{},
			Differs:    []string{},
		},
	}
	err := in.State.Mirror(func(app *model.App, m *prepare.Mirror) connect.Application { return &shaken{m, app, r} })
	if err != nil {
		return nil, err
	}
	start := r.accounts()
	r.broken = r.now().Broken()
	settled, left, err := r.carryOut(ctx, in.Plan)
	if err != nil {
		return nil, err
	}
	r.out.Settled, r.out.NotSettled = len(settled), append(r.out.NotSettled, left...)

	back, err := prepare.Undo(
		in.State, in.Ledger, draft.UndoneRun{ID: "the rehearsal", Plan: in.Plan, Done: settled}, in.Today,
	)
	if err != nil {
		return nil, err
	}
	for i := range back.Changes {
		back.Changes[i].Holds = nil // limits are for people to lift
	}
	for _, n := range back.Notices {
		r.out.NotUndone = append(r.out.NotUndone, n.App+": "+n.Says)
	}
	if _, err := back.Seal(); err != nil {
		return nil, err
	}
	undone, left, err := r.carryOut(ctx, back)
	if err != nil {
		return nil, err
	}
	r.out.Undone, r.out.NotUndone = len(undone), append(r.out.NotUndone, left...)
	r.out.Differs = append(r.out.Differs, r.differs(start)...)
	r.out.SameAgain = len(r.out.Differs) == 0
	return r.out, nil
}

// accounts are those of all applications, as they are.
func (r *rehearsal) accounts() []*model.Accounts {
	out := make([]*model.Accounts, len(r.State.Exports))
	for a, reached := range r.State.Reached {
		if s, ok := reached.(*shaken); ok {
			out[a] = s.State.Accounts
		}
	}
	return out
}

func (r *rehearsal) now() *course.Now {
	repo := r.State.Repo
	n := &course.Now{
		People: repo.People, Apps: repo.Apps, Accounts: r.accounts(), Separations: repo.Separations,
		Exceptions: repo.Exceptions, Today: r.Today,
	}
	n.PersonOf = diff.Match(diff.Input{People: n.People, Apps: n.Apps, Accounts: n.Accounts}).PersonOf
	return n
}

// carryOut carries a plan out, beginning again after each interruption, and returns what was
// settled, in its order, and what was not, with why.
func (r *rehearsal) carryOut(ctx context.Context, p *plan.Plan) (settled, left []string, err error) {
	load := func(id string) (*plan.Plan, error) {
		if id == p.ID {
			return p, nil
		}
		return r.Plan, nil
	}
	var job *Job
	before := map[string]bool{} // carried out before the rehearsal
	for runs := 0; ; runs++ {
		if runs > maxRuns {
			return nil, nil, errors.New("the run did not come to an end, after many interruptions")
		}
		_, held, err := Settle(ctx, r.State, r.Ledger, load, func(string) error { return nil })
		if err == nil && len(held) > 0 {
			err = held[0].Err
		}
		if err != nil {
			return nil, nil, err
		}
		if err := r.State.Reread(ctx); err != nil {
			return nil, nil, err
		}
		if job, err = New(ctx, r.State, p, r.Ledger, r.Today); err != nil {
			return nil, nil, err
		}
		if err := job.All(ctx); err != nil {
			return nil, nil, err
		}
		if runs == 0 {
			maps.Copy(before, job.Standing.Done)
		}
		res, thrown, err := run(ctx, job)
		if thrown {
			continue
		}
		if err != nil {
			return nil, nil, err
		}
		for _, f := range res.Failures {
			left = append(left, f.What+": "+f.Says)
		}
		break
	}
	for i := range p.Changes {
		if c := &p.Changes[i]; job.Standing.Done[c.ID] && !before[c.ID] {
			settled = append(settled, c.ID)
		} else if why, held := job.Why[c.ID]; held {
			left = append(left, fmt.Sprintf("%s %s: %s", c.Verb, c.Account, why.Says))
		} else if s := job.States[i]; p == r.Plan && s != decide.Tried && s != decide.Ready {
			r.out.LeftAlone[s]++
		}
	}
	return settled, left, r.State.Reread(ctx)
}

// run runs a job, which may be cut off as if the machine had lost its power.
func run(ctx context.Context, job *Job) (res *Result, thrown bool, err error) {
	defer func() {
		if is := recover(); is != nil {
			if is != error(errThrown) {
				panic(is)
			}
			thrown = true
		}
	}()
	res, err = job.Run(ctx, func(Progress) {})
	return res, false, err
}

// check counts what must hold after a step.
func (r *rehearsal) check() {
	r.out.Steps++
	for what, n := range r.now().Broken() {
		if n > r.broken[what] && !slices.Contains(r.out.Broken, what) {
			r.out.Broken = append(r.out.Broken, what)
		}
	}
	slices.Sort(r.out.Broken)
}

// differs tells how the applications differ from the start.
func (r *rehearsal) differs(start []*model.Accounts) (out []string) {
	for a, now := range r.accounts() {
		if now == nil {
			continue
		}
		app, was := r.State.Repo.Apps[a], start[a]
		at := make(map[string]int, was.Len())
		for i := range was.Len() {
			at[was.Key.At(i)] = i
		}
		made := map[model.State][]string{} // accounts that were not there
		for i := range now.Len() {
			name := now.Key.At(i)
			k, ok := at[name]
			delete(at, name)
			if !ok {
				made[now.States[i]] = append(made[now.States[i]], name)
				continue
			}
			if was.States[k] != now.States[i] {
				out = append(out, fmt.Sprintf("%s: the account %s is %s", app.ID, name, now.States[i]))
			}
			for n, attr := range app.Attrs {
				if was.Attr(n, k) != now.Attr(n, i) {
					out = append(out, fmt.Sprintf("%s: %s of %s is %q", app.ID, attr.Name, name, now.Attr(n, i)))
				}
			}
			before, after := was.Sets.Members(was.Has(k)), now.Sets.Members(now.Has(i))
			for _, t := range model.Without(after, before) {
				out = append(out, fmt.Sprintf("%s: %s holds %s", app.ID, name, app.Things[t].String()))
			}
			for _, t := range model.Without(before, after) {
				out = append(out, fmt.Sprintf("%s: %s does not hold %s", app.ID, name, app.Things[t].String()))
			}
		}
		for _, state := range model.States() {
			if names := made[state]; len(names) > 0 {
				out = append(out, fmt.Sprintf(
					"%s: %s: %s", app.ID,
					model.Count(len(names), "account that the plan made is still there, "+state.String(),
						"accounts that the plan made are still there, "+state.String()), some(names),
				))
			}
		}
		for i := range was.Len() {
			if _, gone := at[was.Key.At(i)]; gone {
				out = append(out, fmt.Sprintf("%s: the account %s is gone", app.ID, was.Key.At(i)))
			}
		}
	}
	return out
}

// maxNames is how many accounts are named.
const maxNames = 5

func some(names []string) string {
	slices.Sort(names)
	text := strings.Join(names[:min(len(names), maxNames)], ", ")
	if n := len(names) - maxNames; n > 0 {
		text += fmt.Sprintf(" and %d more", n)
	}
	return text
}

// shaken is a mirror that is interrupted now and then.
type shaken struct {
	*prepare.Mirror
	app *model.App
	of  *rehearsal
}

// Prepare makes a step ready that may be interrupted.
func (s *shaken) Prepare(ctx context.Context, mark string, changes []*plan.Change) (connect.Step, error) {
	step, err := s.Mirror.Prepare(ctx, mark, changes)
	if err != nil {
		return nil, err
	}
	return &shakenStep{step, s.of}, nil
}

type shakenStep struct {
	connect.Step
	of *rehearsal
}

// Commit carries the step out; or the power fails, before it or after it.
func (s *shakenStep) Commit(ctx context.Context, done func(*plan.Change, error)) error {
	roll := s.of.chance.Float64()
	if roll < s.of.Faults/2 {
		s.of.out.Thrown++
		panic(errThrown)
	}
	err := s.Step.Commit(ctx, done)
	if err == nil {
		s.of.check()
	}
	if err == nil && roll < s.of.Faults {
		s.of.out.Thrown++
		panic(errThrown)
	}
	return err
}

// Journal passes the mirror's on.
func (s *shakenStep) Journal() json.RawMessage { return s.Step.Journal() }
