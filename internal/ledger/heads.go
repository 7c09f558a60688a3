package ledger

import (
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"pravet/internal/source"
)

// A noted head is what stands in the folder of heads about one repository. Of
// another repository that came to stand at the same path, Place tells.
type noted struct {
	Head
	Repository string `json:"repository"` // its path
	Place      string `json:"place"`      // what the system knows its folder by
}

// headFile is where the head of this ledger is noted, "" for nowhere.
func (l *sqlite) headFile() (file, repository string) {
	if l.opt.Heads == "" {
		return "", ""
	}
	repository, err := filepath.Abs(filepath.Dir(l.folder))
	if err != nil {
		return "", ""
	}
	if real, err := filepath.EvalSymlinks(repository); err == nil {
		repository = real
	}
	name := repository
	if l.opt.Environment != "" { // each has a ledger of its own
		name += "\x00" + l.opt.Environment
	}
	sum := sha256.Sum256([]byte(name))
	return filepath.Join(l.opt.Heads, hex.EncodeToString(sum[:16])+".json"), repository
}

// note writes the newest entry down, outside the repository.
func (l *sqlite) note(head Head) error {
	file, repository := l.headFile()
	if file == "" {
		return nil
	}
	data, err := json.Marshal(noted{head, repository, place(repository)})
	if err != nil {
		return err
	}
	if err := os.MkdirAll(l.opt.Heads, 0o700); err != nil {
		return nil // a home that may not be written keeps no heads
	}
	tmp, err := os.CreateTemp(l.opt.Heads, ".head-*")
	if err != nil {
		return nil
	}
	_, err = tmp.Write(append(data, '\n'))
	if err = errors.Join(err, tmp.Close()); err == nil {
		err = os.Rename(tmp.Name(), file)
	}
	if err != nil {
		os.Remove(tmp.Name())
	}
	return nil // the entry itself is written; where no head is kept, nothing is lost but a check
}

// Cut reports that the noted entry is not in the ledger.
func (l *sqlite) Cut() error {
	file, repository := l.headFile()
	if file == "" {
		return nil
	}
	data, err := source.ReadFile(file, file, maxNote)
	if err != nil {
		return nil
	}
	var known noted
	if json.Unmarshal(data, &known) != nil || known.Repository != repository || known.Place != place(repository) ||
		known.Seq == 0 {
		return nil
	}
	var hash string
	err = l.db.QueryRow(`SELECT hash FROM entries WHERE seq = ?`, known.Seq).Scan(&hash)
	switch {
	case err == nil && hash == known.Hash:
		return nil
	case err != nil && !errors.Is(err, sql.ErrNoRows):
		return failed(l.path, err)
	}
	is, err := l.Head()
	if err != nil {
		return err
	}
	return &CutError{l.path, known.Head, is}
}

// place is what the system knows a folder by: the same path may come to be
// another folder.
func place(folder string) string {
	info, err := os.Stat(folder)
	if err != nil {
		return ""
	}
	return fmt.Sprint(identity(info))
}
