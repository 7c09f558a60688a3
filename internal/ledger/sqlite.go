package ledger

import (
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"sync/atomic"
	"syscall"
	"time"

	"pravet/internal/core/day"

	driver "modernc.org/sqlite"
)

// Folder is where the ledger lives within a repository.
const Folder = ".pravet"

// File is the ledger's file within Folder.
const File = "ledger.db"

// version is the form of the tables that this program writes. A ledger of an
// older one is brought up to it; one of a newer one is refused.
const version = 2

// sqlite is a Ledger in a SQLite database.
type sqlite struct {
	sound  atomic.Bool // no entry is gone, as was seen before the first was added
	db     *sql.DB
	folder string
	path   string
	opt    Options
	leased *leases
	heads  heads
}

const schema = `
CREATE TABLE IF NOT EXISTS entries (
	seq INTEGER PRIMARY KEY, at TEXT NOT NULL, by TEXT NOT NULL, kind TEXT NOT NULL,
	subject TEXT NOT NULL, body TEXT NOT NULL, prev TEXT NOT NULL, hash TEXT NOT NULL
);
CREATE INDEX IF NOT EXISTS entries_kind ON entries (kind, subject);
CREATE INDEX IF NOT EXISTS entries_subject ON entries (subject);
CREATE TABLE IF NOT EXISTS head (one INTEGER PRIMARY KEY CHECK (one = 1), seq INTEGER NOT NULL, hash TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS about (
	what TEXT NOT NULL, name TEXT NOT NULL, seq INTEGER NOT NULL, PRIMARY KEY (what, name, seq)
) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS kept (
	digest TEXT PRIMARY KEY, base TEXT NOT NULL, depth INTEGER NOT NULL, data BLOB NOT NULL
) WITHOUT ROWID;
`

// openFile opens the ledger in a file, making it when it is not there. Only its owner may read it.
func openFile(folder string, opt Options) (*sqlite, error) {
	path := filepath.Join(folder, File)
	if err := onlyFiles(path); err != nil {
		return nil, err
	}
	// The database's log and index get the permissions of the file itself.
	f, err := os.OpenFile(path, os.O_CREATE|os.O_WRONLY|noFollow, 0o600)
	if err != nil {
		return nil, failed(path, err)
	}
	f.Close()
	for until := time.Now().Add(patience); ; time.Sleep(20 * time.Millisecond) {
		l, err := open(
			folder,
			opt,
			"_pragma=busy_timeout(10000)&_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_txlock=immediate",
		)
		if err != nil {
			return nil, err
		}
		if err = l.make(); err == nil {
			return l, nil
		}
		l.Close()
		// Whoever opens a new ledger first turns to a log beside it; SQLite does not wait for that, whatever it was told.
		if !busy(err) || time.Now().After(until) {
			return nil, failed(l.path, err)
		}
	}
}

// busy reports whether somebody else has the database just now.
func busy(err error) bool {
	var e *driver.Error
	return errors.As(err, &e) && e.Code()&0xff == codeBusy
}

// private makes a folder that nobody else may look into, and closes one that
// others could look into to those who are not of its group.
func private(folder string) error {
	if err := itself(folder); err != nil {
		return err
	}
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return err
	}
	info, err := os.Stat(folder)
	if err == nil && info.Mode().Perm()&0o007 != 0 {
		err = os.Chmod(folder, info.Mode().Perm()&^0o007)
		if errors.Is(err, fs.ErrPermission) {
			err = nil // someone else's
		}
	}
	return err
}

// readFile opens a ledger in a file for reading alone, also on a disk that may not be written; nil when there is none.
func readFile(folder string, opt Options) (*sqlite, error) {
	path := filepath.Join(folder, File)
	if _, err := os.Lstat(path); errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err := onlyFiles(path); err != nil {
		return nil, err
	}
	l, err := open(folder, opt, "mode=ro&_pragma=busy_timeout(10000)")
	if err != nil {
		return nil, err
	}
	if _, err = l.tables(); err == nil {
		return l.known()
	}
	l.Close()
	// Beside a log that is empty or gone, the file alone is the whole ledger.
	if info, statErr := os.Stat(path + "-wal"); statErr == nil && info.Size() > 0 {
		return nil, failed(path, err)
	}
	if l, err = open(folder, opt, "immutable=1"); err != nil {
		return nil, err
	}
	if _, err = l.tables(); err != nil {
		l.Close()
		return nil, failed(path, err)
	}
	return l.known()
}

