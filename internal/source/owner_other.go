//go:build !unix

package source

import (
	"io/fs"
	"os"
)

func keepOwner(*os.File, fs.FileInfo) error { return nil }

// Flags of opening that are not known here.
const (
	noWait   = 0
	noFollow = 0
)

func full(error) bool { return false }

func isIO(error) bool { return false }

func notAFolder(error) bool { return false }
