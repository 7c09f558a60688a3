// Package prepared gives tests folders that are made once and then copied: to make the example
// with its history takes a dozen calls of Git, and to copy it none.
package prepared

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"sync"

	"pravet/examples/marrowick"
)

// A Folder is made when a copy of it is first asked for.
type Folder struct {
	make func(dir string) error
	once sync.Once
	dir  string
	err  error
}

var (
	all []*Folder
	mu  sync.Mutex
)

// New is a folder that make fills.
func New(make func(dir string) error) *Folder {
	mu.Lock()
	defer mu.Unlock()
	f := &Folder{make: make}
	all = append(all, f)
	return f
}

// Marrowick is the example's repository with its history in Git.
var Marrowick = New(func(dir string) error { return marrowick.Write(dir, true) })

// Bare is the example's repository without Git.
var Bare = New(func(dir string) error { return marrowick.Write(dir, false) })

// Copy copies the folder into one that is empty or not there, with the times of its files.
func (f *Folder) Copy(to string) error {
	f.once.Do(func() {
		if f.dir, f.err = os.MkdirTemp("", "prepared-"); f.err == nil {
			f.err = f.make(f.dir)
		}
	})
	if f.err != nil {
		return f.err
	}
	return filepath.WalkDir(f.dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(f.dir, path)
		if err != nil {
			return err
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		at := filepath.Join(to, rel)
		if d.IsDir() {
			return os.MkdirAll(at, info.Mode().Perm()|0o700)
		}
		data, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		if err := os.WriteFile(at, data, info.Mode().Perm()); err != nil {
			return err
		}
		return os.Chtimes(at, info.ModTime(), info.ModTime())
	})
}

// Remove removes all folders that were made. Tests call it when they are over.
func Remove() error {
	mu.Lock()
	defer mu.Unlock()
	var errs []error
	for _, f := range all {
		if f.dir != "" {
			errs = append(errs, os.RemoveAll(f.dir))
		}
	}
	return errors.Join(errs...)
}
