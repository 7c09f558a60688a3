package desk

import (
	"errors"
	"fmt"
	"slices"

	"pravet/internal/core/access"
	"pravet/internal/core/day"
	"pravet/internal/core/draft"
	"pravet/internal/core/model"
	"pravet/internal/core/words"
	"pravet/internal/decisions"
	"pravet/internal/desired"
	"pravet/internal/gitrepo"
	"pravet/internal/prepare"
	"pravet/internal/source"
)

// A Checked is what a check of all files found; Repo.Problems has the problems.
type Checked struct {
	Repo        *desired.Repo
	Matches     []desired.Match
	NoLedger    error  // why the files are compared with the last commit instead of the last run
	NotCompared string // the revision whose files do not pass, so that nothing is compared with them
}

// Check checks all files for a day; with wide it also tells whom only comparisons that may be too
// wide catch.
func (d *Desk) Check(on day.Day, wide bool) (*Checked, error) {
	repo, err := d.Repo()
	if err != nil {
		return nil, err
	}
	repo.ReadPeople()
	x := &Checked{Repo: repo, Matches: repo.Matches(on, wide)}
	if repo.Problems.Errors() > 0 {
		return x, nil
	}
	repo.Clashes(on)
	d.unfitting(on)
	d.deciders(on)
	idle, err := d.idleLingers(repo)
	if err == nil { // else the record cannot be read, which is said elsewhere
		for _, kit := range idle {
			repo.Warn(kit.LingerPos, "idle-linger", SayIdleLinger(kit.Name), "draft once: pravet draft")
		}
	}
	return x, d.warnings(x, on)
}

// deciders refuses rules for deciders that nobody can fulfil, and warns of those that hang on one person.
func (d *Desk) deciders(on day.Day) {
	repo := d.state.Repo
	if s := repo.Signing; s != nil && s.Keys != "" {
		if _, err := s.ReadKeys(d.ctx, d.tree); err != nil {
			repo.Problems.Add(source.NewProblem(model.Pos{File: desired.Root}, "bad-keys", err.Error(), ""))
		}
	}
	for i := range repo.Deciders {
		r := &repo.Deciders[i]
		for _, app := range repo.Apps {
			if r.Owner && !decisions.About(r, app.ID, on) {
				continue
			}
			n, anybody := decisions.Could(repo, r, app, on)
			if anybody {
				break
			}
			who := r.Who(app.ID, r.Count)
			switch {
			case n < r.Count:
				repo.Problems.Add(source.NewProblem(
					r.Pos, "no-deciders", sayNobodyDecides(who, n), "name more people, or ask for fewer",
				))
			case n == r.Count && !r.Owner: // of whom there is one, as a rule
				repo.Warn(r.Pos, "few-deciders", sayHangsOn(who, n), "name more people, for when one is away")
			}
			if !r.Owner {
				break
			}
		}
	}
}

// sayNobodyDecides is a rule that too few people fit.
func sayNobodyDecides(who string, n int) string {
	return fmt.Sprintf("these changes take %s, and %s", who, sayOnlySoMany(n))
}

// sayOnlySoMany is how many people could decide.
func sayOnlySoMany(n int) string {
	switch n {
	case 0:
		return "nobody could decide"
	case 1:
		return "only one person could decide"
	}
	return fmt.Sprintf("only %d people could decide", n)
}

// sayHangsOn is a rule that all must fulfil whom it names.
func sayHangsOn(who string, n int) string {
	return fmt.Sprintf("these changes take %s, and %s: while one is away, nothing is decided", who, sayOnlySoMany(n))
}

// unfitting warns of names of accounts that no account of an export has. An application whose
// export cannot be read is left out: to read exports is for drafts.
func (d *Desk) unfitting(on day.Day) {
	repo := d.state.Repo
	for a, app := range repo.Apps {
		names := draft.NamedAccounts(app, repo.Kept, repo.Paths)
		if len(names)+len(app.ProtectBy)+len(app.AloneBy) == 0 {
			continue
		}
		state, err := d.state.Reached[a].Read(d.ctx)
		if err != nil {
			continue
		}
		for _, u := range draft.Unfitting(app, state.Accounts, app.Select(state.Accounts, on), names) {
			repo.Warn(u.Pos, string(u.Fact.Kind), words.Of(&u.Fact), "correct it, or remove it")
		}
	}
}

// warnings are those about the files as they are: what they imply, and what is sensitive and
// given to more people than at the last run or, before the first, in the last commit.
func (d *Desk) warnings(x *Checked, on day.Day) error {
	repo := x.Repo
	v := access.Look(access.Input{
		People: repo.People, Apps: repo.Apps, Kits: repo.Kits, Accounts: make([]*model.Accounts, len(repo.Apps)),
		Today: on, Separations: repo.Separations, Exceptions: repo.Exceptions,
	})
	list := slices.Concat(v.Implied(), v.Outside(repo.Outsiders))
	base, err := d.carriedOut()
	if err != nil { // the files can be checked all the same
		x.NoLedger = err
		base, _, _ = gitrepo.Revision(d.Dir)
	}
	if err := gitrepo.Unreadable(d.Dir); err != nil {
		repo.Warn(model.Pos{File: ".git"}, "no-revision", err.Error(), "")
	}
	if base != "" && len(gitrepo.Changed(d.Dir, base)) > 0 {
		short := base[:min(10, len(base))]
		_, then, err := prepare.At(d.ctx, d.tree, base, on)
		switch {
		case errors.Is(err, gitrepo.ErrNoRevision):
		case errors.Is(err, prepare.ErrProblems):
			x.NotCompared = short
		case err != nil:
			return err
		default:
			for _, w := range access.Gained(access.Compare(then, v)) {
				w.Fact.Via = short
				list = append(list, w)
			}
		}
	}
	for i := range list {
		f := &list[i].Fact
		repo.Warn(list[i].Pos, string(f.Kind), words.Of(f), words.Remedy(f))
	}
	return nil
}

// carriedOut is the revision whose files were carried out last; where nothing was, the last
// commit, and "" where there is none.
func (d *Desk) carriedOut() (string, error) {
	l, err := d.Book()
	if err != nil {
		return "", err
	}
	base, err := prepare.CarriedOut(l, "")
	if err == nil && base == "" {
		base, _, _ = gitrepo.Revision(d.Dir)
	}
	return base, err
}
