package edit

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"time"

	"pravet/internal/core/plain"
	"pravet/internal/source"
)

// journal is the file that says which files were taking their places. While it is there, they are half written, and
// whoever comes next finishes them.
const journal = ".pravet/rewrite.json"

// maxJournal is how long it may be, in bytes.
const maxJournal = 64 << 20

// A placing is a file that is to take the place of another, as the journal has it.
type placing struct {
	Name   string    `json:"name"`
	Beside string    `json:"beside"` // its temporary name
	Size   int64     `json:"size"`   // of the one whose place it takes; -1 where there is none
	At     time.Time `json:"at"`     // when that one was changed
}

// together puts staged files in their places, all or none, also where the process is killed in between or the power
// fails: before the journal is there nothing is changed, and after that Finish does the rest.
func together(tree *source.Tree, names []string, staged []*source.Staged) error {
	var list []placing
	for i, s := range staged {
		if err := s.Unchanged(); err != nil {
			return err
		}
		p := placing{Name: names[i], Beside: s.Name(), Size: -1}
		if info := s.Old(); info != nil {
			p.Size, p.At = info.Size(), info.ModTime()
		}
		list = append(list, p)
	}
	if len(list) > 1 {
		if err := note(tree, list); err != nil {
			return err
		}
	}
	for _, s := range staged {
		if err := s.Commit(); err != nil {
			if len(list) > 1 { // the journal is there, so the rest is begun
				for _, s := range staged {
					s.Leave()
				}
				_, more := Finish(tree)
				err = errors.Join(err, more)
			}
			return err
		}
	}
	if len(list) > 1 {
		return tree.Remove(journal)
	}
	return nil
}

func note(tree *source.Tree, list []placing) error {
	data, err := json.Marshal(list)
	if err != nil {
		return err
	}
	if err := errors.Join(tree.MakeFolder(journal), tree.Sweep(journal)); err != nil {
		return err
	}
	return tree.Write(journal, 0o600, func(w io.Writer) error { _, err := w.Write(data); return err })
}

// Unfinished reports whether files are half written. A folder in its place that leads elsewhere holds none;
// whoever opens the ledger refuses it.
func Unfinished(tree *source.Tree) bool {
	there, err := tree.Exists(journal)
	return err == nil && there
}

// Finish puts the files in their places that a process had begun to, and returns their names; none where nothing was
// begun. One that somebody has changed since stays as they left it, which is an error. The caller is the only one that
// writes files.
func Finish(tree *source.Tree) (names []string, err error) {
	if !Unfinished(tree) {
		return nil, nil
	}
	data, _, _, err := tree.ReadAll(context.Background(), journal, maxJournal)
	if err != nil {
		return nil, err
	}
	var list []placing
	dec := json.NewDecoder(bytes.NewReader(data))
	dec.DisallowUnknownFields()
	if err := dec.Decode(&list); err != nil {
		return nil, fmt.Errorf(
			"%s, which says what was being written, cannot be read: %w; look at the files by hand, and remove it",
			journal, plain.JSON(err),
		)
	}
	for _, p := range list {
		info, there := tree.Info(source.Beside(p.Name, p.Beside))
		was, none := tree.Info(p.Name)
		switch {
		case errors.Is(there, fs.ErrNotExist) && none == nil: // it is in its place already
			names = append(names, p.Name)
			continue
		case there != nil || !info.Mode().IsRegular() || !source.Unplaced(p.Beside, p.Name):
			return names, fmt.Errorf(
				"%s, which %s names, is no file that was written for %s; look at both by hand, and remove %s",
				p.Beside, journal, p.Name, journal,
			)
		}
		same := p.Size < 0 && errors.Is(none, fs.ErrNotExist) ||
			p.Size >= 0 && none == nil && was.Size() == p.Size && was.ModTime().Equal(p.At)
		if !same {
			err = errors.Join(err, fmt.Errorf(
				"%s was changed by someone else since; it is as they left it, and what was to take its place is %s: "+
					"put the one that is right there, and remove the other and %s",
				p.Name, source.Beside(p.Name, p.Beside), journal,
			))
			continue
		}
		if more := tree.Finish(p.Name, p.Beside); more != nil {
			err = errors.Join(err, fmt.Errorf("%s cannot take its place: %w", p.Name, more))
			continue
		}
		names = append(names, p.Name)
	}
	if err != nil {
		return names, err
	}
	return names, tree.Remove(journal)
}
