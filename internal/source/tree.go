package source

import (
	"context"
	"crypto/sha256"
	"encoding/base32"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"pravet/internal/core/model"
)

// A Tree is a folder whose files are read and written under names below it. No
// name leads out of it, be it absolute, with "..", or by a link, but into the
// folders that whoever runs the program has opened: what a repository's files
// say is never reason enough.
//
//	tree, err := source.OpenTree(dir, nil)
//	r, err := tree.Open(ctx, "exports/tickets.csv")
type Tree struct {
	Dir string
	// Environment is the one that files are read for, "" for the usual one.
	Environment string
	// Opened hears of each file that is opened, by its name in the folder; nil for nobody.
	Opened func(name string)

	root    *os.Root
	outside []string // folders without links
	over    map[string][]byte
	seen    *seen
}

// With is the same folder with other contents of some files, or with more files, as they
// would be; nothing is written. Closing it closes nothing.
func (t *Tree) With(contents map[string][]byte) *Tree {
	return &Tree{Dir: t.Dir, Environment: t.Environment, root: t.root, outside: t.outside, over: contents, seen: t.seen}
}

// Outside is the variable of the environment that lists the folders outside the
// repository that may be read and written.
const Outside = "PRAVET_OUTSIDE"

// OpenTree opens a folder. outside lists folders that names may lead to as well.
func OpenTree(dir string, outside []string) (*Tree, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, Unreadable(dir, err)
	}
	t := &Tree{Dir: dir, root: root, seen: &seen{}}
	t.Forget()
	for _, folder := range outside {
		if real, err := filepath.EvalSymlinks(folder); err == nil && filepath.IsAbs(real) {
			t.outside = append(t.outside, real)
		}
	}
	return t, nil
}

// Close closes the folder.
func (t *Tree) Close() error {
	if t.over != nil {
		return nil
	}
	return t.root.Close()
}

// A place is where a name leads to.
type place struct {
	root  *os.Root
	name  string
	close func() error
	mark  string // of a place outside of the tree: by which names of temporary files are known to be the tree's
}

// find resolves a name. Errors are of type *Problem.
func (t *Tree) find(name string) (*place, error) {
	local := filepath.FromSlash(name)
	if filepath.IsLocal(local) {
		if _, err := t.root.Stat(local); err == nil || !escapes(err) {
			return &place{t.root, filepath.Clean(local), func() error { return nil }, ""}, nil
		}
	}
	full := local
	if !filepath.IsAbs(full) {
		full = filepath.Join(t.Dir, local)
	}
	real, err := filepath.EvalSymlinks(full)
	if err != nil { // a file that is to be made, or nothing at all
		if folder, err := filepath.EvalSymlinks(filepath.Dir(full)); err == nil {
			real = filepath.Join(folder, filepath.Base(full))
		}
	}
	for _, folder := range t.outside {
		rel, err := filepath.Rel(folder, real)
		if err != nil || !filepath.IsLocal(rel) {
			continue
		}
		root, err := os.OpenRoot(folder)
		if err != nil {
			return nil, Unreadable(name, err)
		}
		return &place{root, rel, root.Close, t.mark()}, nil
	}
	return nil, NewProblem(
		model.Pos{File: name},
		"outside",
		"the path is outside the repository",
		"keep the file below it; or, if you trust these files, open that folder when you run Pravet: "+
			""+Outside+"=FOLDER",
	)
}

// mark is what the names of temporary files have in them that this folder, on this machine, leaves in folders which others
// write to as well.
func (t *Tree) mark() string {
	host, _ := os.Hostname() // without it, folders of one path are one
	real, err := filepath.EvalSymlinks(t.Dir)
	if err != nil {
		real = t.Dir
	}
	sum := sha256.Sum256([]byte(host + "\x00" + real))
	return base32.StdEncoding.EncodeToString(sum[:])[:5]
}

// escapes reports whether an error of os.Root says that a name, or a link, leads
// out of the folder; package os has no value for it.
func escapes(err error) bool { return strings.Contains(err.Error(), "escapes") }

// Allowed returns the problem of a name that leads out of the tree, or nil.
func (t *Tree) Allowed(name string) error {
	p, err := t.find(name)
	if err != nil {
		return err
	}
	return p.close()
}

