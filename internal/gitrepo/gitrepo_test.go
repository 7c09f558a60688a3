package gitrepo_test

import (
	"context"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"pravet/examples/marrowick"
	"pravet/internal/gitrepo"
)

func checkedOut(t *testing.T, dir string) (revision string, clean bool) {
	t.Helper()
	revision, clean, err := gitrepo.Revision(dir)
	require.NoError(t, err)
	return revision, clean
}

func run(t *testing.T, dir string, args ...string) {
	t.Helper()
	out, err := exec.Command("git", append([]string{"-C", dir}, args...)...).CombinedOutput()
	require.NoError(t, err, "%v: %s", args, out)
}

// TestWhatIsNotHereIsSaid: of a clone that has only a part of the files, or of the history, and where git is not there
// or does not read the repository.
func TestWhatIsNotHereIsSaid(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, marrowick.Write(dir, true))
	files, err := filepath.Glob(filepath.Join(dir, "kits", "*.yaml"))
	require.NoError(t, err)
	kit := "kits/" + filepath.Base(files[0])
	require.Empty(t, gitrepo.Missing(dir))

	sparse := filepath.Join(t.TempDir(), "sparse")
	run(t, dir, "clone", "--quiet", dir, sparse)
	run(t, sparse, "sparse-checkout", "set", "--no-cone", "/*", "!/"+kit)
	require.NoFileExists(t, filepath.Join(sparse, kit))
	require.Equal(t, []string{kit}, gitrepo.Missing(sparse))
	_, clean := checkedOut(t, sparse)
	require.False(t, clean, "it is not what the revision has")
	run(t, sparse, "sparse-checkout", "disable")
	require.Empty(t, gitrepo.Missing(sparse))
	_, clean = checkedOut(t, sparse)
	require.True(t, clean)

	// What Git was told to overlook is not taken for as committed.
	run(t, sparse, "update-index", "--assume-unchanged", kit)
	require.NoError(t, os.WriteFile(filepath.Join(sparse, kit), []byte("kits: {}\n"), 0o644))
	_, clean = checkedOut(t, sparse)
	require.False(t, clean)

	shallow := filepath.Join(t.TempDir(), "shallow")
	run(t, dir, "clone", "--quiet", "--depth", "1", "file://"+dir, shallow)
	whole := gitrepo.Lines(dir, "", "pravet.yaml", 1)
	require.NotEmpty(t, whole[1].By)
	part := gitrepo.Lines(shallow, "", "pravet.yaml", 1)
	require.Equal(t, gitrepo.Change{Beyond: true}, part[1])

	require.NoError(t, gitrepo.Unreadable(dir))
	require.NoError(t, os.WriteFile(filepath.Join(shallow, ".git", "config"), []byte("[core\n"), 0o644))
	_, _, err = gitrepo.Revision(shallow)
	require.ErrorContains(t, err, "git does not tell their revision: bad config")
	t.Setenv("PATH", t.TempDir())
	_, _, err = gitrepo.Revision(dir)
	require.ErrorContains(t, err, "there is no program git in PATH")
	_, _, err = gitrepo.Revision(t.TempDir())
	require.NoError(t, err)
}

// TestAFolderBelowOrBehindALink of a Git repository is in it all the same.
func TestAFolderBelowOrBehindALink(t *testing.T) {
	top := t.TempDir()
	below := filepath.Join(top, "access", "north")
	require.NoError(t, marrowick.Write(below, false))
	run(t, top, "init", "--quiet")
	run(t, top, "add", ".")
	run(t, top, "-c", "user.name=F", "-c", "user.email=f@x.example", "commit", "--quiet", "--message", "all")
	link := filepath.Join(t.TempDir(), "link")
	require.NoError(t, os.Symlink(below, link))
	require.NoError(t, os.WriteFile(filepath.Join(top, "pravet.yaml"), []byte("x"), 0o644)) // another repository's
	for _, dir := range []string{below, link} {
		head, clean := checkedOut(t, dir)
		require.Len(t, head, 40, dir)
		require.True(t, clean, dir)
		require.NotEmpty(t, gitrepo.Lines(dir, "", "pravet.yaml", 1), dir)
	}
	require.NoError(t, os.WriteFile(filepath.Join(below, "kits", "x y.yaml"), []byte("kits: {}\n"), 0o644))
	for _, dir := range []string{below, link} {
		head, clean := checkedOut(t, dir)
		require.False(t, clean, dir)
		require.Equal(t, []string{"kits/x y.yaml"}, gitrepo.Changed(dir, head), dir)
		dirty, err := gitrepo.Dirty(dir, []string{"kits/x y.yaml", "pravet.yaml"})
		require.NoError(t, err)
		require.Equal(t, []string{"kits/x y.yaml"}, dirty, dir)
	}
}

