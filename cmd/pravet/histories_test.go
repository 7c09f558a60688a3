//go:build unix

package main_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"pravet/examples/marrowick"
	"pravet/internal/prepared"
)

// write puts files into a folder, with the folders on the way to them.
func write(t *testing.T, dir string, files map[string]string) {
	for name, text := range files {
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
		require.NoError(t, os.Chtimes(path, marrowick.Exported, marrowick.Exported))
	}
}

// run runs a command and returns what it prints and its status.
func run(t *testing.T, dir string, args ...string) (string, int) {
	out, err := command(dir, args...).CombinedOutput()
	if err != nil {
		var exit *exec.ExitError
		require.ErrorAs(t, err, &exit)
		return string(out), exit.ExitCode()
	}
	return string(out), 0
}

// drafted drafts for the example's day and returns the plan's id.
func drafted(t *testing.T, dir string, args ...string) string {
	out, status := run(t, dir, append([]string{"draft", "--on", "2026-11-24"}, args...)...)
	require.Zero(t, status, out)
	_, rest, ok := strings.Cut(out, "Written to plans/")
	require.True(t, ok, out)
	id, _, _ := strings.Cut(rest, ".json")
	return id
}

// TestRejectionsAtOnceAreAllWritten: whoever writes standing.yaml waits for the
// others, and says the same thing once.
func TestRejectionsAtOnceAreAllWritten(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "repo")
	require.NoError(t, prepared.Bare.Copy(dir))
	id := drafted(t, dir)
	out, _ := run(t, dir, "show", id, "--format", "csv", "--only", `app eq "rosters"`)
	var ids []string
	for _, row := range strings.Split(strings.TrimSpace(out), "\r\n")[1:] {
		change, _, _ := strings.Cut(row, ",")
		ids = append(ids, change, change)
	}
	require.Len(t, ids, 14)
	var running []*exec.Cmd
	for _, change := range ids {
		cmd := command(dir, "reject", id, change, "--standing", "--because", "at once")
		require.NoError(t, cmd.Start())
		running = append(running, cmd)
	}
	for _, cmd := range running {
		require.NoError(t, cmd.Wait())
	}
	data, err := os.ReadFile(filepath.Join(dir, "standing.yaml"))
	require.NoError(t, err)
	for _, change := range ids {
		require.Equal(t, 1, strings.Count(string(data), "change: "+change), "%s", data)
	}
	out, status := run(t, dir, "apply", id, "--yes")
	require.Equal(t, 4, status, out)
	require.NotContains(t, out, "rosters: writing")
}

// TestTheFirstStandingRejectionLeavesThePlanInDate: a file that was not there and
// one without lifted guards are the same desired state.
func TestTheFirstStandingRejectionLeavesThePlanInDate(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "repo")
	require.NoError(t, prepared.Bare.Copy(dir))
	require.NoError(t, os.Remove(filepath.Join(dir, "standing.yaml")))
	id := drafted(t, dir)
	out, status := run(t, dir, "reject", id, "--person", "E0118", "--standing", "--because", "not yet")
	require.Zero(t, status, out)
	out, status = run(t, dir, "apply", id, "--yes")
	require.Equal(t, 4, status, out)
	require.Contains(t, out, "0 not settled")
	// Whatever the ledger accepts, the file says no, and all commands say the same.
	out, status = run(t, dir, "accept", id, "--person", "E0118", "--because", "now")
	require.Equal(t, 1, status, out)
	require.Contains(t, out, "standing.yaml rejects")
	out, _ = run(t, dir, "show", id, "--person", "E0118")
	require.NotContains(t, out, "accepted")
	require.Contains(t, out, "rejected")
}

const till = `app: till
export: {format: csv, path: exports/till.csv, columns: {userName: login, email: mail, displayName: name, active: {column: state, true: open, false: blocked}, roles: {column: roles, split: ";"}}}
connect: {by: files}
match: userName
account: {userName: userName, email: email, displayName: displayName}
roles: {seller: {}, lead: {}}
guards: {narrowing: 100%, suspensions: 100%}
`

// TestChangesFollowARename: an account that is renamed by a plan, as its case is
// another one, is found by its new name in the steps after that.
func TestChangesFollowARename(t *testing.T) {
	dir := t.TempDir()
	write(t, dir, map[string]string{
		"pravet.yaml": "organization: A small world\n", "apps/till.yaml": till,
		"people/p.csv":     "id,userName,displayName,email\n1,Ann.Lee,Ann Lee,ann@a.example\n2,bo,Bo,bo@a.example\n",
		"kits/k.yaml":      "kits:\n  desk: {everyone: true, gives: {till: {roles: [seller]}}}\n",
		"exports/till.csv": "login,mail,name,state,roles\nann.lee,old@a.example,Ann Lee,blocked,lead\nbo,bo@a.example,Bo,open,seller\n",
	})
	id := drafted(t, dir)
	out, status := run(t, dir, "apply", id, "--yes")
	require.Zero(t, status, out)
	require.Contains(t, out, "5 changes settled, 0 not settled")
	data, err := os.ReadFile(filepath.Join(dir, "exports/till.csv"))
	require.NoError(t, err)
	require.Contains(t, string(data), "Ann.Lee,ann@a.example,Ann Lee,open,seller\n")
	out, status = run(t, dir, "apply", id, "--yes")
	require.Zero(t, status, out)
	require.Contains(t, out, "5 changes done already")
}

// TestEveryAccountOfSomeoneGoneIsClosed: the second one, too, is suspended, and
// loses what is not due.
func TestEveryAccountOfSomeoneGoneIsClosed(t *testing.T) {
	dir := t.TempDir()
	write(t, dir, map[string]string{
		"pravet.yaml": "organization: A small world\n", "apps/till.yaml": till,
		"people/p.csv":     "id,userName,displayName,email,ends\n1,ann,Ann,ann@a.example,2026-01-31\n2,bo,Bo,bo@a.example,\n",
		"kits/k.yaml":      "kits:\n  desk: {everyone: true, gives: {till: {roles: [seller]}}}\n",
		"exports/till.csv": "login,mail,name,state,roles\nANN,ann@a.example,Ann,open,lead\nann,ann@a.example,Ann,blocked,\nbo,bo@a.example,Bo,open,seller\nBO,bo@a.example,Bo,open,lead;seller\n",
	})
	id := drafted(t, dir)
	out, status := run(t, dir, "apply", id, "--yes")
	require.Zero(t, status, out)
	data, err := os.ReadFile(filepath.Join(dir, "exports/till.csv"))
	require.NoError(t, err)
	require.Contains(t, string(data), "ANN,ann@a.example,Ann,blocked,lead\n")
	require.Contains(t, string(data), "BO,bo@a.example,Bo,open,seller\n", "narrowing reaches the second account")
}