// Open opens a regular file. Reading ends with the context's error when the
// context ends. Other errors are of type *Problem.
func (t *Tree) Open(ctx context.Context, name string) (*Reader, error) {
	if data, ok := t.over[path.Clean(name)]; ok {
		return t.openOver(ctx, name, data)
	}
	p, err := t.find(name)
	if err != nil {
		return nil, err
	}
	defer p.close()
	// A pipe that nobody writes to must not keep the program waiting.
	f, err := p.root.OpenFile(p.name, os.O_RDONLY|noWait, 0)
	if errors.Is(err, fs.ErrNotExist) {
		t.seen.file(path.Clean(name), nil)
	}
	if err != nil {
		return nil, Unreadable(name, err)
	}
	if info, err := f.Stat(); err == nil {
		t.seen.file(path.Clean(name), info)
	}
	if t.Opened != nil {
		t.Opened(path.Clean(name))
	}
	return newReader(ctx, f, name)
}

// openOver opens contents that no file has yet.
func (t *Tree) openOver(ctx context.Context, name string, data []byte) (*Reader, error) {
	f, err := os.CreateTemp("", "pravet-")
	if err != nil {
		return nil, err
	}
	_ = os.Remove(f.Name()) // where that cannot be while it is open, the system removes it later
	if _, err = f.Write(data); err == nil {
		_, err = f.Seek(0, io.SeekStart)
	}
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return newReader(ctx, f, name)
}

// OpenRaw opens a regular file for its bytes as they are, of any encoding and length.
func (t *Tree) OpenRaw(ctx context.Context, name string) (*os.File, error) {
	r, err := t.Open(ctx, name)
	if err != nil {
		return nil, err
	}
	return r.file, nil
}

// ReadAll reads a whole file of at most limit bytes, checked as by Reader, and
// says which file that was.
func (t *Tree) ReadAll(
	ctx context.Context,
	name string,
	limit int64,
) (data []byte, digest string, info fs.FileInfo, err error) {
	r, err := t.Open(ctx, name)
	if err != nil {
		return nil, "", nil, err
	}
	defer r.Close()
	if info, err = r.Info(); err != nil {
		return nil, "", nil, Unreadable(name, err)
	}
	data, digest, err = r.all(limit)
	return data, digest, info, err
}

// Exists reports whether there is a file or folder of a name, or a link.
func (t *Tree) Exists(name string) (bool, error) {
	if _, ok := t.over[path.Clean(name)]; ok {
		return true, nil
	}
	p, err := t.find(name)
	if err != nil {
		return false, err
	}
	defer p.close()
	_, err = p.root.Lstat(p.name)
	switch {
	case err == nil:
		return true, nil
	case errors.Is(err, fs.ErrNotExist):
		return false, nil
	}
	return false, Unreadable(name, err)
}

// List lists a folder of the tree itself, sorted by name; a folder that is not
// there is empty.
func (t *Tree) List(folder string) ([]fs.DirEntry, error) {
	entries, err := fs.ReadDir(t.root.FS(), folder)
	if errors.Is(err, fs.ErrNotExist) {
		entries, err = nil, nil
	}
	if err == nil {
		t.seen.folder(path.Clean(folder), entries)
	}
	for name := range t.over {
		in, file := path.Split(name)
		there := slices.ContainsFunc(entries, func(e fs.DirEntry) bool { return e.Name() == file })
		if path.Clean(in) == path.Clean(folder) && !there {
			entries = append(entries, over(file))
		}
	}
	slices.SortFunc(entries, func(x, y fs.DirEntry) int { return strings.Compare(x.Name(), y.Name()) })
	return entries, err
}

// over is a file that is not there yet, as a folder lists it.
type over string

func (o over) Name() string               { return string(o) }
func (o over) IsDir() bool                { return false }
func (o over) Type() fs.FileMode          { return 0 }
func (o over) Info() (fs.FileInfo, error) { return nil, fs.ErrNotExist }

// Stage writes the new content of a file beside it; see Staged. A link is
// refused: what it leads to is not the tree's to replace.
func (t *Tree) Stage(name string, mode fs.FileMode, write func(io.Writer) error) (*Staged, error) {
	p, err := t.find(name)
	if err != nil {
		return nil, err
	}
	s, err := stage(p, name, mode, write)
	if err != nil {
		return nil, errors.Join(err, p.close())
	}
	return s, nil
}

