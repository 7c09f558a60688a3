package gitrepo_test

import (
	"context"
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

// TestTheFilesOfARevision are those of the desired state as they were then,
// whatever is in the working tree, and nothing else.
func TestTheFilesOfARevision(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, marrowick.Write(dir, true))
	require.NoError(t, os.RemoveAll(filepath.Join(dir, "kits")))
	head, first := t.TempDir(), t.TempDir()
	require.NoError(t, gitrepo.Files(context.Background(), dir, "HEAD", head))
	require.NoError(t, gitrepo.Files(context.Background(), dir, "HEAD~6", first))
	for _, gone := range []string{"exports", "plans", ".gitignore", ".git"} {
		require.NoFileExists(t, filepath.Join(head, gone))
		require.NoDirExists(t, filepath.Join(head, gone))
	}
	require.FileExists(t, filepath.Join(head, "kits", "ashore.yaml"))
	now, err := os.ReadFile(filepath.Join(head, "people", "ashore.csv"))
	require.NoError(t, err)
	then, err := os.ReadFile(filepath.Join(first, "people", "ashore.csv"))
	require.NoError(t, err)
	require.Contains(t, string(now), "Oskar Nyman,oskar.nyman@marrowick.example,Berth planner,")
	require.Contains(t, string(then), "Oskar Nyman,oskar.nyman@marrowick.example,Refund clerk,")

	for _, revision := range []string{"gone", "", "HEAD~99", "--output=x", "HEAD:people", "a..b"} {
		require.ErrorIs(
			t,
			gitrepo.Files(context.Background(), dir, revision, t.TempDir()),
			gitrepo.ErrNoRevision,
			revision,
		)
	}
	require.ErrorIs(t, gitrepo.Files(context.Background(), t.TempDir(), "HEAD", t.TempDir()), gitrepo.ErrNoRevision)
	// A repository may be a folder of a larger one, which has a HEAD and no files here.
	below := filepath.Join(dir, "below")
	require.NoError(t, os.Mkdir(below, 0o755))
	require.ErrorContains(
		t,
		gitrepo.Files(context.Background(), below, "HEAD", t.TempDir()),
		"holds no file of a desired state in this folder",
	)
}

func TestWhoChangedALineLast(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, marrowick.Write(dir, true))
	got := gitrepo.Lines(dir, "", "people/ashore.csv", 17, 2)
	require.Len(t, got, 2)
	require.Equal(t, "Idris Keane", got[17].By)
	require.Equal(t, "2026-11-09", got[17].On.Format("2006-01-02"))
	require.Len(t, got[17].Commit, 40)
	require.Equal(t, "Farah Linden", got[2].By)
	require.Equal(t, got, gitrepo.Lines(dir, "HEAD", "people/ashore.csv", 2, 9999, 17), "one is not there")
	all := gitrepo.Lines(dir, "", "people/ashore.csv")
	require.Greater(t, len(all), 17)
	require.Equal(t, got[17], all[17])

	data, err := os.ReadFile(filepath.Join(dir, "people/ashore.csv"))
	require.NoError(t, err)
	require.NoError(
		t,
		os.WriteFile(filepath.Join(dir, "people/ashore.csv"), append([]byte("id,userName\n"), data...), 0o644),
	)
	got = gitrepo.Lines(dir, "", "people/ashore.csv", 1, 18)
	require.Len(t, got, 2)
	require.Empty(t, got[1].By, "it is not committed yet")
	require.Equal(t, "Idris Keane", got[18].By)
	for _, x := range []struct {
		file string
		line int
	}{
		{"people/ashore.csv", 9999}, {"people/gone.csv", 1}, {"exports/tickets.csv", 1}, {"people", 1}, {"../x", 1},
		{"-L", 1},
	} {
		require.Empty(t, gitrepo.Lines(dir, "", x.file, x.line), "%+v", x)
	}
	require.Empty(t, gitrepo.Lines(t.TempDir(), "", "people/ashore.csv", 1))
}
