package carry

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"pravet/examples/marrowick"
	"pravet/internal/connect"
	"pravet/internal/core/day"
	"pravet/internal/core/decide"
	"pravet/internal/core/plan"
	"pravet/internal/ledger"
	"pravet/internal/prepare"
	"pravet/internal/source"
)

var ctx = context.Background()

// A stage is the example with its plan drafted.
type stage struct {
	dir    string
	ledger ledger.Ledger
	plan   *plan.Plan
	today  day.Day
	// wrap, where it is not nil, puts something between carry and an application.
	wrap func(connect.Application) connect.Application
}

func newStage(t *testing.T) *stage {
	s := &stage{dir: t.TempDir()}
	require.NoError(t, marrowick.Write(s.dir, false))
	var err error
	s.today, err = day.Parse("2026-11-24")
	require.NoError(t, err)
	s.ledger, err = ledger.Open(s.dir, ledger.Options{By: "Farah", Now: func() time.Time { return s.today.Time() }})
	require.NoError(t, err)
	t.Cleanup(func() { s.ledger.Close() })
	p, err := prepare.Draft(s.read(t), s.ledger, s.today, s.today, nil)
	require.NoError(t, err)
	data, err := p.Seal()
	require.NoError(t, err)
	s.plan, err = plan.Read(data.Bytes())
	require.NoError(t, err)
	return s
}

func (s *stage) rules(t *testing.T) *prepare.State {
	files, err := filepath.Glob(filepath.Join(s.dir, "exports", "*"))
	require.NoError(t, err)
	for _, f := range files { // the stage has a day of its own
		require.NoError(t, os.Chtimes(f, s.today.Time(), s.today.Time()))
	}
	tree, err := source.OpenTree(s.dir, nil)
	require.NoError(t, err)
	t.Cleanup(func() { tree.Close() })
	state := prepare.Rules(ctx, tree)
	if s.wrap != nil {
		for a := range state.Reached {
			state.Reached[a] = s.wrap(state.Reached[a])
		}
	}
	return state
}

func (s *stage) read(t *testing.T) *prepare.State {
	state := s.rules(t)
	require.NoError(t, state.Read(ctx, nil))
	return state
}

func (s *stage) job(t *testing.T) *Job {
	j, err := New(ctx, s.read(t), s.plan, s.ledger, s.today)
	require.NoError(t, err)
	require.NoError(t, j.Whole(ctx))
	return j
}

func silent(Progress) {}

func (s *stage) decide(t *testing.T, verdict string, ids ...string) {
	require.NoError(
		t,
		s.ledger.Append(ledger.Record{
			Kind:    ledger.Decided,
			Subject: s.plan.ID,
			Body:    ledger.Decision{Plan: s.plan.ID, Verdict: verdict, Changes: ids, Because: "test"},
		}),
	)
}

// A between stands between carry and an application, and lets things happen.
type between struct {
	connect.Application
	prepared func()                   // a step was made ready
	commit   func(connect.Step) error // instead of committing it
	fails    func(*plan.Change) bool  // the application says yes and does nothing
	steps    *[][]*plan.Change        // what was carried out, step by step
	down     *bool                    // it cannot be read
}

func (b *between) Read(ctx context.Context) (*connect.State, error) {
	if b.down != nil && *b.down {
		return nil, errors.New("it is down")
	}
	return b.Application.Read(ctx)
}

func (b *between) Prepare(ctx context.Context, mark string, changes []*plan.Change) (connect.Step, error) {
	done := changes
	if b.fails != nil {
		done = slices.DeleteFunc(slices.Clone(changes), b.fails)
	}
	s, err := b.Application.Prepare(ctx, mark, done)
	if err == nil && b.prepared != nil {
		b.prepared()
	}
	return &betweenStep{s, b, changes}, err
}

type betweenStep struct {
	connect.Step
	b       *between
	changes []*plan.Change
}

func (s *betweenStep) Commit(ctx context.Context, done func(*plan.Change, error)) error {
	if s.b.commit != nil {
		return s.b.commit(s.Step)
	}
	if s.b.steps != nil {
		*s.b.steps = append(*s.b.steps, s.changes)
	}
	return s.Step.Commit(ctx, done)
}

