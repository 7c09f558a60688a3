// Package prepare brings together what a plan follows from: it reads the
// desired state and the exports, side by side, and asks the ledger for what
// was decided and seen before.
package prepare

import (
	"context"
	"errors"
	"fmt"
	"runtime"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"pravet/internal/connect"
	"pravet/internal/core/day"
	"pravet/internal/core/decide"
	"pravet/internal/core/draft"
	"pravet/internal/core/entitle"
	"pravet/internal/core/filter"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/core/table"
	"pravet/internal/decisions"
	"pravet/internal/desired"
	"pravet/internal/gitrepo"
	"pravet/internal/ledger"
	"pravet/internal/past"
	"pravet/internal/secret"
	"pravet/internal/source"
)

// A State is a desired state and the exports of some or all applications.
type State struct {
	Repo    *desired.Repo
	Reached []connect.Application // how each application is reached
	Exports []*draft.Export       // nil where not selected

	Secrets *secret.Keeper   // of this call
	Now     func() time.Time // the clock; nil for the machine's
	Log     func(string)     // takes what programs say by which applications are reached; may be nil

	// Settled says what was settled in another environment, and when; nil for nothing.
	Settled func(environment string) (map[string]day.Day, error)

	passwords *passwords

	held   *held                  // likewise of kits that linger
	frozen *files                 // see Freeze
	marks  map[int][]entitle.Mark // of each application, as the last draft of a whole day saw it
}

func newState(repo *desired.Repo) *State {
	s := &State{
		Repo: repo, Secrets: &secret.Keeper{}, passwords: &passwords{}, Exports: make([]*draft.Export, len(repo.Apps)),
	}
	for a := range repo.Apps {
		s.Reached = append(s.Reached, s.connector(a))
	}
	return s
}

// ErrProblems says that the files have problems; State.Repo.Problems lists
// them.
var ErrProblems = errors.New("the files have problems")

// An Unknown is a name that somebody gave of what does not exist.
type Unknown struct{ What, Name, Hint string }

func (e *Unknown) Error() string { return fmt.Sprintf("there is no %s %q; %s", e.What, e.Name, e.Hint) }

// UnknownName is an Unknown with the nearest of the names that are known, or all of
// them.
func UnknownName(what, name string, known []string) error {
	hint := "there are " + strings.Join(known, ", ")
	if near := table.Nearest(name, known); near != "" {
		hint = "did you mean " + near + "?"
	} else if len(known) == 0 {
		hint = "there is none at all"
	}
	return &Unknown{what, name, hint}
}

// Read reads a repository and the exports of the named applications,
// all when none is named. After ErrProblems the State holds the Repo only.
func Read(ctx context.Context, tree *source.Tree, apps []string) (*State, error) {
	s := Rules(ctx, tree)
	return s, s.Read(ctx, apps)
}

// Rules reads everything of a repository but its people and exports.
func Rules(ctx context.Context, tree *source.Tree) *State {
	missing := make(chan []string, 1)
	go func() { missing <- gitrepo.Missing(tree.Dir) }()
	repo := desired.Rules(ctx, tree)
	for _, name := range <-missing {
		repo.Problems.Add(source.NewProblem(model.Pos{File: name}, "missing-file",
			"Git keeps this file, and only a part of the repository is checked out, without it",
			"bring it here: git sparse-checkout disable"))
	}
	return newState(repo)
}

// Of is a State of a repository that was read already, without exports.
func Of(repo *desired.Repo) *State { return newState(repo) }

// Read reads the people and the exports of the named applications, as the function does; what
// was read already is not read again.
func (s *State) Read(ctx context.Context, apps []string) error {
	chosen, err := choose(s.Repo, apps)
	if err != nil {
		return err
	}
	return s.read(ctx, chosen)
}

// Moved says that files changed while they were read, so that what was read is of no one moment.
type Moved struct{ Files []string }

func (e *Moved) Error() string {
	return fmt.Sprintf("the files changed while they were read (%s), so nothing follows from them; wait until whoever "+
		"changes them is done, and say it again", strings.Join(e.Files[:min(3, len(e.Files))], ", "))
}

// choose tells which applications are named; all when none is.
func choose(repo *desired.Repo, apps []string) ([]bool, error) {
	chosen := make([]bool, len(repo.Apps))
	for i := range chosen {
		chosen[i] = len(apps) == 0
	}
	for _, name := range apps {
		a := repo.App(name)
		switch {
		case a < 0 && repo.Problems.Errors() > 0: // its file may be the one that could not be read
			return nil, ErrProblems
		case a < 0:
			return nil, UnknownName("application", name, repo.AppIDs())
		}
		chosen[a] = true
	}
	return chosen, nil
}

