package ledger

import (
	"errors"
	"os"
	"path/filepath"
	"time"

	"pravet/internal/core/day"
)

// Options say how a ledger is opened.
type Options struct {
	By string // who acts
	// Environment is the one that is on record, "" for the usual one; each has a ledger of its
	// own, so that what is decided and seen in one counts in no other.
	Environment string
	// Zone is where the organization is.
	Zone day.Zone
	Now  func() time.Time // for the entries' times
	// Server keeps the record where it is not nil, instead of a file of the repository.
	Server *Server
	// Heads is a folder outside the repository where the newest entry is noted
	// after each Append, so that a ledger that was cut off is noticed; "" for
	// none.
	Heads string
}

// folder is where the ledger of an environment is.
func (o Options) folder(dir string) string {
	if o.Environment == "" {
		return filepath.Join(dir, Folder)
	}
	return filepath.Join(dir, Folder, "environments", o.Environment)
}

// Open opens the ledger of a repository to be written to, making the file when it is not there.
// A *Moved error says that the record is kept elsewhere.
func Open(dir string, opt Options) (Ledger, error) {
	folder, err := opt.make(dir)
	if err != nil {
		return nil, err
	}
	if opt.Server != nil {
		return openServer(folder, opt, true)
	}
	l, err := openFile(folder, opt)
	if err != nil {
		return nil, err
	}
	return l, nil
}

// OpenReading opens a ledger that is there for reading alone; nil when there is none.
func OpenReading(dir string, opt Options) (Ledger, error) {
	if opt.Server != nil {
		return openServer(opt.folder(dir), opt, false)
	}
	l, err := readFile(opt.folder(dir), opt)
	if err != nil || l == nil {
		return nil, err
	}
	return l, nil
}

// make makes the folder of a ledger, which nobody else may look into.
func (o *Options) make(dir string) (folder string, err error) {
	if err := private(filepath.Join(dir, Folder)); err != nil {
		return "", failed(filepath.Join(dir, Folder), err)
	}
	folder = o.folder(dir)
	if o.Environment != "" {
		if err := private(filepath.Dir(folder)); err != nil {
			return "", failed(folder, err)
		}
	}
	if err := private(folder); err != nil {
		return "", failed(folder, err)
	}
	return folder, nil
}

// Copy copies a ledger to a folder, as it is now, to be tried something with. The copy is
// opened like any other.
func Copy(l Ledger, dir string) error {
	folder := filepath.Join(dir, Folder)
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return err
	}
	switch l := l.(type) {
	case *sqlite:
		_, err := l.db.Exec("VACUUM INTO ?", filepath.Join(folder, File))
		return err
	case *server:
		to, err := openFile(folder, l.opt)
		if err == nil {
			_, err = transfer(l, to)
			err = errors.Join(err, to.Close())
		}
		return err
	}
	return nil // there is nothing in it
}
