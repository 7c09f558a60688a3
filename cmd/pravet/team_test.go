//go:build unix

package main_test

import (
	"bytes"
	"context"
	"encoding/csv"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"pravet/internal/prepared"
	"pravet/internal/standin"
)

// A team has one record in a database, and a clone each.
type team struct {
	t        *testing.T
	database *standin.Database
	stop     func() error // the database
	origin   string
	env      []string
}

// newTeam makes the record of a team, and a repository of the example that names it.
func newTeam(t *testing.T, more ...string) *team {
	t.Helper()
	folder, err := os.MkdirTemp("", "pravet-pg-") // whose folders other users may enter
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, os.RemoveAll(folder)) })
	s, err := standin.StartDatabase(context.Background(), folder)
	require.NoError(t, err)
	stop := sync.OnceValue(s.Stop)
	t.Cleanup(func() { require.NoError(t, stop()) })
	x := &team{t: t, database: s, stop: stop, origin: filepath.Join(t.TempDir(), "origin"), env: []string{"LEDGER_PASSWORD=let me add", "OWNER_PASSWORD=" + s.Password}}
	require.NoError(t, prepared.Marrowick.Copy(x.origin))
	x.sql("CREATE ROLE adder LOGIN PASSWORD 'let me add'")
	x.edit("pravet.yaml", fmt.Sprintf("\nledger: {url: %s, user: adder, password: env:LEDGER_PASSWORD}\n", s.URL)+strings.Join(more, ""))
	x.git(x.origin, "add", ".")
	x.git(x.origin, "commit", "--quiet", "-m", "The record of a team")
	status, out := x.as(x.origin, "Farah Linden", "ledger", "grant", "--run", "--user", s.User, "--password", "env:OWNER_PASSWORD")
	require.Zero(t, status, out)
	return x
}

// edit adds to a file of the repository that everybody clones.
func (x *team) edit(file, text string) {
	f, err := os.OpenFile(filepath.Join(x.origin, file), os.O_APPEND|os.O_WRONLY|os.O_CREATE, 0o644)
	require.NoError(x.t, err)
	_, err = f.WriteString(text)
	require.NoError(x.t, err)
	require.NoError(x.t, f.Close())
}

func (x *team) git(dir string, args ...string) string {
	x.t.Helper()
	out, err := exec.Command("git", append([]string{"-C", dir}, args...)...).CombinedOutput()
	require.NoError(x.t, err, "%v: %s", args, out)
	return strings.TrimSpace(string(out))
}

func (x *team) sql(statements ...string) {
	x.t.Helper()
	require.NoError(x.t, x.database.Run(context.Background(), statements...))
}

// clone clones the repository; each clone is another machine's, and has what that remembers.
func (x *team) clone() string {
	dir := filepath.Join(x.t.TempDir(), "repo")
	x.git(filepath.Dir(dir), "clone", "--quiet", x.origin, dir)
	out, err := exec.Command("cp", "-a", filepath.Join(x.origin, "exports"), dir).CombinedOutput() // which Git does not keep
	require.NoError(x.t, err, "%s", out)
	x.git(dir, "config", "user.name", "Farah Linden")
	x.git(dir, "config", "user.email", "farah@marrowick.example")
	return dir
}

// as runs the program in a clone, as somebody.
func (x *team) as(dir, by string, args ...string) (status int, out string) {
	x.t.Helper()
	if args[0] != "log" { // which has a --by of its own
		args = append([]string{"--by", by}, args...)
	}
	cmd := exec.Command(program, args...)
	cmd.Dir, cmd.Env = dir, append(append(os.Environ(), "HOME="+filepath.Dir(dir), "NO_COLOR=1"), x.env...)
	var b bytes.Buffer
	cmd.Stdout, cmd.Stderr = &b, &b
	err := cmd.Run()
	if cmd.ProcessState == nil {
		require.NoError(x.t, err)
	}
	return cmd.ProcessState.ExitCode(), b.String()
}

func (x *team) well(dir, by string, args ...string) string {
	x.t.Helper()
	status, out := x.as(dir, by, args...)
	require.Zero(x.t, status, "%v: %s", args, out)
	return out
}