// itself refuses a link in the place of a folder.
func itself(folder string) error {
	if info, err := os.Lstat(folder); err == nil && info.Mode()&fs.ModeSymlink != 0 {
		return errors.New("this is a link, and the folder itself is expected")
	}
	return nil
}

// onlyFiles refuses a ledger that is no regular file, or beside which something else stands that it would be read
// with: a pipe keeps everybody waiting, and a link leads elsewhere.
func onlyFiles(path string) error {
	if err := itself(filepath.Dir(path)); err != nil {
		return failed(filepath.Dir(path), err)
	}
	for _, name := range []string{path, path + "-wal", path + "-shm", path + "-journal"} {
		if info, err := os.Lstat(name); err == nil && !info.Mode().IsRegular() {
			return failed(name, errors.New("this is a link, a pipe or a device, and a regular file is expected"))
		}
	}
	return nil
}

func open(folder string, opt Options, options string) (*sqlite, error) {
	path := filepath.Join(folder, File)
	db, err := sql.Open("sqlite", "file:"+(&url.URL{Path: path}).EscapedPath()+"?"+options)
	if err != nil {
		return nil, failed(path, err)
	}
	db.SetMaxOpenConns(1)
	return &sqlite{
		db:     db,
		folder: folder,
		path:   path,
		opt:    opt,
		leased: &leases{folder: folder, by: opt.By, now: opt.Now},
		heads:  heads{folder, &opt},
	}, nil
}

// known refuses a ledger that this program cannot read.
func (l *sqlite) known() (*sqlite, error) {
	v, err := l.version()
	if err == nil && v > version {
		err = errNewer
	}
	if err != nil {
		l.Close()
		return nil, failed(l.path, err)
	}
	return l, nil
}

var errNewer = errors.New("it was written by a newer Pravet; use that one")

func (l *sqlite) version() (v int, err error) {
	err = l.db.QueryRow(`PRAGMA user_version`).Scan(&v)
	return v, err
}

// tables counts the ledger's tables.
func (l *sqlite) tables() (n int, err error) {
	err = l.db.QueryRow(`SELECT count(*) FROM sqlite_master WHERE name IN ('entries', 'head', 'about')`).Scan(&n)
	return n, err
}

// make makes the tables of a new ledger, and brings an older one up to date:
// what its entries are about is written down once.
func (l *sqlite) make() error {
	v, err := l.version()
	if err != nil || v == version {
		return err
	}
	if v > version {
		return errNewer
	}
	tx, err := l.db.Begin()
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if err := tx.QueryRow(`PRAGMA user_version`).Scan(&v); err != nil || v == version {
		return err // another process was faster
	}
	if _, err := tx.Exec(schema); err != nil {
		return err
	}
	if v < 1 {
		if err := indexOld(tx); err != nil {
			return err
		}
	}
	if _, err := tx.Exec(fmt.Sprintf(`PRAGMA user_version = %d`, version)); err != nil {
		return err
	}
	return tx.Commit()
}

func failed(path string, err error) error {
	return fmt.Errorf(
		"%s: the ledger cannot be used: %w. Check that the disk has room and may be written, and that the file "+
			"is whole",
		path,
		inWords(err),
	)
}

// Results of SQLite (https://www.sqlite.org/rescode.html) that are told in words.
const (
	codeBusy   = 5
	codeIO     = 10
	codeFull   = 13
	codeShared = 4874 // no room for what its processes share
)

// inWords is an error of the database in words.
func inWords(err error) error {
	var e *driver.Error
	switch {
	case errors.Is(err, syscall.ENOSPC), errors.Is(err, syscall.EDQUOT):
		return errFull
	case !errors.As(err, &e):
		return err
	case e.Code() == codeFull, e.Code() == codeShared:
		return errFull
	case e.Code()&0xff == codeIO:
		return errIO
	}
	return err
}

var (
	errFull = errors.New("the disk is full")
	errIO   = errors.New("the disk could not be read or written (an input/output error)")
)

// Close closes the ledger.
func (l *sqlite) Close() error { return l.db.Close() }

