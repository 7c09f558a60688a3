//go:build unix

package ledger

import (
	"fmt"
	"io/fs"
	"syscall"
)

// noFollow refuses a link in the place of a file.
const noFollow = syscall.O_NOFOLLOW

// identity is the device and the inode of a folder.
func identity(info fs.FileInfo) string {
	if s, ok := info.Sys().(*syscall.Stat_t); ok {
		return fmt.Sprintf("%d:%d", s.Dev, s.Ino)
	}
	return ""
}
