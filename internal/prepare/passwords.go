package prepare

import (
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"

	"pravet/internal/connect"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/secret"
)

// passwords are the first passwords and new keys of a call. Each is put down for its recipients before the application
// hears of it, beside the one that counts until then (NAME.next1.age, NAME.age), and takes its place once the
// application has taken it. So whatever happens, the one that counts is in a file.
type passwords struct {
	mu   sync.Mutex
	made map[[2]string]*password // application, account
}

type password struct{ text, file string }

// next are names of those of which nobody knows yet whether they count.
var next = regexp.MustCompile(`^(.+)\.next([0-9]+)\.age$`)

// first makes passwords for accounts of an application. That of one account is the same when a request is sent
// again.
func (s *State) first(app string) func(account string) (string, error) {
	return func(account string) (string, error) {
		s.passwords.mu.Lock()
		defer s.passwords.mu.Unlock()
		if p := s.passwords.made[[2]string{app, account}]; p != nil {
			return p.text, nil
		}
		text, err := secret.NewPassword()
		if err != nil {
			return "", err
		}
		s.Secrets.Keep(text)
		p := &password{text: text}
		if err := s.putDown(app, account, p); err != nil {
			return "", fmt.Errorf("the new password could not be put down, so the application was told nothing of it: %w", err)
		}
		if s.passwords.made == nil {
			s.passwords.made = map[[2]string]*password{}
		}
		s.passwords.made[[2]string{app, account}] = p
		return text, nil
	}
}

// putDown writes a password beside the one that counts, for its recipients alone. The folder is none for Git.
func (s *State) putDown(app, account string, p *password) error {
	to, tree := s.Repo.FirstPasswords, s.Repo.Tree
	ignore := to.Folder + "/.gitignore"
	if err := tree.MakeFolder(ignore); err != nil {
		return err
	}
	there, err := tree.Exists(ignore)
	if err == nil && !there {
		err = tree.Write(ignore, 0o600, func(w io.Writer) error { _, err := io.WriteString(w, "*\n"); return err })
	}
	if err != nil {
		return err
	}
	open, err := s.openPasswords(app, account)
	if err != nil {
		return err
	}
	n := 1
	for _, file := range open {
		was, err := strconv.Atoi(next.FindStringSubmatch(path.Base(file))[2])
		if err == nil {
			n = max(n, was+1)
		}
	}
	p.file = fmt.Sprintf("%s.next%d.age", s.passwordOf(app, account), n)
	return tree.Write(p.file, 0o600, func(w io.Writer) error {
		return secret.Seal(w, to.To, secret.First{Application: app, Account: account, Password: p.text})
	})
}

// passwordOf is where the password of an account is, without its ending.
func (s *State) passwordOf(app, account string) string {
	return fmt.Sprintf("%s/%s-%s", s.Repo.FirstPasswords.Folder, app, plan.Name(app, account))
}

// openPasswords are the files of passwords of an account of which nobody knows yet whether they count, the newest
// last.
func (s *State) openPasswords(app, account string) (out []string, err error) {
	entries, err := s.Repo.Tree.Entries(s.Repo.FirstPasswords.Folder)
	number := map[string]int{}
	for _, name := range entries {
		file := s.Repo.FirstPasswords.Folder + "/" + name
		if m := next.FindStringSubmatch(name); m != nil && strings.TrimSuffix(file, name)+m[1] == s.passwordOf(app, account) {
			number[file], err = strconv.Atoi(m[2])
			if err != nil {
				return nil, fmt.Errorf("%s is no name of a password: %w", file, err)
			}
			out = append(out, file)
		}
	}
	slices.SortFunc(out, func(x, y string) int { return number[x] - number[y] })
	return out, err
}

// ComesWithPassword reports whether a change gives an account a password of its own.
func (s *State) ComesWithPassword(a int, c *plan.Change) bool {
	return s.Repo.FirstPasswords != nil &&
		(c.Verb == model.Create && s.Repo.Connects[a].First || renews(c) && (s.Repo.Apps[a].Renews() || s.Repo.Connects[a].First))
}

