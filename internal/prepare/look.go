package prepare

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"pravet/internal/core/access"
	"pravet/internal/core/day"
	"pravet/internal/core/draft"
	"pravet/internal/core/model"
	"pravet/internal/desired"
	"pravet/internal/export"
	"pravet/internal/gitrepo"
	"pravet/internal/ledger"
	"pravet/internal/past"
	"pravet/internal/source"
)

// Look reads the people of a repository and the exports of the named applications that are
// there, all when none is named, for questions about a day. missing tells which exports are
// not there.
func (s *State) Look(
	ctx context.Context, apps []string, today day.Day,
) (v *access.View, missing []error, err error) {
	chosen, err := choose(s.Repo, apps)
	if err != nil {
		return nil, nil, err
	}
	if missing, err = absent(s.Repo, chosen); err != nil {
		return nil, nil, err
	}
	if err := s.read(ctx, chosen); err != nil {
		return nil, nil, err
	}
	return s.View(today), missing, nil
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

// View is what was read, for questions about a day.
func (s *State) View(today day.Day) *access.View {
	accounts := make([]*model.Accounts, len(s.Exports))
	for a, e := range s.Exports {
		if e != nil {
			accounts[a] = e.Accounts
		}
	}
	v := access.Look(
		access.Input{People: s.Repo.People, Apps: s.Repo.Apps, Kits: s.Repo.Kits, Accounts: accounts, Today: today,
			Separations: s.Repo.Separations, Exceptions: s.Repo.Exceptions, Paths: s.Repo.Paths, Outsiders: s.Repo.Outsiders},
	)
	v.Deciding = s.Repo.Deciding()
	return v
}

// Find looks for one person of a repository by id or user name, and reads of all people and
// accounts no more than may be theirs. person is -1 where there is nobody.
func Find(
	ctx context.Context,
	rules *desired.Repo,
	name string,
	today day.Day,
) (s *State, v *access.View, person int, missing []error, err error) {
	repo := rules.Only(name)
	s = newState(repo)
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
			accounts, info, err := export.Find(within, repo.Tree, repo.Exports[a], app, known(repo.People, person, app)...)
			if err == nil {
				s.Exports[a] = &draft.Export{Accounts: accounts, Day: repo.Zone.Day(info.TakenAt), TakenAt: info.TakenAt.UTC().Format(time.RFC3339)}
			}
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return s, nil, -1, nil, err
	}
	if err := s.follow(ctx, chosen); err != nil {
		return s, nil, -1, nil, err
	}
	return s, s.View(today), person, missing, nil
}

// known is by what an account of somebody may be known.
func known(people *model.People, person int, app *model.App) []string {
	out := append(strings.Fields(people.Get(person, "formerly")), people.Get(person, app.MatchPerson()))
	if email := people.Get(person, "email"); email != "" && app.Invites != nil {
		out = append(out, email)
	}
	return out
}

// At reads the desired state of a revision, or with "" that of the working tree, for
// questions about a day; some files of a revision are taken from the working tree. No
// application is looked at. After ErrProblems the State holds the Repo only.
func At(
	ctx context.Context,
	tree *source.Tree,
	revision string,
	today day.Day,
	files ...string,
) (s *State, v *access.View, err error) {
	if s, err = whole(ctx, tree, revision, files...); err != nil {
		return s, nil, err
	}
	return s, s.View(today), nil
}

// whole reads all of the desired state of a revision, or with "" of the working tree;
// some files of a revision are taken from the working tree. After ErrProblems the State
// holds the Repo only.
func whole(ctx context.Context, tree *source.Tree, revision string, files ...string) (*State, error) {
	if revision != "" {
		from, err := os.MkdirTemp("", "pravet-revision-")
		if err != nil {
			return nil, err
		}
		defer os.RemoveAll(from)
		if err := gitrepo.Files(ctx, tree.Dir, revision, from); err != nil {
			return nil, err
		}
		for _, file := range files {
			if err := overlay(tree.Dir, from, file); err != nil {
				return nil, err
			}
		}
		environment := tree.Environment
		if tree, err = source.OpenTree(from, nil); err != nil {
			return nil, err
		}
		tree.Environment = environment
		defer tree.Close()
	}
	repo := desired.Rules(ctx, tree)
	repo.ReadPeople()
	s := newState(repo)
	if repo.Problems.Errors() > 0 {
		return s, ErrProblems
	}
	return s, nil
}

// overlay puts a file of one folder over that of another.
func overlay(from, to, file string) error {
	in, err := os.OpenRoot(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenRoot(to)
	if err != nil {
		return err
	}
	defer out.Close()
	data, err := in.ReadFile(file)
	if err != nil {
		return source.Unreadable(file, err)
	}
	if err := out.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	return out.WriteFile(file, data, 0o600)
}

// A Past is what a past day was answered from.
type Past struct {
	Revision string   // of the files; "" where none of that time is known, and they are as they are now
	Exports  []string // of each application that there was, which export; in words
	Missing  []error  // applications of which no export of that time is kept
}

// On reads how things were at the end of a past day: the files of the plan that was
// drafted last by then, else of the last commit, and what the last exports by then held, of the named
// applications or of all. After ErrProblems the State holds the Repo only.
func On(
	ctx context.Context,
	tree *source.Tree,
	l ledger.Ledger,
	apps []string,
	on day.Day,
) (s *State, v *access.View, p *Past, err error) {
	p = &Past{}
	if p.Revision, err = past.Revision(l, on); err != nil {
		return nil, nil, nil, err
	}
	if p.Revision == "" {
		p.Revision = gitrepo.Before(tree.Dir, l.Zone().End(on))
	}
	if s, err = whole(ctx, tree, p.Revision); err != nil {
		return s, nil, p, err
	}
	chosen, err := choose(s.Repo, apps)
	if err != nil {
		return s, nil, p, err
	}
	for a, app := range s.Repo.Apps {
		if !chosen[a] {
			continue
		}
		found, err := past.At(l, app, on)
		if err != nil {
			return s, nil, p, err
		}
		if found == nil {
			p.Missing = append(p.Missing, fmt.Errorf("%s: no export is kept that was taken by %s", app.ID, on))
			continue
		}
		s.Exports[a] = &draft.Export{
			Accounts: found.Accounts, Day: l.Zone().Day(found.TakenAt), TakenAt: found.TakenAt.UTC().Format(time.RFC3339),
		}
		p.Exports = append(
			p.Exports, fmt.Sprintf("%s as exported on %s", app.ID, l.Zone().Minute(found.TakenAt)),
		)
	}
	return s, s.View(on), p, nil
}
