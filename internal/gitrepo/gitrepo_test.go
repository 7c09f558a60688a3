package gitrepo_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"pravet/examples/marrowick"
	"pravet/internal/gitrepo"
)

func TestTheRevisionAndWhetherTheFilesAreCommitted(t *testing.T) {
	t.Setenv("GIT_CONFIG_GLOBAL", "/dev/null")
	t.Setenv("GIT_CONFIG_SYSTEM", "/dev/null")
	t.Setenv("GIT_CEILING_DIRECTORIES", os.TempDir())
	outside := t.TempDir()
	revision, clean := gitrepo.Revision(outside)
	require.Empty(t, revision)
	require.False(t, clean)
	require.Empty(t, gitrepo.User(outside))

	dir := t.TempDir()
	require.NoError(t, marrowick.Write(dir, true))
	first, clean := gitrepo.Revision(dir)
	require.Len(t, first, 40)
	require.True(t, clean)
	require.Equal(t, "Farah Linden <farah.linden@marrowick.example>", gitrepo.User(dir))

	// The example has the same history wherever and whenever it is made.
	other := t.TempDir()
	require.NoError(t, marrowick.Write(other, true))
	again, _ := gitrepo.Revision(other)
	require.Equal(t, first, again)

	require.Nil(t, gitrepo.Changed(outside, first))
	require.Nil(t, gitrepo.Changed(dir, ""))
	require.Empty(t, gitrepo.Changed(dir, first))

	// Plans, exports and notes are no part of the desired state; a file of it is.
	require.NoError(t, os.WriteFile(filepath.Join(dir, "notes.txt"), []byte("x"), 0o644))
	_, clean = gitrepo.Revision(dir)
	require.True(t, clean)
	for _, name := range []string{"kits/new.yaml", "pravet.yaml"} {
		dirty := t.TempDir()
		require.NoError(t, marrowick.Write(dirty, true))
		f, err := os.OpenFile(filepath.Join(dirty, name), os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644)
		require.NoError(t, err)
		_, err = f.WriteString("# a line\n")
		require.NoError(t, err)
		require.NoError(t, f.Close())
		_, clean = gitrepo.Revision(dirty)
		require.False(t, clean, name)
		require.Equal(t, []string{name}, gitrepo.Changed(dirty, first))
	}
}