// TestStepsFollowNeedsWhateverFails carries the example's plan out while a third
// of all changes fail, in many ways: nothing runs before or without what it
// needs, everything is on record, and a run without failures then does the rest.
func TestStepsFollowNeedsWhateverFails(t *testing.T) {
	for seed := range 12 {
		s := newStage(t)
		var steps [][]*plan.Change
		fails := func(c *plan.Change) bool { return seed > 0 && (int(c.ID[0])+int(c.ID[1])*3+seed)%3 == 0 }
		s.wrap = func(a connect.Application) connect.Application {
			return &between{Application: a, steps: &steps, fails: fails}
		}
		res, err := s.job(t).Run(ctx, silent)
		require.NoError(t, err)
		settled := map[string]bool{}
		for _, step := range steps {
			for _, c := range step {
				for _, need := range c.Needs {
					require.True(t, settled[need], "%s runs before or without %s", c.ID, need)
				}
			}
			for _, c := range step {
				settled[c.ID] = !fails(c)
			}
		}
		require.Equal(t, seed > 0, res.NotSettled > 0)
		s.wrap = nil
		again, err := s.job(t).Run(ctx, silent)
		require.NoError(t, err)
		require.Zero(t, again.NotSettled)
		require.Equal(t, 29, res.Settled+again.Settled)
		require.Zero(t, s.job(t).Count(decide.Ready))
	}
}

// TestWhatIsRejectedOnTheWayIsNotCarriedOut: a decision counts from the next step
// on, also when it comes while a step is made ready, and what needs it is left.
func TestWhatIsRejectedOnTheWayIsNotCarriedOut(t *testing.T) {
	s := newStage(t)
	j := s.job(t)
	rejected := ""
	for i := range s.plan.Changes {
		if c := &s.plan.Changes[i]; j.States[i] == decide.Ready && c.App == "berths" {
			rejected = c.ID
		}
	}
	steps, once := [][]*plan.Change{}, false
	s.wrap = func(a connect.Application) connect.Application {
		return &between{Application: a, steps: &steps, prepared: func() {
			if !once && len(steps) > 0 {
				once = true
				s.decide(t, "reject", rejected)
			}
		}}
	}
	res, err := s.job(t).Run(ctx, silent)
	require.NoError(t, err)
	require.True(t, once)
	for _, step := range steps {
		for _, c := range step {
			require.NotEqual(t, rejected, c.ID)
			require.NotContains(t, c.Needs, rejected)
		}
	}
	require.Positive(t, res.Left)
	require.Zero(t, res.NotSettled)
}

// TestAnInterruptedRunEndsBetweenSteps, says so, and is continued by the next.
func TestAnInterruptedRunEndsBetweenSteps(t *testing.T) {
	s := newStage(t)
	ending, end := context.WithCancel(ctx)
	steps := [][]*plan.Change{}
	s.wrap = func(a connect.Application) connect.Application {
		return &between{Application: a, steps: &steps, prepared: func() {
			if len(steps) == 1 {
				end()
			}
		}}
	}
	res, err := s.job(t).Run(ending, silent)
	require.ErrorIs(t, err, errStopped)
	require.Len(t, steps, 1, "the step that was made ready is given up")
	require.Equal(t, len(steps[0]), res.Settled)
	left, err := filepath.Glob(filepath.Join(s.dir, "exports", ".*"))
	require.NoError(t, err)
	require.Empty(t, left)
	s.wrap = nil
	again, err := s.job(t).Run(ctx, silent)
	require.NoError(t, err)
	require.Equal(t, 29, res.Settled+again.Settled)
}

var errPower = errors.New("the power went")

// load finds the one plan of a stage.
func (s *stage) load(id string) (*plan.Plan, error) {
	if id != s.plan.ID {
		return nil, fmt.Errorf("there is no plan %s", id)
	}
	return s.plan, nil
}

