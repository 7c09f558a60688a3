package desk_test

import (
	"context"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"pravet/examples/marrowick"
	"pravet/internal/carry"
	"pravet/internal/core/decide"
	"pravet/internal/core/plan"
	"pravet/internal/desk"
	"pravet/internal/prepare"
	"pravet/internal/prepared"
)

func TestMain(m *testing.M) {
	status := m.Run()
	if err := prepared.Remove(); err != nil {
		panic(err)
	}
	os.Exit(status)
}

// A place is a copy of the repository on its morning, with what its desks open.
type place struct {
	t      *testing.T
	dir    string
	opened map[string]int
	closed []desk.Closed
	days   int // since its morning
	mu     sync.Mutex
}

func newPlace(t *testing.T) *place {
	p := &place{t: t, dir: filepath.Join(t.TempDir(), "access")}
	require.NoError(t, prepared.Bare.Copy(p.dir))
	return p
}

// at works at a desk of its own, and returns how often each file was opened.
func (p *place) at(work func(d *desk.Desk)) map[string]int {
	p.opened = map[string]int{}
	d, err := desk.Open(context.Background(), desk.Place{
		Dir: p.dir, Folder: p.dir, By: "ada", Environ: []string{"HOME=" + filepath.Dir(p.dir)},
		Now: func() time.Time { return marrowick.Today.AddDate(0, 0, p.days) },
		Ear: desk.Ear{
			Log: func(string) {}, Closed: func(x desk.Closed) { p.closed = append(p.closed, x) },
			Counting: func(string, int) {}, Fetched: func([]prepare.Fetched) {},
		},
		Opened: func(file string) {
			p.mu.Lock()
			defer p.mu.Unlock()
			p.opened[file]++
		},
	})
	require.NoError(p.t, err)
	work(d)
	require.NoError(p.t, d.Close())
	return p.opened
}

func (p *place) draft() (drafted *plan.Plan) {
	p.at(func(d *desk.Desk) {
		x, err := d.Draft(desk.Drafting{On: d.Today()})
		require.NoError(p.t, err)
		drafted = x.Plan
	})
	return drafted
}

// Whatever a command asks, the files are read once. Decisions alone are read again, where one is
// made or carried out: somebody may have written them meanwhile; and a file that is edited, for
// its text.
func TestNothingIsReadTwice(t *testing.T) {
	p := newPlace(t)
	drafted := p.draft()
	ask := func(f func(d *desk.Desk) error) func(d *desk.Desk) {
		return func(d *desk.Desk) { require.NoError(t, f(d)) }
	}
	for name, work := range map[string]func(d *desk.Desk){
		"draft": ask(func(d *desk.Desk) error { _, err := d.Dry(desk.Drafting{On: d.Today()}); return err }),
		"check": ask(func(d *desk.Desk) error { _, err := d.Check(d.Today(), true); return err }),
		"show": ask(func(d *desk.Desk) error {
			_, _, err := d.Chosen(drafted, desk.Choice{Only: `department eq "Deck"`})
			return err
		}),
		"list":   ask(func(d *desk.Desk) error { _, err := d.Listed(nil, d.Today(), ""); return err }),
		"report": ask(func(d *desk.Desk) error { _, err := d.Report(desk.Reporting{Idle: "P90D"}); return err }),
		"holders": ask(func(d *desk.Desk) error {
			_, _, err := d.Holders("tickets/role/seller", true, d.Today())
			return err
		}),
		"what if": ask(func(d *desk.Desk) error {
			_, err := d.WhatIf("E0056", []string{"department=Planning"}, d.Today())
			return err
		}),
		"rehearse": ask(func(d *desk.Desk) error { _, err := d.Rehearse(drafted, 0, 1); return err }),
		"accept": ask(func(d *desk.Desk) error {
			x, err := d.Decide(drafted, nil, desk.Choice{Apps: []string{"berths"}}, "agreed")
			if err == nil {
				_, err = x.Accept(nil, false)
			}
			return err
		}),
		"amend": ask(func(d *desk.Desk) error {
			_, repo, err := d.Amend()
			if err == nil {
				_, err = d.People(&desk.Whom{Only: `department eq "Deck"`}, repo)
			}
			return err
		}),
	} {
		opened := p.at(work)
		require.NotEmpty(t, opened, name)
		for _, file := range slices.Sorted(maps.Keys(opened)) {
			if file == "standing.yaml" && (name == "accept" || name == "rehearse") {
				continue
			}
			require.Equal(t, 1, opened[file], "%s reads %s", name, file)
		}
	}
}

