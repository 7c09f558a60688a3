// Package prepare brings together what a plan follows from: it reads the
// desired state and the exports, side by side, and asks the ledger for what
// was decided and seen before.
package prepare

import (
	"errors"
	"fmt"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"pravet/internal/core/day"
	"pravet/internal/core/draft"
	"pravet/internal/core/filter"
	"pravet/internal/core/plan"
	"pravet/internal/core/table"
	"pravet/internal/desired"
	"pravet/internal/export"
	"pravet/internal/gitrepo"
	"pravet/internal/ledger"
	"pravet/internal/source"
)

// A State is a desired state and the exports of some or all applications.
type State struct {
	Repo    *desired.Repo
	Exports []*draft.Export // nil where not selected
}

// ErrProblems says that the files have problems; State.Repo.Problems lists
// them.
var ErrProblems = errors.New("the files have problems")

// UnknownName is a name of an application that does not exist.
func UnknownName(what, name string, known []string) error {
	hint := "there are " + strings.Join(known, ", ")
	if near := table.Nearest(name, known); near != "" {
		hint = "did you mean " + near + "?"
	}
	return fmt.Errorf("there is no %s %q; %s", what, name, hint)
}

// Read reads the repository in dir and the exports of the named applications,
// all when none is named. After ErrProblems the State holds the Repo only.
func Read(dir string, apps []string) (*State, error) {
	repo := desired.Rules(dir)
	s := &State{Repo: repo, Exports: make([]*draft.Export, len(repo.Apps))}
	chosen, err := choose(repo, apps)
	if err != nil {
		return s, err
	}
	return s, s.read(chosen)
}

// choose tells which applications are named; all when none is.
func choose(repo *desired.Repo, apps []string) ([]bool, error) {
	chosen := make([]bool, len(repo.Apps))
	for i := range chosen {
		chosen[i] = len(apps) == 0
	}
	for _, name := range apps {
		a := repo.App(name)
		if a < 0 {
			return nil, UnknownName("application", name, repo.AppIDs())
		}
		chosen[a] = true
	}
	return chosen, nil
}

func (s *State) read(chosen []bool) error {
	repo := s.Repo
	broken := repo.Problems.Errors() > 0
	errs := make([]error, len(repo.Apps))
	sideBySide(1+len(repo.Apps), func(n int) {
		switch a := n - 1; {
		case n == 0:
			repo.ReadPeople()
			for _, app := range repo.Apps { // made here, no comparison has to wait for it
				repo.People.Clashes(app.MatchPerson())
			}
		case chosen[a] && !broken:
			s.Exports[a], errs[a] = readExport(repo, a)
		}
	})
	if repo.Problems.Errors() > 0 {
		return ErrProblems
	}
	return errors.Join(errs...)
}

// sideBySide calls f with the numbers below n, twice as many at a time as there
// are processors, so that none is idle at the end.
func sideBySide(n int, f func(int)) {
	slots := make(chan struct{}, 2*runtime.GOMAXPROCS(0))
	var wait sync.WaitGroup
	for i := range n {
		slots <- struct{}{}
		wait.Go(func() {
			defer func() { <-slots }()
			f(i)
		})
	}
	wait.Wait()
}

func readExport(repo *desired.Repo, a int) (*draft.Export, error) {
	accounts, info, err := export.Read(repo.Dir, repo.Exports[a], repo.Apps[a])
	if err != nil {
		return nil, err
	}
	return &draft.Export{
		Accounts: accounts, Digest: info.Digest, Before: -1,
		TakenAt: info.TakenAt.UTC().Format(time.RFC3339), Day: day.Of(info.TakenAt.UTC()),
	}, nil
}

// Draft drafts a plan from a State and the ledger.
func Draft(s *State, l *ledger.Ledger, today day.Day, only *filter.Filter) (*plan.Plan, error) {
	revision, clean := gitrepo.Revision(s.Repo.Dir)
	rejections, err := Rejections(l)
	if err != nil {
		return nil, err
	}
	in := draft.Input{
		Organization: s.Repo.Organization, Today: today, Only: only, PeopleBefore: -1,
		Desired: plan.Desired{Revision: revision, Clean: clean, Digest: s.Repo.Digest()},
		People:  s.Repo.People, Apps: s.Repo.Apps, Kits: s.Repo.Kits, Separations: s.Repo.Separations, Exceptions: s.Repo.Exceptions, Guards: s.Repo.Guards,
		Exports: s.Exports, Lifts: s.Repo.Lifts,
		// A standing rejection counts over one of the ledger.
		Rejections: append(rejections, s.Repo.Rejections...),
	}
	for a, e := range s.Exports {
		if e == nil {
			continue
		}
		if e.Before, in.PeopleBefore, err = Measures(l, s.Repo.Apps[a].ID); err != nil {
			return nil, err
		}
	}
	return draft.Draft(in)
}

// Measures returns how many accounts an application had before, and how many
// people there were, of the latest export and roster that had not shrunk
// suspiciously or that a run went by; -1 where nothing is known.
func Measures(l *ledger.Ledger, app string) (accounts, people int, err error) {
	accounts, people = -1, -1
	err = l.Each(app, func(e *ledger.Entry) error {
		seen, err := ledger.Decode[ledger.Export](e)
		if err == nil && !seen.Suspect {
			accounts = seen.Accounts
		}
		return err
	}, ledger.ExportSeen)
	if err != nil {
		return 0, 0, err
	}
	err = l.Each("", func(e *ledger.Entry) error {
		if e.Kind == ledger.RunStarted {
			r, err := ledger.Decode[ledger.Run](e)
			people = r.People
			return err
		}
		p, err := ledger.Decode[ledger.Plan](e)
		if err == nil && !p.Suspect {
			people = p.People
		}
		return err
	}, ledger.PlanDrafted, ledger.RunStarted)
	return accounts, people, err
}

// Problems lists the problems of a State's files, sorted by place.
func (s *State) Problems() []*source.Problem { return s.Repo.Problems.Sorted() }

// Errors lists those of them that must be mended first.
func (s *State) Errors() []*source.Problem {
	return slices.DeleteFunc(s.Problems(), func(p *source.Problem) bool { return p.Severity != source.Error })
}