// cut leaves a run as if the process had been killed at its first step: on
// record, and what the power allows of it done.
func (s *stage) cut(t *testing.T, power func(connect.Step) error) {
	run, err := s.ledger.Begin(ledger.Run{Plan: s.plan.ID})
	require.NoError(t, err)
	s.wrap = func(a connect.Application) connect.Application { return &between{Application: a, commit: power} }
	j := s.job(t)
	step, none := j.next(map[string]plan.Hold{})
	require.False(t, none)
	_, err = j.step(ctx, newResult(run, j.Plan.ID), step, map[string]plan.Hold{}, silent)
	require.ErrorIs(t, err, errPower)
	s.wrap = nil
}

// TestAStepThatWasNotTakenIsGivenUp: it is on record that it was about to be
// taken, and what becomes of it is decided anew.
func TestAStepThatWasNotTakenIsGivenUp(t *testing.T) {
	s := newStage(t)
	s.cut(t, func(connect.Step) error { return errPower })
	runs, held, err := Settle(ctx, s.rules(t), s.ledger, s.load, nobody)
	require.Empty(t, held)
	require.NoError(t, err)
	require.Len(t, runs, 1)
	require.Zero(t, runs[0].Settled)
	require.Positive(t, runs[0].NotSettled)
	j := s.job(t)
	first := slices.Index(j.States, decide.Ready)
	s.decide(t, "reject", s.plan.Changes[first].ID)
	res, err := j.Run(ctx, silent)
	require.NoError(t, err)
	require.Less(t, res.Settled, 29, "what was rejected since is not carried out")
	runs, held, err = Settle(ctx, s.rules(t), s.ledger, s.load, nobody)
	require.Empty(t, held)
	require.NoError(t, err)
	require.Empty(t, runs, "the books are closed")
}

// TestAStepThatWasTakenIsReadBack, whoever comes next and whatever was decided
// since.
func TestAStepThatWasTakenIsReadBack(t *testing.T) {
	s := newStage(t)
	s.cut(t, func(step connect.Step) error {
		return errors.Join(step.Commit(context.Background(), func(*plan.Change, error) {}), errPower)
	})
	runs, held, err := Settle(ctx, s.rules(t), s.ledger, s.load, nobody)
	require.Empty(t, held)
	require.NoError(t, err)
	require.Len(t, runs, 1)
	require.Positive(t, runs[0].Settled)
	require.Zero(t, runs[0].NotSettled)
	res, err := s.job(t).Run(ctx, silent)
	require.NoError(t, err)
	require.Equal(t, 29, runs[0].Settled+res.Settled)
}

// TestWhatCouldNotBeReadBackIsReadBackLater: the application was changed, and then it could not be
// reached.
func TestWhatCouldNotBeReadBackIsReadBackLater(t *testing.T) {
	s := newStage(t)
	down := false
	s.wrap = func(a connect.Application) connect.Application {
		return &between{Application: a, down: &down, commit: func(step connect.Step) error {
			down = true
			return step.Commit(context.Background(), func(*plan.Change, error) {})
		}}
	}
	res, err := s.job(t).Run(ctx, silent)
	require.ErrorContains(t, err, "the changes were written and cannot be read back")
	require.NotEmpty(t, res.Written)
	require.Zero(t, res.Settled)
	s.wrap = nil
	runs, held, err := Settle(ctx, s.rules(t), s.ledger, s.load, nobody)
	require.Empty(t, held)
	require.NoError(t, err)
	require.Len(t, runs, 1)
	require.Positive(t, runs[0].Settled)
	again, err := s.job(t).Run(ctx, silent)
	require.NoError(t, err)
	require.Equal(t, 29, runs[0].Settled+again.Settled, "none is lost, and none is done twice")
}

