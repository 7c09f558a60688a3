package reference

import (
	"context"
	"errors"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"pravet/internal/carry"
	"pravet/internal/connect"
	"pravet/internal/core/plan"
)

// A run carries a plan out, and looks at what the applications show after every
// step.
type run struct {
	*bench
	fails  func(*plan.Change) bool // the application says yes and does nothing
	kill   int                     // the step at which the process is killed, or 0
	before bool                    // killed before the step is taken, or after

	keys  map[string]string // of changes, by id
	steps int
	taken []string // keys of what was carried out
	moved bool     // the plan no longer fits
	bad   string
	last  world
}

// errKilled is thrown where a process is killed.
var errKilled = errors.New("killed")

// A watch stands between a run and an application.
type watch struct {
	connect.Application
	run *run
}

func (x *watch) Prepare(ctx context.Context, mark string, changes []*plan.Change) (connect.Step, error) {
	if x.run.fails != nil {
		changes = slices.DeleteFunc(slices.Clone(changes), x.run.fails)
	}
	s, err := x.Application.Prepare(ctx, mark, changes)
	if err != nil {
		return nil, err
	}
	return &watchedStep{s, x.run, changes}, nil
}

type watchedStep struct {
	connect.Step
	run     *run
	changes []*plan.Change
}

func (s *watchedStep) Commit(ctx context.Context, done func(*plan.Change, error)) error {
	s.run.steps++
	if s.run.steps == s.run.kill && s.run.before {
		panic(errKilled)
	}
	err := s.Step.Commit(ctx, done)
	s.run.look(s.changes)
	if s.run.steps == s.run.kill {
		panic(errKilled)
	}
	return err
}

// look makes sure that a step broke nothing.
func (x *run) look(changes []*plan.Change) {
	app := ""
	for _, c := range changes {
		x.taken, app = append(x.taken, x.keys[c.ID]), c.App
	}
	is := x.last
	is.apps = slices.Clone(x.last.apps)
	is.reread(x.t, x.dir)
	if guard := x.last.broken(&is, app); guard != "" && x.bad == "" {
		x.bad = "  a step breaks " + guard + "\n"
	}
	x.last = is
}

// carryOut carries a plan out.
func (x *run) carryOut(t *testing.T, p *plan.Plan) {
	s := x.state(t)
	x.t, x.last, x.keys = t, *x.world, map[string]string{}
	for i, c := range drafted(p) {
		x.keys[p.Changes[i].ID] = c.key()
	}
	defer x.fresh(t)
	for i := range s.Reached {
		s.Reached[i] = &watch{s.Reached[i], x}
	}
	j, err := carry.New(context.Background(), s, p, x.ledger, x.day)
	var moved *carry.OutOfDate
	if x.moved = errors.As(err, &moved); x.moved {
		return
	}
	require.NoError(t, err)
	require.NoError(t, j.Whole(context.Background()))
	defer func() {
		if is := recover(); is != nil && is != error(errKilled) {
			panic(is)
		}
	}()
	_, err = j.Run(context.Background(), func(carry.Progress) {})
	require.NoError(t, err)
}

// whole carries a plan out and says what differs from what should be done.
func (x *run) whole(t *testing.T, p *plan.Plan, want []*change) string {
	x.carryOut(t, p)
	var keys []string
	for _, c := range want {
		keys = append(keys, c.key())
	}
	slices.Sort(keys)
	return x.bad + differ(keys, slices.Sorted(slices.Values(x.taken)))
}