func (s *State) read(ctx context.Context, chosen []bool) error {
	repo := s.Repo
	broken := repo.Problems.Errors() > 0
	group, within := errgroup.WithContext(ctx)
	group.SetLimit(2 * runtime.GOMAXPROCS(0)) // so that none is idle at the end
	group.Go(func() error {
		repo.ReadPeople()
		for _, app := range repo.Apps { // made here, no comparison has to wait for it
			repo.People.Clashes(app.MatchPerson())
		}
		return nil
	})
	for a := range repo.Apps {
		if !chosen[a] || broken || s.Exports[a] != nil {
			continue
		}
		group.Go(func() (err error) {
			s.Exports[a], err = s.readExport(within, a)
			return err
		})
	}
	err := group.Wait()
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case repo.Problems.Errors() > 0:
		return ErrProblems
	case err != nil:
		return err
	}
	return s.follow(ctx, chosen)
}

func (s *State) readExport(ctx context.Context, a int) (*draft.Export, error) {
	state, err := s.Reached[a].Read(ctx)
	if err != nil {
		return nil, err
	}
	return exported(state, s.Repo.Zone), nil
}

// over reports whether something that counts until a day has ended before another.
func over(until, last day.Day) bool { return until != day.None && until < last }

// endWhatEnded makes sure that what the files say ended before a day does not count again, where the clock is behind
// that.
func (s *State) endWhatEnded(last day.Day) {
	r := s.Repo
	for i := range r.Kits {
		for _, list := range [][]model.Holder{r.Kits[i].Holders, r.Kits[i].Except} {
			for j := range list {
				list[j].Over = list[j].Over || over(list[j].Until, last)
			}
		}
	}
	r.Exceptions = slices.DeleteFunc(r.Exceptions, func(x model.Exception) bool { return over(x.Until, last) })
	r.Kept = slices.DeleteFunc(r.Kept, func(k model.Kept) bool { return over(k.Until, last) })
	r.Lifts = slices.DeleteFunc(r.Lifts, func(x decide.Lift) bool { return over(x.Until, last) })
}

// exported is an application as it was read, for a draft.
func exported(state *connect.State, zone day.Zone) *draft.Export {
	return &draft.Export{
		Accounts: state.Accounts, Digest: state.Mark, Before: -1,
		TakenAt: state.TakenAt.UTC().Format(time.RFC3339), Day: zone.Day(state.TakenAt), Says: state.Says,
	}
}

// Draft drafts a plan for a day from a State and the ledger; clock is the day on
// which that is done. What lifts takes away holds nothing, as if the files said so.
func Draft(
	s *State,
	l ledger.Ledger,
	today, clock day.Day,
	only *filter.Filter,
	lifts ...decide.Lift,
) (*plan.Plan, error) {
	in, err := s.input(l, today, clock, only, lifts...)
	if err != nil {
		return nil, err
	}
	return draft.Draft(*in)
}

// files is which revision the files are of that were read.
type files struct {
	revision string
	clean    bool
}

// Freeze takes the files for what they were when they were read: they are not looked at again. Days are rehearsed so.
func (s *State) Freeze() (err error) {
	var f files
	if f.revision, f.clean, err = s.revision(); err == nil {
		s.frozen = &f
	}
	return err
}

// revision is which revision the files are of, and makes sure that they are still what was read.
func (s *State) revision() (revision string, clean bool, err error) {
	if s.frozen != nil {
		return s.frozen.revision, s.frozen.clean, nil
	}
	if revision, clean, err = gitrepo.Revision(s.Repo.Dir); err != nil {
		return "", false, err
	}
	if moved := s.Repo.Tree.Moved(gitrepo.Desired); len(moved) > 0 {
		return "", false, &Moved{moved}
	}
	return revision, clean, nil
}

