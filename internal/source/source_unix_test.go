//go:build unix

package source_test

import (
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestOnlyRegularFilesAreRead: a pipe that nobody writes to keeps nobody waiting.
func TestOnlyRegularFilesAreRead(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, syscall.Mkfifo(filepath.Join(dir, "pipe"), 0o644))
	_, err := at(t, filepath.Join(dir, "pipe"))
	require.ErrorContains(t, err, "this is a pipe or a device")
	_, err = at(t, dir)
	require.ErrorContains(t, err, "this is a folder")
}