// A selection that is carried out takes along what it needs, and no more than somebody wanted.
func TestARunIsOfWhatWasMeant(t *testing.T) {
	p := newPlace(t)
	drafted := p.draft()
	p.at(func(d *desk.Desk) {
		r, err := d.Run(drafted, nil)
		require.NoError(t, err)
		require.False(t, r.Accepted)
		require.NoError(t, r.Mean(`app eq "berths"`))
		for i, state := range r.States {
			if state == decide.Ready {
				require.Equal(t, "berths", drafted.Changes[i].App)
			}
		}
		ready := r.Count(decide.Ready)
		require.Positive(t, ready)
		require.NoError(t, r.Consent("tried with one application"))
		res, err := r.Go(func(carry.Progress) {})
		require.NoError(t, err)
		require.Equal(t, ready, res.Settled)
		require.Equal(t, len(drafted.Changes)-ready, r.Left())
	})
	p.at(func(d *desk.Desk) { // what was consented to is on record, and no more
		list, err := d.Log(desk.Logging{Kind: "decision"})
		require.NoError(t, err)
		require.Len(t, list, 1)
		s, err := d.Select(drafted, desk.Choice{})
		require.NoError(t, err)
		done := 0
		for _, state := range s.States {
			require.NotEqual(t, "accepted", state)
			if state == "done" {
				done++
			}
		}
		require.Positive(t, done)
	})
}

// What was asked wrongly is told apart from what went wrong, with the part of the question.
func TestWhatIsWrongIsTheQuestion(t *testing.T) {
	p := newPlace(t)
	drafted := p.draft()
	for name, x := range map[string]struct {
		field string
		ask   func(d *desk.Desk) error
	}{
		"a filter": {"only", func(d *desk.Desk) error {
			_, _, err := d.Chosen(drafted, desk.Choice{Only: "app eq"})
			return err
		}},
		"a column": {"only", func(d *desk.Desk) error {
			_, _, err := d.Chosen(drafted, desk.Choice{Only: `colour eq "red"`})
			return err
		}},
		"a thing":    {"thing", func(d *desk.Desk) error { _, err := d.Log(desk.Logging{Thing: "seller"}); return err }},
		"a day":      {"since", func(d *desk.Desk) error { _, err := d.Log(desk.Logging{SinceText: "soon"}); return err }},
		"a past day": {"at", func(d *desk.Desk) error { _, err := d.Past(nil, "yesterday"); return err }},
		"a guard": {"lift", func(d *desk.Desk) error {
			y, err := d.Decide(drafted, []string{"1"}, desk.Choice{}, "agreed")
			if err == nil {
				_, err = y.Accept([]string{"seat"}, false)
			}
			return err
		}},
		"a change": {"", func(d *desk.Desk) error {
			_, err := d.Decide(drafted, []string{"zzzz"}, desk.Choice{}, "agreed")
			return err
		}},
	} {
		p.at(func(d *desk.Desk) {
			var wrong *desk.Wrong
			err := x.ask(d)
			require.ErrorAs(t, err, &wrong, name)
			require.Equal(t, x.field, wrong.Field, name)
		})
	}
}

// While somebody carries a plan out, a draft says who, and closes nobody's books.
func TestADraftBesideARun(t *testing.T) {
	p := newPlace(t)
	drafted := p.draft()
	p.at(func(d *desk.Desk) {
		_, err := d.Run(drafted, nil)
		require.NoError(t, err)
		other := &place{t: t, dir: p.dir}
		other.draft()
		require.Len(t, other.closed, 1)
		require.Contains(t, other.closed[0].UnderWay, "apply "+drafted.ID)
	})
}
