package prepare

import (
	"errors"
	"fmt"
	"os"

	"pravet/internal/core/access"
	"pravet/internal/core/day"
	"pravet/internal/core/draft"
	"pravet/internal/core/model"
	"pravet/internal/desired"
	"pravet/internal/export"
	"pravet/internal/gitrepo"
	"pravet/internal/source"
)

// Look reads the people of a repository of which desired.Rules has read the rest,
// and the exports of the named applications that are there, all when none is
// named, for questions about a day. missing tells which exports are not there.
// After ErrProblems the State holds the Repo only.
func Look(repo *desired.Repo, apps []string, today day.Day) (s *State, v *access.View, missing []error, err error) {
	s = &State{Repo: repo, Exports: make([]*draft.Export, len(repo.Apps))}
	chosen, err := choose(repo, apps)
	if err != nil {
		return s, nil, nil, err
	}
	if missing, err = absent(repo, chosen); err != nil {
		return s, nil, nil, err
	}
	if err := s.read(chosen); err != nil {
		return s, nil, nil, err
	}
	return s, s.view(today), missing, nil
}

// absent takes the applications whose exports are not there out of those that
// were chosen.
func absent(repo *desired.Repo, chosen []bool) (missing []error, err error) {
	for a, spec := range repo.Exports {
		if !chosen[a] || spec == nil {
			continue
		}
		for _, path := range spec.Files() {
			_, err := os.Stat(export.Locate(repo.Dir, path.Text))
			if errors.Is(err, os.ErrNotExist) {
				missing = append(missing, fmt.Errorf("%s: there is no export %s (named in %s), so nothing is known of its accounts", repo.Apps[a].ID, path.Text, path.Pos))
				chosen[a] = false
				break
			}
			if err != nil {
				return nil, source.Unreadable(path.Text, err)
			}
		}
	}
	return missing, nil
}

func (s *State) view(today day.Day) *access.View {
	accounts := make([]*model.Accounts, len(s.Exports))
	for a, e := range s.Exports {
		if e != nil {
			accounts[a] = e.Accounts
		}
	}
	return access.Look(access.Input{People: s.Repo.People, Apps: s.Repo.Apps, Kits: s.Repo.Kits, Accounts: accounts, Today: today,
		Separations: s.Repo.Separations, Exceptions: s.Repo.Exceptions})
}

// Find looks for one person by id or user name, and reads of all people and
// accounts no more than may be theirs. person is -1 where there is nobody.
func Find(dir, name string, today day.Day) (s *State, v *access.View, person int, missing []error, err error) {
	repo := desired.Rules(dir)
	s = &State{Repo: repo, Exports: make([]*draft.Export, len(repo.Apps))}
	repo.FindPeople(name)
	if repo.Problems.Errors() > 0 {
		return s, nil, -1, nil, ErrProblems
	}
	if person = repo.People.Named(name); person < 0 {
		return s, nil, -1, nil, nil
	}
	chosen, _ := choose(repo, nil) // all of them
	if missing, err = absent(repo, chosen); err != nil {
		return s, nil, -1, nil, err
	}
	errs := make([]error, len(repo.Apps))
	sideBySide(len(repo.Apps), func(a int) {
		if !chosen[a] {
			return
		}
		accounts, info, err := export.Find(dir, repo.Exports[a], repo.Apps[a], repo.People.Get(person, repo.Apps[a].MatchPerson()))
		if errs[a] = err; err == nil {
			s.Exports[a] = &draft.Export{Accounts: accounts, Day: day.Of(info.TakenAt.UTC())}
		}
	})
	if err := errors.Join(errs...); err != nil {
		return s, nil, -1, nil, err
	}
	return s, s.view(today), person, missing, nil
}

// At reads the desired state of a revision, or with "" that of the working tree,
// for questions about a day. No application is looked at. After ErrProblems the
// State holds the Repo only.
func At(dir, revision string, today day.Day) (s *State, v *access.View, err error) {
	from := dir
	if revision != "" {
		if from, err = os.MkdirTemp("", "pravet-revision-"); err != nil {
			return nil, nil, err
		}
		defer os.RemoveAll(from)
		if err := gitrepo.Files(dir, revision, from); err != nil {
			return nil, nil, err
		}
	}
	repo := desired.Rules(from)
	repo.ReadPeople()
	s = &State{Repo: repo, Exports: make([]*draft.Export, len(repo.Apps))}
	if repo.Problems.Errors() > 0 {
		return s, nil, ErrProblems
	}
	return s, s.view(today), nil
}
