package source

import (
	"fmt"
	"io"
	"io/fs"
	"os"

	"pravet/internal/core/model"
)

// ReadFile reads a file that the user has named, wherever it is, of at most limit bytes. What is no regular file is
// refused by name, and not waited for. Errors are of type *Problem; name is how they call it.
func ReadFile(path, name string, limit int64) ([]byte, error) {
	f, err := openRegular(path, name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, limit+1))
	if err != nil {
		return nil, Unreadable(name, err)
	}
	if int64(len(data)) > limit {
		return nil, NewProblem(
			model.Pos{File: name}, "too-large", fmt.Sprintf("the file is larger than %d MiB", limit>>20), "",
		)
	}
	return data, nil
}

// openRegular opens a regular file.
func openRegular(path, name string) (*os.File, error) {
	f, err := os.OpenFile(path, os.O_RDONLY|noWait, 0)
	if err != nil {
		return nil, Unreadable(name, err)
	}
	info, err := f.Stat()
	if err == nil {
		err = regular(info, name)
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

// regular is the problem of what is no regular file, nil for one.
func regular(info fs.FileInfo, name string) error {
	switch {
	case info.IsDir():
		return NewProblem(
			model.Pos{File: name}, "not-a-file", "this is a folder, and a file is expected", "name the file itself",
		)
	case !info.Mode().IsRegular():
		return NewProblem(model.Pos{File: name}, "not-a-file", "this is a pipe or a device, and a regular file is expected",
			"write it to a file")
	}
	return nil
}

// Folder is the problem of a folder of a repository that is a link, or none; nil for a folder, and where nothing is
// there.
func Folder(path, name string) error {
	info, err := os.Lstat(path)
	switch {
	case err != nil:
		return nil
	case info.Mode()&fs.ModeSymlink != 0:
		return NewProblem(model.Pos{File: name}, "not-a-folder", "this is a link, and the folder itself is expected", "")
	case !info.IsDir():
		return NewProblem(model.Pos{File: name}, "not-a-folder", "this is a file, and a folder is expected", "")
	}
	return nil
}