// ids are the ids of the changes of a plan that a filter matches, as somebody is shown them.
func (x *team) ids(dir, plan, only string) (ids []string) {
	x.t.Helper()
	cmd := exec.Command(program, "show", plan, "--only", only, "--format", "csv")
	cmd.Dir, cmd.Env = dir, append(append(os.Environ(), "HOME="+filepath.Dir(dir)), x.env...)
	data, err := cmd.Output()
	require.NoError(x.t, err)
	rows, err := csv.NewReader(bytes.NewReader(data)).ReadAll()
	require.NoError(x.t, err)
	at := slices.Index(rows[0], "id")
	require.NotEqual(x.t, -1, at, "%v", rows[0])
	for _, row := range rows[1:] {
		ids = append(ids, row[at])
	}
	slices.Sort(ids)
	return ids
}

// planOf is the id of the only plan in a clone.
func planOf(t *testing.T, dir string) string {
	files, err := filepath.Glob(filepath.Join(dir, "plans", "*.json"))
	require.NoError(t, err)
	require.Len(t, files, 1)
	return strings.TrimSuffix(filepath.Base(files[0]), ".json")
}

// TestTwoClonesHaveOneRecord: what one administrator decides counts for the other, who finds the plan by its id; waits go on
// and do not begin anew; and who is without the record decides nothing.
func TestTwoClonesHaveOneRecord(t *testing.T) {
	x := newTeam(t)
	first, second := x.clone(), x.clone()
	x.well(first, "Farah Linden", "draft")
	id := planOf(t, first)
	require.NoDirExists(t, filepath.Join(second, "plans"))

	open := x.ids(second, id, `decision eq "undecided"`)
	require.NotEmpty(t, open)
	x.well(second, "Runa Skerry", "reject", id, open[0], "--because", "she stays on the boats")
	require.Contains(t, x.ids(first, id, `decision eq "rejected"`), open[0])
	require.Equal(t, x.ids(first, id, `decision eq "undecided"`), x.ids(second, id, `decision eq "undecided"`))
	x.well(second, "Runa Skerry", "draft")
	require.NotContains(t, x.ids(second, planOf(t, second), `decision eq "undecided"`), open[0])

	require.NoFileExists(t, filepath.Join(first, ".pravet", "ledger.db"))
	require.Contains(t, x.well(first, "Farah Linden", "log"), "Runa Skerry")
	require.Equal(t, x.well(first, "Farah Linden", "log", "verify"), x.well(second, "Runa Skerry", "log", "verify"))

	// The files of another commit: which one the plan is of is said.
	commit := x.git(first, "rev-parse", "HEAD")
	third := x.clone()
	require.NoError(t, os.WriteFile(filepath.Join(third, "people", "more.csv"), []byte("id,userName\nX9,x9\n"), 0o644))
	x.git(third, "add", ".")
	x.git(third, "commit", "--quiet", "-m", "One more")
	status, out := x.as(third, "Leonie Marsh", "accept", id, "--because", "as agreed")
	require.Equal(t, 1, status, out)
	require.Contains(t, out, "git checkout "+commit)
	require.Contains(t, x.well(third, "Leonie Marsh", "show", id), id[:4])

	// Without the record, questions that need none are answered.
	require.NoError(t, x.stop())
	status, out = x.as(second, "Runa Skerry", "reject", id, "--because", "no")
	require.Equal(t, 1, status, out)
	require.Contains(t, out, "the record cannot be reached")
	require.Contains(t, out, "Nothing is decided or carried out")
	status, out = x.as(second, "Runa Skerry", "apply", id, "--yes")
	require.Equal(t, 1, status, out)
	require.Contains(t, out, "the record cannot be reached")
	status, out = x.as(second, "Runa Skerry", "why", "E0042")
	require.Zero(t, status, out)
	require.Contains(t, out, "answered without it")
	status, out = x.as(second, "Runa Skerry", "log")
	require.Equal(t, 1, status, out)
	require.NotContains(t, out, "let me add")
}
