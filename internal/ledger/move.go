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

	"github.com/jackc/pgx/v5"
)

// Gone says that a record is kept elsewhere, since its last entry here.
type Gone struct {
	Path  string // of the one that it left
	To    string // the id of the one that it went to
	Where string
}

func (g *Gone) Error() string {
	return fmt.Sprintf(
		"%s: the record was moved to %s, and goes on there; nothing more is added here. Name that under ledger in pravet.yaml, "+
			"or move it back with: pravet ledger move --back", g.Path, g.Where,
	)
}

func (m Moved) gone(path string) error { return &Gone{path, m.To, m.Where} }

// movedTo is the body of a newest entry that is a move; "" of any other.
type movedTo string

// elsewhere is an error where a record has moved to another place than the one with this id.
func (m movedTo) elsewhere(path, id string) error {
	if m == "" {
		return nil
	}
	var moved Moved
	if err := json.Unmarshal([]byte(m), &moved); err != nil || moved.To == id {
		return err
	}
	return moved.gone(path)
}

// gone is an error where the record is kept elsewhere by now.
func (l *sqlite) gone() error {
	var moved movedTo
	err := l.db.QueryRow(`SELECT body FROM entries WHERE seq = (SELECT max(seq) FROM entries) AND kind = ?`, MovedTo).
		Scan((*string)(&moved))
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return failed(l.path, err)
	}
	return moved.elsewhere(l.path, InFile)
}

// left makes sure that a repository whose record is in a database has none of its own beside it.
func (l *server) left(folder string) error {
	file, err := readFile(folder, l.opt)
	if err != nil || file == nil {
		return err
	}
	head, err := file.Head()
	if err == nil && head.Seq > 0 {
		var gone *Gone
		if err = file.gone(); errors.As(err, &gone) {
			err = nil
		} else if err == nil {
			err = fmt.Errorf(
				"%s: this ledger has %d entries of its own, and pravet.yaml says that the record is in %s; move it there with: "+
					"pravet ledger move", file.path, head.Seq, l.path,
			)
		}
	}
	return errors.Join(err, file.Close())
}

// A Move is a record that was moved.
type Move struct {
	From, To string // in words
	Head     Head   // the last entry that was moved
	Kept     int    // how many states of exports went along
}

// MoveIn moves the record of a repository from its file into the database that its files name. The file says so in its
// last entry, first of all: whoever is cut off calls MoveIn again.
func MoveIn(dir string, opt Options) (*Move, error) {
	folder, err := opt.make(dir)
	if err != nil {
		return nil, err
	}
	if _, err := os.Lstat(filepath.Join(folder, File)); errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%s is not there, so there is nothing to move", filepath.Join(folder, File))
	}
	from, err := openFile(folder, opt)
	if err != nil {
		return nil, err
	}
	defer from.Close()
	to, err := connectServer(folder, opt, true)
	if err != nil {
		return nil, err
	}
	defer to.Close()
	return move(from, to, Moved{To: to.id, Where: to.path})
}

// MoveBack moves the record of a repository from the database that its files name into its file.
func MoveBack(dir string, opt Options) (*Move, error) {
	folder, err := opt.make(dir)
	if err != nil {
		return nil, err
	}
	from, err := connectServer(folder, opt, true)
	if err != nil {
		return nil, err
	}
	defer from.Close()
	to, err := openFile(folder, opt)
	if err != nil {
		return nil, err
	}
	defer to.Close()
	return move(from, to, Moved{To: InFile, Where: to.path})
}

// a store is a ledger that can be copied as it is.
type store interface {
	Ledger
	// dump calls f with what a ledger holds after an entry, as one moment has it.
	dump(after int64, f loader) error
	// load calls f with a place for all that is to be in the ledger, all or nothing.
	load(f func(loader) error) error
	called() string
}

// A loader takes the parts of a ledger in.
type loader struct {
	entries func([]Entry) error
	about   func([]aboutRow) error
	kept    func(Kept) error
}

// move ends one ledger and goes on with another.
func move(from, to store, m Moved) (*Move, error) {
	v, err := from.Verify()
	if err != nil {
		return nil, err
	}
	if v.Broken != 0 {
		return nil, fmt.Errorf("%s: the ledger is not whole: %s; nothing was moved", from.called(), v.Says)
	}
	if err := prefix(from, to); err != nil {
		return nil, err
	}
	err = from.Append(Record{Kind: MovedTo, Body: m})
	var gone *Gone
	if errors.As(err, &gone) && gone.To == m.To { // and was cut off after that
		err = nil
	}
	if err != nil {
		return nil, err
	}
	kept, err := transfer(from, to)
	if err != nil {
		return nil, err
	}
	head, err := to.Head()
	if err != nil {
		return nil, err
	}
	return &Move{from.called(), to.called(), head, kept}, nil
}

// prefix makes sure that one ledger has nothing that the other has not.
func prefix(from, to store) error {
	head, err := to.Head()
	if err != nil || head.Seq == 0 {
		return err
	}
	hash, err := from.At(head.Seq)
	if err == nil && hash != head.Hash {
		err = fmt.Errorf(
			"%s has %d entries that are not those of %s: two records cannot become one. Keep one of them, and put the other away",
			to.called(), head.Seq, from.called(),
		)
	}
	return err
}

// transfer copies what one ledger has and the other has not. Each entry is proved on its way, and the two end alike.
func transfer(from, to store) (kept int, err error) {
	if err := prefix(from, to); err != nil {
		return 0, err
	}
	head, err := to.Head()
	if err != nil {
		return 0, err
	}
	last := head
	if last.Seq == 0 {
		last.Hash = zero
	}
	err = to.load(func(into loader) error {
		proved := loader{
			entries: func(entries []Entry) error {
				for i := range entries {
					e := &entries[i]
					if e.Seq != last.Seq+1 || e.Prev != last.Hash || e.sum() != e.Hash {
						return fmt.Errorf("%s: entry %d does not follow from entry %d", from.called(), e.Seq, last.Seq)
					}
					last = Head{e.Seq, e.Hash}
				}
				return into.entries(entries)
			},
			about: into.about,
			kept: func(k Kept) error {
				kept++
				return into.kept(k)
			},
		}
		return from.dump(head.Seq, proved)
	})
	if err != nil {
		return 0, err
	}
	is, err := to.Head()
	if err == nil && last.Seq > 0 && is != last {
		err = fmt.Errorf("%s ends with entry %d, and entry %d was expected", to.called(), is.Seq, last.Seq)
	}
	return kept, err
}

func (l *sqlite) called() string { return l.path }
func (l *server) called() string { return l.path }

// At is the hash of an entry.
func (l *sqlite) At(seq int64) (hash string, err error) {
	err = l.db.QueryRow(`SELECT hash FROM entries WHERE seq = ?`, seq).Scan(&hash)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return "", failed(l.path, err)
	}
	return hash, nil
}

// At is the hash of an entry.
func (l *server) At(seq int64) (hash string, err error) {
	err = l.try(func(ctx context.Context) error {
		return l.pool.QueryRow(ctx, l.sql(`SELECT hash FROM $.entries WHERE seq = $1`), seq).Scan(&hash)
	})
	if errors.Is(err, pgx.ErrNoRows) {
		return "", nil
	}
	return hash, l.failed(err)
}
