package ledger

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"pravet/internal/source"

	"github.com/gofrs/flock"
)

// leases keep the processes of one machine apart by locks on files, which end
// with the process that holds them, however it ends.
type leases struct {
	folder string
	by     string
	now    func() time.Time
}

// maxNote is how long the small files beside the ledger may be, in bytes.
const maxNote = 1 << 20

// patience is how long a lock is waited for that others hold only for moments.
const patience = 10 * time.Second

// file is a lock's file. It is never written to, and no link is followed, so
// that nothing else can be harmed by it; one that another user left behind can
// be locked as long as it may be read.
func (s *leases) file(name string) *flock.Flock {
	return flock.New(
		filepath.Join(s.folder, name),
		flock.SetFlag(os.O_CREATE|os.O_RDONLY|noFollow),
		flock.SetPermissions(0o600),
	)
}

// try takes a lock, waiting for at most wait.
func (s *leases) try(name string, wait time.Duration) (*flock.Flock, error) {
	f := s.file(name)
	for until := time.Now().Add(wait); ; time.Sleep(10 * time.Millisecond) {
		ok, err := f.TryLock()
		if err != nil {
			return nil, fmt.Errorf(
				"%s: the lock cannot be taken: %w; it must be a file of yours, and can be removed when no Pravet runs",
				f.Path(),
				err,
			)
		}
		if ok {
			return f, nil
		}
		if time.Now().After(until) {
			return nil, nil
		}
	}
}

// fileLease is a lease by locks on files, which the system gives back when a process ends.
type fileLease struct {
	l     *sqlite
	s     *leases
	locks map[string]*flock.Flock // by application
}

func (l *fileLease) Number(string) int64 { return 0 }

func (l *fileLease) Holds(app string) error {
	if l.locks[app] == nil {
		return &Lost{App: app}
	}
	return nil
}

// Append adds entries. A lock lasts as long as the process that has it.
func (l *fileLease) Append(apps []string, unless *Query, records ...Record) error {
	for _, app := range apps {
		if err := l.Holds(app); err != nil {
			return err
		}
	}
	if len(records) == 0 {
		return nil
	}
	return l.l.append(func(tx *sql.Tx) ([]Record, error) {
		if unless != nil {
			seqs, err := find(context.Background(), tx, *unless)
			if err != nil {
				return nil, err
			}
			if len(seqs) > 0 {
				return nil, ErrOvertaken
			}
		}
		return records, nil
	})
}

func (l *fileLease) Release() (err error) {
	for app, lock := range l.locks {
		if gone := os.Remove(l.s.holder(app)); gone != nil && !errors.Is(gone, fs.ErrNotExist) {
			err = errors.Join(err, gone)
		}
		err = errors.Join(err, lock.Unlock())
	}
	l.locks = nil
	return err
}

// lockOf is the lock of an application.
func lockOf(app string) string { return "lock-" + app }

// Lease makes this process the only one that changes some applications. All take them in one order, so that no two
// wait for each other.
func (l *sqlite) Lease(apps []string, what string) (Lease, error) {
	s := l.leased
	out := &fileLease{l, s, map[string]*flock.Flock{}}
	for _, app := range slices.Compact(slices.Sorted(slices.Values(apps))) {
		f, err := s.try(lockOf(app), time.Second) // others may be looking whether it is held
		if err == nil && f == nil {
			h := s.said(app)
			if h == nil {
				h = &Holder{}
			}
			err = &Leased{h}
		}
		if err != nil {
			return nil, errors.Join(err, out.Release())
		}
		out.locks[app] = f
		data, err := json.Marshal(Holder{PID: os.Getpid(), By: s.by, Since: s.now().UTC().Format(time.RFC3339), What: what, App: app})
		if err == nil {
			err = replace(s.holder(app), data)
		}
		if err != nil {
			return nil, errors.Join(fmt.Errorf("%s cannot be written: %w", s.holder(app), err), out.Release())
		}
	}
	return out, nil
}

// Sending makes this process the only one that sends letters.
func (l *sqlite) Sending() (release func() error, err error) {
	f, err := l.leased.try("sending", 0)
	if err == nil && f == nil {
		err = &Leased{&Holder{What: "letters"}}
	}
	if err != nil {
		return nil, err
	}
	return f.Unlock, nil
}

// Holder is who has the lease of one of some applications.
func (l *sqlite) Holder(apps ...string) *Holder {
	if len(apps) == 0 {
		names, err := filepath.Glob(filepath.Join(l.folder, lockOf("*")))
		if err != nil {
			return nil
		}
		for _, name := range names {
			apps = append(apps, strings.TrimPrefix(filepath.Base(name), lockOf("")))
		}
	}
	for _, app := range apps {
		if _, err := os.Lstat(filepath.Join(l.folder, lockOf(app))); err != nil {
			continue // nobody ever had it
		}
		f, err := l.leased.try(lockOf(app), 0)
		if err != nil {
			continue
		}
		if f != nil {
			f.Unlock()
			continue
		}
		if h := l.leased.said(app); h != nil {
			return h
		}
		return &Holder{App: app}
	}
	return nil
}

func (s *leases) holder(app string) string { return filepath.Join(s.folder, "holder-"+app+".json") }

// said is what the holder of a lease says of itself; one that has only just
// taken it may not have said so yet.
func (s *leases) said(app string) *Holder {
	for range 50 {
		var h Holder
		if data, err := source.ReadFile(s.holder(app), s.holder(app), maxNote); err == nil && json.Unmarshal(data, &h) == nil && h.PID != 0 {
			return &h
		}
		time.Sleep(10 * time.Millisecond)
	}
	return nil
}

// replace writes a small file as a whole.
func replace(path string, data []byte) error {
	tmp, err := os.CreateTemp(filepath.Dir(path), ".new-*")
	if err != nil {
		return err
	}
	_, err = tmp.Write(data)
	if err = errors.Join(err, tmp.Close()); err == nil {
		err = os.Rename(tmp.Name(), path)
	}
	if err != nil {
		os.Remove(tmp.Name())
	}
	return err
}

// Exclusive calls f while no other process is within Exclusive.
func (l *sqlite) Exclusive(f func() error) error { return l.leased.exclusive(f) }

// Exclusive calls f while no other process of this machine is within Exclusive: what it writes are this machine's files.
func (l *server) Exclusive(f func() error) error { return l.local.exclusive(f) }

func (s *leases) exclusive(f func() error) error {
	lock, err := s.try("writing", patience)
	if err != nil {
		return err
	}
	if lock == nil {
		return errors.New("another process writes this repository's files and does not end; try again")
	}
	return errors.Join(f(), lock.Unlock())
}

// Alone makes this process the only one that does something to a repository, besides runs: what names it. It waits for
// another one; release is nil where that takes too long.
func Alone(dir, what string, wait time.Duration) (release func() error, err error) {
	folder := filepath.Join(dir, Folder)
	if err := private(folder); err != nil {
		return nil, failed(folder, err)
	}
	f, err := (&leases{folder: folder}).try(what, wait)
	if err != nil || f == nil {
		return nil, err
	}
	return f.Unlock, nil
}
