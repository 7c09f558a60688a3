// Package ledger is the record of what happened: exports seen, plans drafted,
// decisions, runs and the outcome of every change. It is a SQLite database
// that is only ever appended to. Each entry carries the SHA-256 of the one
// before it, so that a changed, removed or inserted entry is found (Verify).
//
// Secrets are never recorded; nothing that is recorded comes from one.
package ledger

import (
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	_ "modernc.org/sqlite" // the database driver
)

// Folder is where the ledger lives within a repository.
const Folder = ".pravet"

// File is the ledger's file within Folder.
const File = "ledger.db"

// A Kind is what an entry records.
type Kind string

// The kinds of entries and the bodies they carry.
const (
	ExportSeen  Kind = "export"   // Export; subject: application
	PlanDrafted Kind = "plan"     // Plan; subject: plan
	Decided     Kind = "decision" // Decision; subject: plan
	RunStarted  Kind = "run"      // Run; subject: run
	StepTaken   Kind = "step"     // Step; subject: run
	Outcome     Kind = "outcome"  // ChangeOutcome; subject: run
	RunEnded    Kind = "run-end"  // RunEnd; subject: run
)

// An Entry is one record.
type Entry struct {
	Seq     int64           `json:"seq"`
	At      string          `json:"at"` // RFC 3339, UTC
	By      string          `json:"by"` // who acted
	Kind    Kind            `json:"kind"`
	Subject string          `json:"subject"`
	Body    json.RawMessage `json:"body"`
	Prev    string          `json:"prev"` // hash of the entry before, 64 zeros for the first
	Hash    string          `json:"hash"`
}

var zero = hex.EncodeToString(make([]byte, sha256.Size))

// sum is the hash of an entry: SHA-256 over the hash before it and the entry's
// fields as a JSON list.
func (e *Entry) sum() string {
	fields, err := json.Marshal([]string{e.Prev, fmt.Sprint(e.Seq), e.At, e.By, string(e.Kind), e.Subject, string(e.Body)})
	if err != nil {
		panic(err) // strings always marshal
	}
	s := sha256.Sum256(fields)
	return hex.EncodeToString(s[:])
}

// A Ledger is an open ledger.
type Ledger struct {
	db   *sql.DB
	path string
	by   string
	now  func() time.Time
}

const schema = `
CREATE TABLE IF NOT EXISTS entries (
	seq INTEGER PRIMARY KEY, at TEXT NOT NULL, by TEXT NOT NULL, kind TEXT NOT NULL,
	subject TEXT NOT NULL, body TEXT NOT NULL, prev TEXT NOT NULL, hash TEXT NOT NULL
);
CREATE INDEX IF NOT EXISTS entries_kind ON entries (kind, subject);
CREATE INDEX IF NOT EXISTS entries_subject ON entries (subject);
CREATE TABLE IF NOT EXISTS head (one INTEGER PRIMARY KEY CHECK (one = 1), seq INTEGER NOT NULL, hash TEXT NOT NULL);
`

// Open opens the ledger of a repository, making it when it is not there. by is
// who acts; now is the clock for the entries' times.
func Open(dir, by string, now func() time.Time) (*Ledger, error) {
	folder := filepath.Join(dir, Folder)
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return nil, failed(folder, err)
	}
	l, err := open(filepath.Join(folder, File), "_pragma=busy_timeout(10000)&_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_txlock=immediate")
	if err != nil {
		return nil, err
	}
	l.by, l.now = by, now
	if err := l.make(); err != nil {
		l.Close()
		return nil, failed(l.path, err)
	}
	return l, nil
}

// OpenReading opens a ledger that is there for reading alone, also on a disk
// that may not be written; nil when there is none.
func OpenReading(dir string) (*Ledger, error) {
	path := filepath.Join(dir, Folder, File)
	if _, err := os.Stat(path); errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	l, err := open(path, "mode=ro&_pragma=busy_timeout(10000)")
	if err != nil {
		return nil, err
	}
	if _, err = l.tables(); err == nil {
		return l, nil
	}
	l.Close()
	// Beside a log that is empty or gone, the file alone is the whole ledger.
	if info, statErr := os.Stat(path + "-wal"); statErr == nil && info.Size() > 0 {
		return nil, failed(path, err)
	}
	if l, err = open(path, "immutable=1"); err != nil {
		return nil, err
	}
	if _, err = l.tables(); err != nil {
		l.Close()
		return nil, failed(path, err)
	}
	return l, nil
}

