package ledger

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
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

// heads notes the newest entry of a ledger outside the repository, so that one that was cut off is noticed.
type heads struct {
	folder string // the repository's own
	opt    *Options
}

// file is where the head of this ledger is noted, "" for nowhere.
func (h heads) file() (file, repository string) {
	if h.opt.Heads == "" {
		return "", ""
	}
	repository, err := filepath.Abs(filepath.Dir(h.folder))
	if err != nil {
		return "", ""
	}
	if real, err := filepath.EvalSymlinks(repository); err == nil {
		repository = real
	}
	name := repository
	if h.opt.Environment != "" { // each has a ledger of its own
		name += "\x00" + h.opt.Environment
	}
	sum := sha256.Sum256([]byte(name))
	return filepath.Join(h.opt.Heads, hex.EncodeToString(sum[:16])+".json"), repository
}

// note writes the newest entry down. The entry itself is written: where no head can be kept, nothing is lost but a check.
func (h heads) note(head Head) {
	file, repository := h.file()
	if file == "" {
		return
	}
	data, err := json.Marshal(noted{head, repository, place(repository)})
	if err != nil || os.MkdirAll(h.opt.Heads, 0o700) != nil {
		return
	}
	_ = replace(file, append(data, '\n'))
}

// known is the newest entry that was noted, none where nothing is known of one.
func (h heads) known() Head {
	file, repository := h.file()
	if file == "" {
		return Head{}
	}
	data, err := source.ReadFile(file, file, maxNote)
	if err != nil {
		return Head{}
	}
	var known noted
	if json.Unmarshal(data, &known) != nil || known.Repository != repository || known.Place != place(repository) {
		return Head{}
	}
	return known.Head
}

// cut reports that the noted entry is not in the ledger.
func (h heads) cut(path string, hash func(seq int64) (string, error), head func() (Head, error)) error {
	known := h.known()
	if known.Seq == 0 {
		return nil
	}
	is, err := hash(known.Seq)
	if err != nil || is == known.Hash {
		return err
	}
	newest, err := head()
	if err != nil {
		return err
	}
	return &CutError{path, known, newest}
}

// Cut reports that the noted entry is not in the ledger, or that the record is kept elsewhere by now.
func (l *sqlite) Cut() error {
	if err := l.gone(); err != nil {
		return err
	}
	return l.heads.cut(l.path, l.At, l.Head)
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
