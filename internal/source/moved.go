package source

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"sync"
)

// seen is what of a tree was read.
type seen struct {
	mu      sync.Mutex
	files   map[string]fs.FileInfo // nil for one that was not there
	folders map[string][]string
}

func (s *seen) file(name string, info fs.FileInfo) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if _, ok := s.files[name]; !ok {
		s.files[name] = info
	}
}

func (s *seen) folder(name string, entries []fs.DirEntry) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if _, ok := s.folders[name]; !ok {
		s.folders[name] = names(entries)
	}
}

func names(entries []fs.DirEntry) []string {
	out := make([]string, 0, len(entries))
	for _, e := range entries {
		out = append(out, e.Name())
	}
	return out
}

// same reports whether a file is the very one that it was, with what was in it.
func same(x, y fs.FileInfo) bool {
	return os.SameFile(x, y) && x.Size() == y.Size() && x.ModTime().Equal(y.ModTime()) && changedAt(x).Equal(changedAt(y))
}

// Moved lists files that are not as they were when they were read, of those that wanted names: others, changed, more,
// or gone; sorted.
func (t *Tree) Moved(wanted func(name string) bool) (out []string) {
	t.seen.mu.Lock()
	defer t.seen.mu.Unlock()
	for name, was := range t.seen.files {
		if !wanted(name) {
			continue
		}
		now, err := t.root.Stat(filepath.FromSlash(name))
		if was == nil && !errors.Is(err, fs.ErrNotExist) || was != nil && (err != nil || !same(was, now)) {
			out = append(out, name)
		}
	}
	for name, was := range t.seen.folders {
		if !wanted(name) {
			continue
		}
		entries, err := fs.ReadDir(t.root.FS(), name)
		if err != nil && !errors.Is(err, fs.ErrNotExist) || !slices.Equal(was, names(entries)) {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return out
}

// Forget forgets what was read so far.
func (t *Tree) Forget() {
	t.seen.files, t.seen.folders = map[string]fs.FileInfo{}, map[string][]string{}
}
