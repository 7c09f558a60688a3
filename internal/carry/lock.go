package carry

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/gofrs/flock"

	"pravet/internal/ledger"
)

// A Lock keeps two runs in one repository apart. It ends with the process that
// holds it, however that ends.
type Lock struct{ f *flock.Flock }

// A holder is who holds the lock, as the lock's file tells.
type holder struct {
	PID   int    `json:"pid"`
	By    string `json:"by"`
	Since string `json:"since"`
	What  string `json:"what"`
}

// TakeLock takes the repository's lock, or says who holds it.
func TakeLock(dir, by, what string, now time.Time) (*Lock, error) {
	path := filepath.Join(dir, ledger.Folder, "lock")
	f := flock.New(path)
	ok, err := f.TryLock()
	if err != nil {
		return nil, fmt.Errorf("%s: the lock cannot be taken: %w", path, err)
	}
	if !ok {
		// Whoever has only just taken it may not have said so yet.
		for range 50 {
			var h holder
			if data, err := os.ReadFile(path); err == nil && json.Unmarshal(data, &h) == nil && h.PID != 0 {
				return nil, fmt.Errorf("%s holds the lock of this repository since %s (%s, process %d); wait until it is done", h.By, h.Since, h.What, h.PID)
			}
			time.Sleep(10 * time.Millisecond)
		}
		return nil, fmt.Errorf("another run holds the lock of this repository; wait until it is done")
	}
	data, err := json.Marshal(holder{os.Getpid(), by, now.UTC().Format(time.RFC3339), what})
	if err == nil {
		err = os.WriteFile(path, data, 0o644)
	}
	if err != nil {
		f.Unlock()
		return nil, fmt.Errorf("%s: the lock cannot be written: %w", path, err)
	}
	return &Lock{f}, nil
}

// Release gives the lock back.
func (l *Lock) Release() error {
	return errors.Join(os.Truncate(l.f.Path(), 0), l.f.Unlock())
}
