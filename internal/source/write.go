package source

import (
	"bufio"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"time"

	"github.com/zeebo/blake3"
)

// temporary ends the names of files that are not in place yet.
const temporary = ".new"

// unplaced are names of files that are not in place yet, and which names they are to have.
var unplaced = regexp.MustCompile(`^\.(.+)\.[A-Z2-7]{10}\.new$`)

// Unplaced reports whether a name is one under which the new content of a file stands beside it.
func Unplaced(name, file string) bool {
	m := unplaced.FindStringSubmatch(name)
	return m != nil && m[1] == path.Base(file)
}

// A Staged is the new content of a file, written and synced beside it, that
// has not taken the file's place yet.
type Staged struct {
	at    *place
	said  string // how messages speak of the file
	name  string // of the temporary file
	sum   hash.Hash
	old   fs.FileInfo // the file that is to be replaced, when the caller has read it
	ended bool
}

// Replaces says which file, as the caller has opened it, the new content is made
// from: Commit refuses to replace any other, so that nothing is lost that
// someone else has written meanwhile.
func (s *Staged) Replaces(old fs.FileInfo) { s.old = old }

// Dated says when the new content was as it is, which will be the file's time.
func (s *Staged) Dated(at time.Time) error { return s.at.root.Chtimes(s.name, at, at) }

// stage writes a file's new content to a new file in the same folder with the
// old one's permissions and owner. After an error nothing is left.
func stage(at *place, said string, mode fs.FileMode, write func(io.Writer) error) (_ *Staged, err error) {
	info, err := at.root.Lstat(at.name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		info = nil
	case err != nil:
		return nil, fmt.Errorf("%s cannot be written: %w", said, Reason(err))
	case info.Mode()&fs.ModeSymlink != 0:
		return nil, fmt.Errorf("%s is a link; name the file itself, which is what would be replaced", said)
	case info.IsDir():
		return nil, fmt.Errorf("%s: this is a folder, and a file is expected", said)
	case !info.Mode().IsRegular():
		return nil, fmt.Errorf("%s is no regular file and cannot be replaced", said)
	}
	s := &Staged{at: at, said: said, sum: blake3.New()}
	s.name = filepath.Join(filepath.Dir(at.name), "."+filepath.Base(at.name)+"."+(at.mark + rand.Text())[:10]+temporary)
	f, err := at.root.OpenFile(s.name, os.O_CREATE|os.O_EXCL|os.O_WRONLY|noFollow, 0o600)
	if err != nil {
		return nil, fmt.Errorf("%s cannot be written: %w", said, Reason(err))
	}
	out := bufio.NewWriterSize(io.MultiWriter(f, s.sum), 1<<18)
	if err = write(out); err == nil {
		err = out.Flush()
	}
	if err == nil {
		err = dress(f, info, mode)
	}
	if err = errors.Join(err, f.Close()); err != nil {
		_ = at.root.Remove(s.name) // Sweep finds it otherwise
		return nil, fmt.Errorf("%s cannot be written: %w", said, Reason(err))
	}
	return s, nil
}

// Reason leaves out of an error of the file system the paths, which the message
// has already.
func Reason(err error) error {
	var path *fs.PathError
	var link *os.LinkError
	switch {
	case errors.As(err, &path):
		err = path.Err
	case errors.As(err, &link):
		err = link.Err
	}
	switch {
	case full(err):
		return errors.New("the disk is full")
	case notAFolder(err):
		return errors.New("a part of its path is a file, and a folder is expected there")
	case isIO(err):
		return errors.New("the disk could not be read or written (an input/output error)")
	case errors.Is(err, fs.ErrPermission):
		return fmt.Errorf("%w; give yourself the permission to write there", err)
	}
	return err
}

// dress gives the new file the permissions and the owner of the old one and
// syncs it.
func dress(f *os.File, old fs.FileInfo, mode fs.FileMode) error {
	if old != nil {
		mode = old.Mode().Perm()
		if err := keepOwner(f, old); err != nil {
			return err
		}
	}
	if err := f.Chmod(mode); err != nil {
		return err
	}
	return f.Sync()
}

// Digest is the digest of the new content, as Reader.Digest gives it.
func (s *Staged) Digest() string { return "blake3:" + hex.EncodeToString(s.sum.Sum(nil)) }

// Old is the file that is to be replaced, as the caller has read it; nil where it is not there.
func (s *Staged) Old() fs.FileInfo { return s.old }

// Name is the name under which the new content stands beside the file.
func (s *Staged) Name() string { return filepath.Base(s.name) }

// Drop gives the new content up.
func (s *Staged) Drop() {
	if !s.ended {
		s.ended = true
		_ = s.at.root.Remove(s.name) // Sweep finds it otherwise
		_ = s.at.close()
	}
}

// Leave leaves the new content beside the file, for whoever finishes what was begun.
func (s *Staged) Leave() {
	if !s.ended {
		s.ended = true
		_ = s.at.close()
	}
}

// Unchanged returns an error when the file is not as the caller has read it.
func (s *Staged) Unchanged() error {
	if s.old == nil {
		return nil
	}
	now, err := s.at.root.Lstat(s.at.name)
	if err != nil || !os.SameFile(now, s.old) || now.Size() != s.old.Size() || !now.ModTime().Equal(s.old.ModTime()) {
		return fmt.Errorf("%s was changed by someone else just now; it is as they left it", s.said)
	}
	return nil
}

// Commit puts the new content in the file's place, as a whole: readers see the
// old file or the new one, also after a crash. After an error the file is as it
// was, and the new content stands beside it still.
func (s *Staged) Commit() error {
	if err := s.Unchanged(); err != nil {
		return err
	}
	if err := s.at.root.Rename(s.name, s.at.name); err != nil {
		return fmt.Errorf("%s cannot be replaced: %w", s.said, Reason(err))
	}
	s.ended = true
	return errors.Join(s.at.sync(), s.at.close())
}

// WriteFile writes a file that the user has named, wherever that is: a regular
// file as a whole, by way of another one beside it; what is none (a pipe, a
// device) directly.
func WriteFile(path string, data io.WriterTo, mode fs.FileMode) error {
	if info, err := os.Stat(path); err == nil && !info.IsDir() && !info.Mode().IsRegular() {
		f, err := os.OpenFile(path, os.O_WRONLY, 0)
		if err != nil {
			return fmt.Errorf("%s cannot be written: %w", path, Reason(err))
		}
		_, err = data.WriteTo(f)
		if err = errors.Join(err, f.Close()); err != nil {
			return fmt.Errorf("%s cannot be written: %w", path, Reason(err))
		}
		return nil
	}
	if real, err := filepath.EvalSymlinks(path); err == nil {
		path = real
	}
	root, err := os.OpenRoot(filepath.Dir(path))
	if err != nil {
		return fmt.Errorf("%s cannot be written: %w", path, Reason(err))
	}
	at := &place{root: root, name: filepath.Base(path), close: root.Close}
	s, err := stage(at, path, mode, func(w io.Writer) error {
		_, err := data.WriteTo(w)
		return err
	})
	if err != nil {
		return errors.Join(err, root.Close())
	}
	if err := s.Commit(); err != nil {
		s.Drop()
		return err
	}
	return nil
}
