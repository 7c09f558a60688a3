package gitrepo

import (
	"bytes"
	"context"
	"fmt"
	"strings"
)

// notesRef is where the heads of the record are noted, and notesEnd how the names of such references end that were fetched
// from others.
const (
	notesRef = "refs/notes/pravet"
	notesEnd = "/pravet"
)

// maxNotes is how long a note may be, in bytes.
const maxNotes = 16 << 20

// AddNote adds a line to the note of the newest commit. It fails where there is no commit yet.
func AddNote(dir, line string) error {
	cmd := command(context.Background(), dir, "notes", "--ref="+notesRef, "append", "-m", line, "HEAD")
	var said bytes.Buffer
	cmd.Stderr = &said
	if err := cmd.Run(); err != nil {
		return fmt.Errorf("git cannot note it: %s", strings.TrimSpace(said.String()))
	}
	return nil
}

// Notes are the lines of all notes that AddNote has made, here and where they were fetched from.
func Notes(dir string) (lines []string, err error) {
	refs, err := git(dir, "for-each-ref", "--format=%(refname)", "refs/notes")
	if err != nil {
		return nil, nil // no repository, and no notes
	}
	for _, ref := range strings.Fields(refs) {
		if !strings.HasSuffix(ref, notesEnd) {
			continue
		}
		list, err := git(dir, "notes", "--ref="+ref, "list")
		if err != nil {
			return nil, fmt.Errorf("the notes of %s cannot be read", ref)
		}
		for _, row := range strings.Split(list, "\n") {
			note, _, _ := strings.Cut(row, " ")
			if note == "" {
				continue
			}
			text, err := git(dir, "cat-file", "blob", note)
			if err != nil || len(text) > maxNotes {
				return nil, fmt.Errorf("a note of %s cannot be read", ref)
			}
			for _, line := range strings.Split(text, "\n") {
				if line != "" {
					lines = append(lines, line)
				}
			}
		}
	}
	return lines, nil
}