// TestLookingStartsNoProgram that the configuration of a repository names, and changes nothing.
func TestLookingStartsNoProgram(t *testing.T) {
	t.Setenv("GIT_CONFIG_GLOBAL", "/dev/null")
	t.Setenv("GIT_CONFIG_SYSTEM", "/dev/null")
	dir := t.TempDir()
	require.NoError(t, marrowick.Write(dir, true))
	trace := filepath.Join(t.TempDir(), "trace")
	program := filepath.Join(t.TempDir(), "program")
	require.NoError(t, os.WriteFile(program, []byte("#!/bin/sh\necho \"$0 $*\" >> "+trace+"\ncat\n"), 0o755))
	for key, value := range map[string]string{
		"core.fsmonitor": program, "diff.external": program, "filter.x.clean": program, "filter.x.smudge": program,
		"filter.y.process": program, "filter.y.required": "true", "diff.x.textconv": program, "diff.y.command": program,
		"core.alternateRefsCommand": program, "core.pager": program, "gpg.program": program, "log.showSignature": "true",
	} {
		run(t, dir, "config", key, value)
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, ".git", "info", "attributes"),
		[]byte("*.yaml filter=x diff=x\n*.csv filter=y diff=y\n"), 0o644))
	require.NoError(t, os.MkdirAll(filepath.Join(dir, ".git", "hooks"), 0o755))
	for _, hook := range []string{"post-index-change", "post-checkout", "reference-transaction", "fsmonitor-watchman"} {
		require.NoError(
			t, os.WriteFile(filepath.Join(dir, ".git", "hooks", hook), []byte("#!/bin/sh\n"+program+" "+hook), 0o755),
		)
	}
	later := time.Now().Add(time.Hour)
	for _, name := range []string{"pravet.yaml", "people/staff.csv"} {
		if _, err := os.Stat(filepath.Join(dir, name)); err == nil {
			require.NoError(t, os.Chtimes(filepath.Join(dir, name), later, later)) // Git looks into it
		}
	}
	index, err := os.ReadFile(filepath.Join(dir, ".git", "index"))
	require.NoError(t, err)

	head, clean := checkedOut(t, dir)
	require.True(t, clean)
	require.Empty(t, gitrepo.Changed(dir, head))
	require.NotEmpty(t, gitrepo.Changed(dir, head+"~3"))
	require.NotEmpty(t, gitrepo.Lines(dir, "", "pravet.yaml", 1))
	require.NotEmpty(t, gitrepo.Lines(dir, "HEAD~1", "pravet.yaml"))
	require.NoError(t, gitrepo.Files(context.Background(), dir, "HEAD", t.TempDir()))
	require.NotEmpty(t, gitrepo.Revisions(dir))
	require.Empty(t, gitrepo.Missing(dir))
	_, ok := gitrepo.Since(dir, head)
	require.True(t, ok)
	require.NotEmpty(t, gitrepo.User(dir))
	_, err = gitrepo.Dirty(dir, []string{"pravet.yaml"})
	require.NoError(t, err)

	said, err := os.ReadFile(trace)
	require.ErrorIs(t, err, fs.ErrNotExist, "%s", said)
	now, err := os.ReadFile(filepath.Join(dir, ".git", "index"))
	require.NoError(t, err)
	require.Equal(t, index, now)
	run(t, dir, "-c", "filter.y.required=false", "-c", "filter.y.process=", "status") // it would otherwise
	require.FileExists(t, trace)
}

func TestTheRevisionAndWhetherTheFilesAreCommitted(t *testing.T) {
	t.Setenv("GIT_CONFIG_GLOBAL", "/dev/null")
	t.Setenv("GIT_CONFIG_SYSTEM", "/dev/null")
	t.Setenv("GIT_CEILING_DIRECTORIES", os.TempDir())
	outside := t.TempDir()
	revision, clean := checkedOut(t, outside)
	require.Empty(t, revision)
	require.False(t, clean)
	require.Empty(t, gitrepo.User(outside))

	dir := t.TempDir()
	require.NoError(t, marrowick.Write(dir, true))
	first, clean := checkedOut(t, dir)
	require.Len(t, first, 40)
	require.True(t, clean)
	require.Equal(t, "Farah Linden <farah.linden@marrowick.example>", gitrepo.User(dir))

	// The example has the same history wherever and whenever it is made.
	other := t.TempDir()
	require.NoError(t, marrowick.Write(other, true))
	again, _ := checkedOut(t, other)
	require.Equal(t, first, again)

	require.Nil(t, gitrepo.Changed(outside, first))
	require.Nil(t, gitrepo.Changed(dir, ""))
	require.Empty(t, gitrepo.Changed(dir, first))

	// Plans, exports and notes are no part of the desired state; a file of it is.
	require.NoError(t, os.WriteFile(filepath.Join(dir, "notes.txt"), []byte("x"), 0o644))
	_, clean = checkedOut(t, dir)
	require.True(t, clean)
	for _, name := range []string{"kits/new.yaml", "pravet.yaml"} {
		dirty := t.TempDir()
		require.NoError(t, marrowick.Write(dirty, true))
		f, err := os.OpenFile(filepath.Join(dirty, name), os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644)
		require.NoError(t, err)
		_, err = f.WriteString("# a line\n")
		require.NoError(t, err)
		require.NoError(t, f.Close())
		_, clean = checkedOut(t, dirty)
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