// Write writes a file as a whole, by way of one beside it.
func (t *Tree) Write(name string, mode fs.FileMode, write func(io.Writer) error) error {
	s, err := t.Stage(name, mode, write)
	if err != nil {
		return err
	}
	if err := s.Commit(); err != nil {
		s.Drop()
		return err
	}
	return nil
}

// MakeFolder makes the folder that a file is to stand in, where it is missing.
func (t *Tree) MakeFolder(name string) error {
	p, err := t.find(name)
	if err != nil {
		return err
	}
	defer p.close()
	if err := p.root.MkdirAll(filepath.Dir(p.name), 0o777); err != nil {
		return Unreadable(filepath.ToSlash(filepath.Dir(name)), err)
	}
	return nil
}

// Finish puts staged content of an earlier process, which stands under its
// temporary name beside a file, in that file's place.
func (t *Tree) Finish(name, temporary string) error {
	p, err := t.find(name)
	if err != nil {
		return err
	}
	defer p.close()
	return errors.Join(p.root.Rename(filepath.Join(filepath.Dir(p.name), filepath.Base(temporary)), p.name), p.sync())
}

// Beside is the name of something that stands in the same folder as a file.
func Beside(name, other string) string {
	folder, _ := filepath.Split(filepath.FromSlash(name))
	return filepath.ToSlash(folder + filepath.Base(other))
}

// sync makes sure that what was renamed stays so when the power fails.
func (p *place) sync() error {
	d, err := p.root.Open(filepath.Dir(p.name))
	if err != nil {
		return err
	}
	return errors.Join(d.Sync(), d.Close())
}

// Unplaced are the files of a folder that stand there under temporary names, as a process ended before it had put them
// in their place: the temporary name, and the one that each was to have.
func (t *Tree) Unplaced(folder string) (map[string]string, error) {
	names, err := t.Entries(folder)
	out := map[string]string{}
	for _, name := range names {
		if parts := unplaced.FindStringSubmatch(name); parts != nil {
			out[name] = parts[1]
		}
	}
	return out, err
}

// Entries are the names of what is in a folder; none where it is not there.
func (t *Tree) Entries(folder string) ([]string, error) {
	p, err := t.find(folder + "/x")
	if err != nil {
		return nil, err
	}
	defer p.close()
	d, err := p.root.Open(filepath.Dir(p.name))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, Unreadable(folder, err)
	}
	names, err := d.Readdirnames(-1)
	if err := errors.Join(err, d.Close()); err != nil {
		return nil, Unreadable(folder, err)
	}
	return names, nil
}

// Info describes a file, and no link.
func (t *Tree) Info(name string) (fs.FileInfo, error) {
	p, err := t.find(name)
	if err != nil {
		return nil, err
	}
	defer p.close()
	return p.root.Lstat(p.name)
}

// Outside is where a name leads that leads out of the folder, without links; "" for one within.
func (t *Tree) Outside(name string) string {
	full := filepath.FromSlash(name)
	if filepath.IsLocal(full) {
		if _, err := t.root.Stat(full); err == nil || !escapes(err) {
			return ""
		}
	}
	if !filepath.IsAbs(full) {
		full = filepath.Join(t.Dir, full)
	}
	if real, err := filepath.EvalSymlinks(full); err == nil {
		return real
	}
	return full
}

// Remove removes a file that is nobody's any more.
func (t *Tree) Remove(name string) error {
	p, err := t.find(name)
	if err != nil {
		return err
	}
	defer p.close()
	if err := p.root.Remove(p.name); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("%s cannot be removed: %w", name, Reason(err))
	}
	return nil
}

// Sweep removes what processes that were killed have left beside a file. Nobody
// else of this folder may be writing the file; outside of it, what others have left stays.
func (t *Tree) Sweep(name string) error {
	p, err := t.find(name)
	if err != nil {
		return err
	}
	if err := p.close(); err != nil {
		return err
	}
	folder, file := path.Split(filepath.ToSlash(name))
	names, err := t.Entries(path.Clean(folder))
	for _, other := range names {
		if strings.HasPrefix(other, "."+file+"."+p.mark) && strings.HasSuffix(other, temporary) {
			err = errors.Join(err, t.Remove(folder+other))
		}
	}
	return err
}