// TestAStepOfTwoFilesIsTakenWhole: one that was cut off between two renames is
// finished, and one whose files someone else has changed since is left to them.
func TestAStepOfTwoFilesIsTakenWhole(t *testing.T) {
	for _, touched := range []bool{false, true} {
		s := newStage(t)
		profiles := filepath.Join(s.dir, "exports", "tickets-profiles.csv")
		before, err := os.ReadFile(profiles)
		require.NoError(t, err)
		// The first file alone is put in place, by hand.
		s.cut(t, func(step connect.Step) error {
			var targets []struct{ Path, Staged string }
			require.NoError(t, json.Unmarshal(step.Journal(), &targets))
			require.Len(t, targets, 2)
			path := filepath.Join(s.dir, targets[0].Path)
			require.NoError(t, os.Rename(filepath.Join(filepath.Dir(path), targets[0].Staged), path))
			return errPower
		})
		if touched {
			require.NoError(t, os.WriteFile(profiles, append(before, "role,theirs,Theirs,,\n"...), 0o644))
		}
		runs, held, err := Settle(ctx, s.rules(t), s.ledger, s.load, nobody)
		require.Empty(t, held)
		require.NoError(t, err)
		require.Len(t, runs, 1)
		left, err := filepath.Glob(filepath.Join(s.dir, "exports", ".*"))
		require.NoError(t, err)
		if touched {
			require.Contains(
				t,
				runs[0].Warnings[0],
				"tickets-profiles.csv was changed by someone else since; put it right by hand",
			)
			continue
		}
		require.Empty(t, left)
		require.Empty(t, runs[0].Warnings)
		require.Zero(t, runs[0].NotSettled)
		res, err := s.job(t).Run(ctx, silent)
		require.NoError(t, err)
		require.Equal(t, 29, runs[0].Settled+res.Settled)
	}
}

// TestDoneIsWhatTheApplicationShows: where an export was put back as it was, what
// had been done is done again.
func TestDoneIsWhatTheApplicationShows(t *testing.T) {
	s := newStage(t)
	file := filepath.Join(s.dir, "exports", "tickets.csv")
	old, err := os.ReadFile(file)
	require.NoError(t, err)
	defs, err := os.ReadFile(filepath.Join(s.dir, "exports", "tickets-profiles.csv"))
	require.NoError(t, err)
	_, err = s.job(t).Run(ctx, silent)
	require.NoError(t, err)
	now, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Zero(t, s.job(t).Count(decide.Ready))
	require.NoError(t, os.WriteFile(file, old, 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(s.dir, "exports", "tickets-profiles.csv"), defs, 0o644))
	_, err = s.job(t).Run(ctx, silent)
	require.NoError(t, err)
	again, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Equal(t, string(now), string(again))
}

// TestAnExportThatSomeoneElseChangedIsOutOfDate, also when this plan has
// changed it before, and in the middle of a run.
func TestAnExportThatSomeoneElseChangedIsOutOfDate(t *testing.T) {
	s := newStage(t)
	file := filepath.Join(s.dir, "exports", "tickets.csv")
	theirs := func() {
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(file, append(data, "x,X,,Open,,,,,\n"...), 0o644))
	}
	steps := [][]*plan.Change{}
	s.wrap = func(a connect.Application) connect.Application {
		return &between{Application: a, steps: &steps, prepared: func() {
			if len(steps) == 1 {
				theirs()
			}
		}}
	}
	res, err := s.job(t).Run(ctx, silent)
	require.ErrorContains(t, err, "was changed by someone else just now")
	require.Positive(t, res.Settled)
	s.wrap = nil
	_, err = New(ctx, s.read(t), s.plan, s.ledger, s.today)
	var moved *OutOfDate
	require.ErrorAs(t, err, &moved)
	require.Equal(t, []string{"the exported state of tickets has changed since"}, moved.Moved)
}

// TestAPlanAges: what is no longer due on the day of the run is left, and named.
func TestAPlanAges(t *testing.T) {
	s := newStage(t)
	fresh := s.job(t)
	require.Zero(t, fresh.Count(decide.NoLongerDue))
	s.today = s.today + 400
	late := s.job(t)
	require.Positive(t, late.Count(decide.NoLongerDue), "contracts have ended since")
	for i := range s.plan.Changes {
		if late.States[i] == decide.NoLongerDue {
			require.NotContains(t, late.due, s.plan.Changes[i].ID)
		}
	}
}

// nobody else changes an application.
func nobody(string) error { return nil }
