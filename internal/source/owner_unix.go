//go:build unix

package source

import (
	"errors"
	"io/fs"
	"os"
	"syscall"
)

// keepOwner gives a new file the owner and the group of the one it replaces,
// where that is allowed and they differ.
func keepOwner(f *os.File, old fs.FileInfo) error {
	was, ok := old.Sys().(*syscall.Stat_t)
	info, err := f.Stat()
	if err != nil {
		return err
	}
	is, ok2 := info.Sys().(*syscall.Stat_t)
	if !ok || !ok2 || was.Uid == is.Uid && was.Gid == is.Gid {
		return nil
	}
	return f.Chown(int(was.Uid), int(was.Gid))
}

// Flags of opening: a pipe must not keep the program waiting, and a link in the
// place of a new file is not followed.
const (
	noWait   = syscall.O_NONBLOCK
	noFollow = syscall.O_NOFOLLOW
)

// full reports whether there is no more room for what is written: on the disk, for its user, or in one file.
func full(err error) bool {
	return errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT) || errors.Is(err, syscall.EFBIG)
}

// isIO reports whether a disk fails.
func isIO(err error) bool { return errors.Is(err, syscall.EIO) }

// notAFolder reports whether a path goes on below a file.
func notAFolder(err error) bool { return errors.Is(err, syscall.ENOTDIR) }