// Append adds entries, all or none.
func (l *sqlite) Append(records ...Record) error {
	if len(records) == 0 {
		return nil
	}
	return l.append(func(*sql.Tx) ([]Record, error) { return records, nil })
}

// Begin records the beginning of a run under a new name.
func (l *sqlite) Begin(run Run) (string, error) {
	err := l.append(func(tx *sql.Tx) ([]Record, error) {
		var newest string // runs are numbered; the newest has the highest number
		err := tx.QueryRow(`SELECT subject FROM entries WHERE kind = ? ORDER BY seq DESC LIMIT 1`, RunStarted).Scan(&newest)
		if err != nil && !errors.Is(err, sql.ErrNoRows) {
			return nil, err
		}
		if run.Run, err = nextRun(newest); err != nil {
			return nil, err
		}
		return []Record{{Kind: RunStarted, Subject: run.Run, Body: run}}, nil
	})
	return run.Run, err
}

// append adds entries, unless entries that were there before are gone: nothing is put on top of a
// record that was rolled back.
func (l *sqlite) append(what func(*sql.Tx) ([]Record, error)) error {
	if !l.sound.Load() {
		if err := l.Cut(); err != nil {
			return err
		}
		l.sound.Store(true)
	}
	return l.put(what)
}

// Trust records that it is right that entries are gone; from then on the ledger may be written again.
func (l *sqlite) Trust(d Decision) error {
	said := Record{Kind: Decided, Body: d}
	return l.put(func(*sql.Tx) ([]Record, error) { return []Record{said}, nil })
}

func (l *sqlite) put(what func(*sql.Tx) ([]Record, error)) error {
	head, err := l.write(what)
	var gone *Gone
	if errors.As(err, &gone) || errors.Is(err, ErrOvertaken) {
		return err
	}
	if err != nil {
		return failed(l.path, err)
	}
	l.heads.note(head)
	return nil
}

func (l *sqlite) write(what func(*sql.Tx) ([]Record, error)) (Head, error) {
	tx, err := l.db.Begin()
	if err != nil {
		return Head{}, err
	}
	defer tx.Rollback()
	records, err := what(tx)
	if err != nil {
		return Head{}, err
	}
	var head Head
	err = tx.QueryRow(`SELECT seq, hash FROM head`).Scan(&head.Seq, &head.Hash)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return Head{}, err
	}
	var moved movedTo
	err = tx.QueryRow(`SELECT body FROM entries WHERE seq = ? AND kind = ?`, head.Seq, MovedTo).Scan((*string)(&moved))
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return Head{}, err
	}
	if err := moved.elsewhere(l.path, InFile); err != nil {
		return Head{}, err
	}
	entries, rows, err := l.opt.chain(head, records)
	if err != nil {
		return Head{}, err
	}
	if err := insertAll(tx, entries); err != nil {
		return Head{}, err
	}
	if err := indexAll(tx, rows); err != nil {
		return Head{}, err
	}
	head = Head{entries[len(entries)-1].Seq, entries[len(entries)-1].Hash}
	if err := setHead(tx, head); err != nil {
		return Head{}, err
	}
	return head, tx.Commit()
}

// insertAll inserts entries as they are.
func insertAll(tx *sql.Tx, entries []Entry) error {
	insert, err := tx.Prepare(
		`INSERT INTO entries (seq, at, by, kind, subject, body, prev, hash) VALUES (?, ?, ?, ?, ?, ?, ?, ?)`,
	)
	if err != nil {
		return err
	}
	defer insert.Close()
	for i := range entries {
		e := &entries[i]
		if _, err := insert.Exec(e.Seq, e.At, e.By, e.Kind, e.Subject, string(e.Body), e.Prev, e.Hash); err != nil {
			return err
		}
	}
	return nil
}

// setHead notes the newest entry.
func setHead(tx *sql.Tx, head Head) error {
	_, err := tx.Exec(
		`INSERT INTO head (one, seq, hash) VALUES (1, ?, ?)
		ON CONFLICT (one) DO UPDATE SET seq = excluded.seq, hash = excluded.hash`,
		head.Seq, head.Hash,
	)
	return err
}

// Zone is where the organization is.
func (l *sqlite) Zone() day.Zone { return l.opt.Zone }

// Shared: the ledger is this machine's.
func (l *sqlite) Shared() bool { return false }