// input is what a draft follows from.
func (s *State) input(
	l ledger.Ledger, today, clock day.Day, only *filter.Filter, lifts ...decide.Lift,
) (*draft.Input, error) {
	revision, clean, err := s.revision()
	if err != nil {
		return nil, err
	}
	rejections, err := decisions.Rejections(l, decisions.Of(s.Repo))
	if err != nil {
		return nil, err
	}
	last, err := ledger.Latest(l, clock)
	if err != nil {
		return nil, err
	}
	if today == clock && last > today {
		rejections = slices.DeleteFunc(rejections, func(r decide.Rejection) bool { return over(r.Until, last) })
		lifts = slices.DeleteFunc(slices.Clone(lifts), func(x decide.Lift) bool { return over(x.Until, last) })
		s.endWhatEnded(last)
	}
	if err := s.keyDays(l); err != nil {
		return nil, err
	}
	in := &draft.Input{
		Organization: s.Repo.Organization, Today: today, Clock: clock, Only: only, PeopleBefore: -1,
		Desired: plan.Desired{
			Environment: s.Repo.Tree.Environment,
			Revision:    revision,
			Clean:       clean,
			Zone:        s.Repo.Timezone,
			Digest:      s.Repo.Digest(),
		},
		People:      s.Repo.People,
		Apps:        s.Repo.Apps,
		Kits:        s.Repo.Kits,
		Separations: s.Repo.Separations,
		Exceptions:  s.Repo.Exceptions,
		Guards:      s.Repo.Guards,
		Exports:     s.Exports, Lifts: slices.Concat(s.Repo.Lifts, lifts), Rejections: rejections,
		Paths: s.Repo.Paths, Kept: s.Repo.Kept, Outsiders: s.Repo.Outsiders,
	}
	if in.Promoted, err = s.promoted(); err != nil {
		return nil, err
	}
	if in.Was, err = past.Lingering(l, s.Repo.Kits, s.Repo.People); err != nil {
		return nil, err
	}
	s.held = nil
	if in.Was != nil && today == clock {
		in.Held = func(ruled entitle.Ruled, keeps []entitle.Lingering) { s.held = &held{in.Was, ruled, keeps} }
	}
	if s.marks = nil; today == clock && only == nil {
		s.marks = map[int][]entitle.Mark{}
		in.Stood = func(a int, marks []entitle.Mark) { s.marks[a] = marks }
	}
	if in.Past, err = Stands(l, s.Repo, func(a int) bool { return s.Exports[a] != nil }); err != nil {
		return nil, err
	}
	for a, e := range s.Exports {
		if e == nil {
			continue
		}
		if e.Before, in.PeopleBefore, err = Measures(l, s.Repo.Apps[a].ID); err != nil {
			return nil, err
		}
		if err := first(l, s.Repo.Apps[a].ID, e, s.Repo.Connects[a].Live); err != nil {
			return nil, err
		}
	}
	return in, nil
}

// promoted is what was settled in the environments that applications are promoted from.
func (s *State) promoted() (map[string]map[string]day.Day, error) {
	out := map[string]map[string]day.Day{}
	for _, app := range s.Repo.Apps {
		if app.Promote == nil || s.Settled == nil || out[app.Promote.From] != nil {
			continue
		}
		settled, err := s.Settled(app.Promote.From)
		if err != nil {
			return nil, err
		}
		out[app.Promote.From] = settled
	}
	return out, nil
}

// first takes for the time of an export that says none itself the first at which
// the ledger has seen the same content: to copy an old file does not make it new. What was fetched is as old as its
// last fetch, whether or not that has found anything new.
func first(l ledger.Ledger, app string, e *draft.Export, live bool) error {
	if e.Says {
		return nil
	}
	var last ledger.Export
	if ok, err := l.Last(ledger.ExportSeen, app, &last); err != nil {
		return err
	} else if at, bad := time.Parse(time.RFC3339, last.TakenAt); ok && live && last.Digest == e.Digest && bad == nil {
		e.Day, e.TakenAt = l.Zone().Day(at), last.TakenAt
		return nil
	}
	return l.Scan(ledger.Query{Kinds: []ledger.Kind{ledger.ExportSeen}, Subject: app}, func(entry *ledger.Entry) error {
		seen, err := ledger.Decode[ledger.Export](entry)
		if err != nil || seen.Digest != e.Digest {
			return err
		}
		at, err := time.Parse(time.RFC3339, seen.TakenAt)
		if err != nil {
			return err
		}
		if d := l.Zone().Day(at); d < e.Day {
			e.Day, e.TakenAt = d, seen.TakenAt
		}
		return ledger.ErrStop
	})
}

// Measures returns how many accounts an application had before, and how many
// people there were, of the latest export and roster that had not shrunk
// suspiciously or that a run went by; -1 where nothing is known.
func Measures(l ledger.Ledger, app string) (accounts, people int, err error) {
	accounts, people = -1, -1
	err = l.Scan(
		ledger.Query{Kinds: []ledger.Kind{ledger.ExportSeen}, Subject: app, Newest: true},
		func(e *ledger.Entry) error {
			seen, err := ledger.Decode[ledger.Export](e)
			if err != nil || seen.Suspect {
				return err
			}
			accounts = seen.Accounts
			return ledger.ErrStop
		},
	)
	if err != nil {
		return 0, 0, err
	}
	err = l.Scan(
		ledger.Query{Kinds: []ledger.Kind{ledger.PlanDrafted, ledger.RunStarted}, Newest: true},
		func(e *ledger.Entry) error {
			if e.Kind == ledger.RunStarted {
				r, err := ledger.Decode[ledger.Run](e)
				if err != nil || r.People == 0 {
					return err
				}
				people = r.People
				return ledger.ErrStop
			}
			p, err := ledger.Decode[ledger.Plan](e)
			if err != nil || p.Suspect {
				return err
			}
			people = p.People
			return ledger.ErrStop
		},
	)
	return accounts, people, err
}

// Problems lists the problems of a State's files, sorted by place.
func (s *State) Problems() []*source.Problem { return s.Repo.Problems.Sorted() }

// Errors lists those of them that must be fixed first.
func (s *State) Errors() []*source.Problem {
	return slices.DeleteFunc(s.Problems(), func(p *source.Problem) bool { return p.Severity != source.Error })
}
