package prepare

import (
	"context"
	"fmt"
	"os"
	"runtime"

	"golang.org/x/sync/errgroup"

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
func Look(
	ctx context.Context,
	repo *desired.Repo,
	apps []string,
	today day.Day,
) (s *State, v *access.View, missing []error, err error) {
	s = newState(repo)
	chosen, err := choose(repo, apps)
	if err != nil {
		return s, nil, nil, err
	}
	if missing, err = absent(repo, chosen); err != nil {
		return s, nil, nil, err
	}
	if err := s.read(ctx, chosen); err != nil {
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
			there, err := repo.Tree.Exists(path.Text)
			if err == nil && !there {
				missing = append(
					missing,
					fmt.Errorf(
						"%s: there is no export %s (named in %s), so nothing is known of its accounts",
						repo.Apps[a].ID,
						path.Text,
						path.Pos,
					),
				)
				chosen[a] = false
				break
			}
			if err != nil {
				return nil, err
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
	return access.Look(
		access.Input{People: s.Repo.People, Apps: s.Repo.Apps, Kits: s.Repo.Kits, Accounts: accounts, Today: today,
			Separations: s.Repo.Separations, Exceptions: s.Repo.Exceptions},
	)
}

// Find looks for one person by id or user name, and reads of all people and
// accounts no more than may be theirs. person is -1 where there is nobody.
func Find(
	ctx context.Context,
	tree *source.Tree,
	name string,
	today day.Day,
) (s *State, v *access.View, person int, missing []error, err error) {
	repo := desired.Rules(ctx, tree)
	s = newState(repo)
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
	group, within := errgroup.WithContext(ctx)
	group.SetLimit(2 * runtime.GOMAXPROCS(0))
	for a, app := range repo.Apps {
		if !chosen[a] {
			continue
		}
		group.Go(func() error {
			accounts, info, err := export.Find(
				within,
				tree,
				repo.Exports[a],
				app,
				repo.People.Get(person, app.MatchPerson()),
			)
			if err == nil {
				s.Exports[a] = &draft.Export{Accounts: accounts, Day: day.Of(info.TakenAt.UTC())}
			}
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return s, nil, -1, nil, err
	}
	return s, s.view(today), person, missing, nil
}

// At reads the desired state of a revision, or with "" that of the working tree,
// for questions about a day. No application is looked at. After ErrProblems the
// State holds the Repo only.
func At(ctx context.Context, tree *source.Tree, revision string, today day.Day) (s *State, v *access.View, err error) {
	if revision != "" {
		from, err := os.MkdirTemp("", "pravet-revision-")
		if err != nil {
			return nil, nil, err
		}
		defer os.RemoveAll(from)
		if err := gitrepo.Files(ctx, tree.Dir, revision, from); err != nil {
			return nil, nil, err
		}
		if tree, err = source.OpenTree(from, nil); err != nil {
			return nil, nil, err
		}
		defer tree.Close()
	}
	repo := desired.Rules(ctx, tree)
	repo.ReadPeople()
	s = newState(repo)
	if repo.Problems.Errors() > 0 {
		return s, nil, ErrProblems
	}
	return s, s.view(today), nil
}