func renews(c *plan.Change) bool { return c.Verb == model.Update && c.Attribute == model.KeySince }

// SettlePassword leaves of the passwords of a change's account the one that counts, as far as that is known, and says
// what a person must know. came is what the application answered, nil for yes and for what nobody knows any more;
// shown is that it shows the change as done.
func (s *State) SettlePassword(
	ctx context.Context, a int, c *plan.Change, came error, shown bool,
) (says string, err error) {
	app := s.Repo.Apps[a].ID
	open, err := s.openPasswords(app, c.Account)
	if err != nil || len(open) == 0 {
		return "", err
	}
	s.passwords.mu.Lock()
	mine := s.passwords.made[[2]string{app, c.Account}]
	delete(s.passwords.made, [2]string{app, c.Account})
	s.passwords.mu.Unlock()
	file := open[len(open)-1]
	if mine != nil {
		file = mine.file
	}
	var fault *connect.Fault
	known, taken := true, false
	switch {
	case errors.Is(came, connect.ErrNotBegun),
		errors.As(came, &fault) && (fault.Kind == connect.Refused || fault.Kind == connect.Failed):
	case came == nil && shown:
		taken = true
	default:
		if taken, known = s.signsIn(ctx, a, c, mine); !known && shown && fault == nil {
			taken, known = true, true
		}
	}
	settled := s.passwordOf(app, c.Account) + ".age"
	there, err := s.Repo.Tree.Exists(settled)
	if err != nil {
		return "", err
	}
	switch {
	case !known:
		return sayWhichCounts(c.Account, open, settled, there), nil
	case !taken:
		return sayOldCounts(c.Account, settled, there), s.Repo.Tree.Remove(file)
	}
	if err := s.Repo.Tree.Finish(settled, file); err != nil {
		return "", err
	}
	for _, other := range open {
		if other != file {
			err = errors.Join(err, s.Repo.Tree.Remove(other))
		}
	}
	return sayNewCounts(c.Account, settled), err
}

// signsIn tries whether a new key signs its account in, where the application permits that.
func (s *State) signsIn(ctx context.Context, a int, c *plan.Change, p *password) (yes, known bool) {
	signs, ok := s.Reached[a].(connect.Signs)
	if !ok || p == nil || !renews(c) {
		return false, false
	}
	return signs.SignsIn(ctx, c.Account, p.text)
}

// sayWhichCounts is that nobody knows which password counts.
func sayWhichCounts(account string, open []string, settled string, there bool) string {
	if there {
		open = append(open, settled)
	}
	return fmt.Sprintf(
		"which password of %s counts is not known; it is in %s: sign in with each, and keep the one that does as %s",
		account, strings.Join(open, " or "), settled,
	)
}

// sayOldCounts is that a new password was not taken.
func sayOldCounts(account, settled string, there bool) string {
	if !there {
		return fmt.Sprintf("the new password of %s was not taken, and is in no file", account)
	}
	return fmt.Sprintf("the new password of %s was not taken; the one in %s still counts", account, settled)
}

// sayNewCounts is that a new password was taken.
func sayNewCounts(account, settled string) string {
	return fmt.Sprintf("the new password of %s counts, and is in %s", account, settled)
}

// UnsweptPasswords reports whether something lies beside the files of passwords that a process was about to put there.
func (s *State) UnsweptPasswords() (bool, error) {
	names, err := s.unplaced()
	return len(names) > 0, err
}

// SweepPasswords removes what a process that was ended has left beside the files of passwords. The caller has the
// leases of all applications.
func (s *State) SweepPasswords() error {
	names, err := s.unplaced()
	for _, name := range names {
		err = errors.Join(err, s.Repo.Tree.Remove(name))
	}
	return err
}

func (s *State) unplaced() (names []string, err error) {
	if s.Repo.FirstPasswords == nil {
		return nil, nil
	}
	folder := s.Repo.FirstPasswords.Folder
	beside, err := s.Repo.Tree.Unplaced(folder)
	for name, to := range beside {
		if strings.HasSuffix(to, ".age") || to == ".gitignore" {
			names = append(names, folder+"/"+name)
		}
	}
	return names, err
}