func open(path, options string) (*Ledger, error) {
	db, err := sql.Open("sqlite", "file:"+(&url.URL{Path: path}).EscapedPath()+"?"+options)
	if err != nil {
		return nil, failed(path, err)
	}
	db.SetMaxOpenConns(1)
	return &Ledger{db: db, path: path}, nil
}

// tables counts the ledger's tables.
func (l *Ledger) tables() (n int, err error) {
	err = l.db.QueryRow(`SELECT count(*) FROM sqlite_master WHERE name IN ('entries', 'head')`).Scan(&n)
	return n, err
}

// make makes the tables of a new ledger.
func (l *Ledger) make() error {
	n, err := l.tables()
	if err == nil && n < 2 {
		_, err = l.db.Exec(schema)
	}
	return err
}

func failed(path string, err error) error {
	return fmt.Errorf("%s: the ledger cannot be used: %w; nothing was changed. Check that the disk has room and may be written, and that the file is whole", path, err)
}

// Close closes the ledger.
func (l *Ledger) Close() error { return l.db.Close() }

// A Record is what to append.
type Record struct {
	Kind    Kind
	Subject string
	Body    any
}

// Append adds entries, all or none.
func (l *Ledger) Append(records ...Record) error {
	if len(records) == 0 {
		return nil
	}
	tx, err := l.db.Begin()
	if err != nil {
		return failed(l.path, err)
	}
	defer tx.Rollback()
	e := Entry{Hash: zero}
	err = tx.QueryRow(`SELECT seq, hash FROM head`).Scan(&e.Seq, &e.Hash)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return failed(l.path, err)
	}
	insert, err := tx.Prepare(`INSERT INTO entries (seq, at, by, kind, subject, body, prev, hash) VALUES (?, ?, ?, ?, ?, ?, ?, ?)`)
	if err != nil {
		return failed(l.path, err)
	}
	defer insert.Close()
	at := l.now().UTC().Format(time.RFC3339)
	for _, r := range records {
		body, err := json.Marshal(r.Body)
		if err != nil {
			return err
		}
		e = Entry{Seq: e.Seq + 1, At: at, By: l.by, Kind: r.Kind, Subject: r.Subject, Body: body, Prev: e.Hash}
		e.Hash = e.sum()
		if _, err := insert.Exec(e.Seq, e.At, e.By, e.Kind, e.Subject, string(e.Body), e.Prev, e.Hash); err != nil {
			return failed(l.path, err)
		}
	}
	if _, err := tx.Exec(`INSERT INTO head (one, seq, hash) VALUES (1, ?, ?) ON CONFLICT (one) DO UPDATE SET seq = excluded.seq, hash = excluded.hash`, e.Seq, e.Hash); err != nil {
		return failed(l.path, err)
	}
	if err := tx.Commit(); err != nil {
		return failed(l.path, err)
	}
	return nil
}

// Each calls f for the entries of a subject ("" for any) and of some kinds
// (none for any), in order.
func (l *Ledger) Each(subject string, f func(*Entry) error, kinds ...Kind) error {
	query, where, args := `SELECT seq, at, by, kind, subject, body, prev, hash FROM entries`, []string{}, []any{}
	if subject != "" {
		where, args = append(where, "subject = ?"), append(args, subject)
	}
	if len(kinds) > 0 {
		where = append(where, "kind IN (?"+strings.Repeat(", ?", len(kinds)-1)+")")
		for _, k := range kinds {
			args = append(args, k)
		}
	}
	if len(where) > 0 {
		query += " WHERE " + strings.Join(where, " AND ")
	}
	rows, err := l.db.Query(query+" ORDER BY seq", args...)
	if err != nil {
		return failed(l.path, err)
	}
	defer rows.Close()
	for rows.Next() {
		e, err := scan(rows)
		if err != nil {
			return failed(l.path, err)
		}
		if err := f(e); err != nil {
			return err
		}
	}
	if err := rows.Err(); err != nil {
		return failed(l.path, err)
	}
	return nil
}

