package ledger

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
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

// Lease makes this process the only one that carries out plans.
func (l *sqlite) Lease(what string) (release func() error, err error) {
	s := l.leased
	f, err := s.try("lock", time.Second) // others may be looking whether it is held
	if err != nil {
		return nil, err
	}
	if f == nil {
		h := s.said()
		if h == nil {
			h = &Holder{}
		}
		return nil, &Leased{h}
	}
	data, err := json.Marshal(Holder{os.Getpid(), s.by, s.now().UTC().Format(time.RFC3339), what})
	if err == nil {
		err = replace(s.holder(), data)
	}
	if err != nil {
		return nil, errors.Join(fmt.Errorf("%s cannot be written: %w", s.holder(), err), f.Unlock())
	}
	return func() error { return errors.Join(os.Remove(s.holder()), f.Unlock()) }, nil
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

// Holder is who has the lease.
func (l *sqlite) Holder() *Holder {
	f, err := l.leased.try("lock", 0)
	if err != nil {
		return nil
	}
	if f != nil {
		f.Unlock()
		return nil
	}
	if h := l.leased.said(); h != nil {
		return h
	}
	return &Holder{}
}

func (s *leases) holder() string { return filepath.Join(s.folder, "holder.json") }

// said is what the holder of the lease says of itself; one that has only just
// taken it may not have said so yet.
func (s *leases) said() *Holder {
	for range 50 {
		var h Holder
		if data, err := source.ReadFile(s.holder(), s.holder(), maxNote); err == nil && json.Unmarshal(data, &h) == nil && h.PID != 0 {
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
func (l *sqlite) Exclusive(f func() error) error {
	lock, err := l.leased.try("writing", patience)
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
