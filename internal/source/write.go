package source

import (
	"bufio"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
)

// A Staged is the new content of a file, written and synced beside it, that
// has not taken the file's place yet.
type Staged struct {
	path   string
	file   *os.File
	sum    hash.Hash
	direct bool        // the path is no regular file and was written to already
	old    fs.FileInfo // the file that is to be replaced, when the caller has read it
}

// Replaces says which file, as the caller has opened it, the new content is made
// from: Commit refuses to replace any other, so that nothing is lost that
// someone else has written meanwhile.
func (s *Staged) Replaces(old fs.FileInfo) { s.old = old }

// Stage writes a file's new content. The bytes go to a new file in the same
// folder with the old one's permissions and owner; what is no regular file (a
// pipe, a device) is written to directly. After an error nothing is left.
func Stage(path string, mode fs.FileMode, write func(io.Writer) error) (_ *Staged, err error) {
	if real, err := filepath.EvalSymlinks(path); err == nil {
		path = real
	}
	s := &Staged{path: path, sum: sha256.New()}
	info, statErr := os.Stat(path)
	switch {
	case statErr == nil && info.IsDir():
		return nil, fmt.Errorf("%s: this is a folder, and a file is expected", path)
	case statErr == nil && !info.Mode().IsRegular():
		s.direct = true
		s.file, err = os.OpenFile(path, os.O_WRONLY, 0)
	case statErr == nil || errors.Is(statErr, fs.ErrNotExist):
		s.file, err = os.CreateTemp(filepath.Dir(path), "."+filepath.Base(path)+".*.new")
	default:
		err = statErr
	}
	if err != nil {
		return nil, fmt.Errorf("%s cannot be written: %w; nothing was changed", path, err)
	}
	out := bufio.NewWriterSize(io.MultiWriter(s.file, s.sum), 1<<18)
	if err = write(out); err == nil {
		err = out.Flush()
	}
	if err == nil && !s.direct {
		err = s.dress(statErr == nil, info, mode)
	}
	if err == nil {
		err = s.file.Close()
	}
	if err != nil {
		s.Drop()
		return nil, fmt.Errorf("%s cannot be written: %w; nothing was changed", path, err)
	}
	return s, nil
}

// dress gives the new file the permissions of the old one and syncs it.
func (s *Staged) dress(exists bool, old fs.FileInfo, mode fs.FileMode) error {
	if exists {
		mode = old.Mode().Perm()
		if err := keepOwner(s.file, old); err != nil {
			return err
		}
	}
	if err := s.file.Chmod(mode); err != nil {
		return err
	}
	return s.file.Sync()
}

// Digest is the digest of the new content, "sha256:" and hexadecimal.
func (s *Staged) Digest() string { return "sha256:" + hex.EncodeToString(s.sum.Sum(nil)) }

// Drop gives the new content up.
func (s *Staged) Drop() {
	s.file.Close()
	if !s.direct {
		os.Remove(s.file.Name())
	}
}

// Commit puts the new content in the file's place, as a whole: readers see the
// old file or the new one, also after a crash.
func (s *Staged) Commit() error {
	if s.direct {
		return nil
	}
	if s.old != nil {
		now, err := os.Stat(s.path)
		if err != nil || !os.SameFile(now, s.old) || now.Size() != s.old.Size() || !now.ModTime().Equal(s.old.ModTime()) {
			s.Drop()
			return fmt.Errorf("%s was changed by someone else just now; it is as they left it", s.path)
		}
	}
	if err := os.Rename(s.file.Name(), s.path); err != nil {
		s.Drop()
		return err
	}
	d, err := os.Open(filepath.Dir(s.path))
	if err != nil {
		return err
	}
	defer d.Close()
	return d.Sync()
}

// Sweep removes what runs that were killed have left beside a file. Nobody
// else may be writing the file.
func Sweep(path string) error {
	if real, err := filepath.EvalSymlinks(path); err == nil {
		path = real
	}
	entries, err := os.ReadDir(filepath.Dir(path))
	if err != nil {
		return err
	}
	for _, e := range entries {
		if strings.HasPrefix(e.Name(), "."+filepath.Base(path)+".") && strings.HasSuffix(e.Name(), ".new") {
			if err := os.Remove(filepath.Join(filepath.Dir(path), e.Name())); err != nil {
				return err
			}
		}
	}
	return nil
}

// WriteFile replaces a file as a whole.
func WriteFile(path string, data []byte, mode fs.FileMode) error {
	s, err := Stage(path, mode, func(w io.Writer) error {
		_, err := w.Write(data)
		return err
	})
	if err != nil {
		return err
	}
	return s.Commit()
}
