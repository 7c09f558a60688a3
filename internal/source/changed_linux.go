package source

import (
	"io/fs"
	"syscall"
	"time"
)

// changedAt is when a file or what is known of it changed last, which nobody can set.
func changedAt(info fs.FileInfo) time.Time {
	if x, ok := info.Sys().(*syscall.Stat_t); ok {
		return time.Unix(x.Ctim.Unix())
	}
	return time.Time{}
}