func scan(rows *sql.Rows) (*Entry, error) {
	var e Entry
	var body string
	err := rows.Scan(&e.Seq, &e.At, &e.By, &e.Kind, &e.Subject, &body, &e.Prev, &e.Hash)
	e.Body = json.RawMessage(body)
	return &e, err
}

// Last decodes the newest entry of a kind and a subject ("" for any) into
// body; ok is false when there is none.
func (l *Ledger) Last(kind Kind, subject string, body any) (ok bool, err error) {
	var text string
	err = l.db.QueryRow(`SELECT body FROM entries WHERE kind = ?1 AND (?2 = '' OR subject = ?2) ORDER BY seq DESC LIMIT 1`, kind, subject).Scan(&text)
	if errors.Is(err, sql.ErrNoRows) {
		return false, nil
	}
	if err == nil {
		err = json.Unmarshal([]byte(text), body)
	}
	if err != nil {
		return false, failed(l.path, err)
	}
	return true, nil
}

// Count counts the entries of a kind.
func (l *Ledger) Count(kind Kind) (n int, err error) {
	if err = l.db.QueryRow(`SELECT count(*) FROM entries WHERE kind = ?`, kind).Scan(&n); err != nil {
		return 0, failed(l.path, err)
	}
	return n, nil
}

// A Verdict is what Verify found.
type Verdict struct {
	Entries int64
	Head    string // hash of the last entry
	Broken  int64  // the first entry that does not fit, or 0
	Says    string // what is wrong with it
}

// Verify recomputes the whole chain and names the first entry that does not
// fit. It finds every change to an entry, and entries that were taken away or
// put in. Whoever rewrites the whole chain can only be found by the head that
// was noted elsewhere before.
func (l *Ledger) Verify() (*Verdict, error) {
	v := &Verdict{Head: zero}
	stop := errors.New("broken")
	err := l.Each("", func(e *Entry) error {
		switch {
		case e.Seq != v.Entries+1:
			v.Broken, v.Says = v.Entries+1, fmt.Sprintf("entry %d is missing; after entry %d comes entry %d", v.Entries+1, v.Entries, e.Seq)
		case e.Prev != v.Head:
			v.Broken, v.Says = e.Seq, fmt.Sprintf("entry %d does not follow from entry %d", e.Seq, v.Entries)
		case e.sum() != e.Hash:
			v.Broken, v.Says = e.Seq, fmt.Sprintf("entry %d was changed after it was written (%s %s, by %s at %s)", e.Seq, e.Kind, e.Subject, e.By, e.At)
		}
		if v.Broken != 0 {
			return stop
		}
		v.Entries, v.Head = e.Seq, e.Hash
		return nil
	})
	if err != nil && !errors.Is(err, stop) || v.Broken != 0 {
		if errors.Is(err, stop) {
			err = nil
		}
		return v, err
	}
	var seq int64
	var hash string
	err = l.db.QueryRow(`SELECT seq, hash FROM head`).Scan(&seq, &hash)
	if errors.Is(err, sql.ErrNoRows) {
		return v, nil
	}
	if err != nil {
		return v, failed(l.path, err)
	}
	if seq != v.Entries || hash != v.Head {
		v.Broken, v.Says = v.Entries+1, fmt.Sprintf("entry %d is missing: entries were taken away at the end, where %d were written", v.Entries+1, seq)
	}
	return v, nil
}

// Decode reads an entry's body.
func Decode[T any](e *Entry) (T, error) {
	var v T
	if err := json.Unmarshal(e.Body, &v); err != nil {
		return v, fmt.Errorf("entry %d of the ledger cannot be read: %w; check it with: pravet log verify", e.Seq, err)
	}
	return v, nil
}
