//go:build linux

package main_test

import (
	"bytes"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"pravet/internal/prepared"
)

// writingCalls are the calls to the system by which something is written.
const writingCalls = "write,pwrite64,fsync,fdatasync,ftruncate,fallocate,mkdirat,renameat,renameat2,unlinkat,fchmod,fchmodat,utimensat"

// A fault is what goes wrong at one call to the system, counted for each thread.
type fault struct {
	name   string
	inject string // for strace, with %d for n; "" for a limit of %d KiB for each file, which cuts writes short
	limit  bool
}

var someFaults = []fault{
	{name: "killed", inject: writingCalls + ":signal=KILL:when=%d"},
	{name: "the disk is full from then on", inject: "write,pwrite64,mkdirat,fallocate,ftruncate:error=ENOSPC:when=%d+"},
	{name: "input/output error", inject: writingCalls + ":error=EIO:when=%d"},
	{name: "interrupted call", inject: "openat,read,pread64,write,fsync:error=EINTR:when=%d"},
	{name: "short writes", limit: true},
}

// TestAFaultAtAnyCallHarmsNothing: each command that writes is killed, or something goes wrong for it, at one call to
// the system after the other. After that the files pass, the ledger is whole, and the same command again ends where an
// undisturbed one does. KILLS=all tries every call.
func TestAFaultAtAnyCallHarmsNothing(t *testing.T) {
	if out, err := exec.Command("strace", "-f", "-o", os.DevNull, "true").CombinedOutput(); err != nil {
		t.Skipf("this machine does not let one program look at the calls of another: %v %s", err, out)
	}
	base := filepath.Join(t.TempDir(), "base")
	require.NoError(t, prepared.Bare.Copy(base))
	for name, text := range map[string]string{
		"exports/slips.csv": "Login,Full name,Mail,State,Team\nfarah.linden,Farah Linden,farah.linden@marrowick.example,Open,Slipway\n" +
			"oskar.nyman,Oskar Nyman,oskar.nyman@marrowick.example,Open,Slipway\n",
		"joiners.csv": "id,userName,displayName,email,department,title\nE9001,nils.aker,Nils Aker,nils.aker@marrowick.example,Planning,Planner\n" +
			"E9002,rut.holm,Rut Holm,rut.holm@marrowick.example,Planning,Planner\n",
		"outbox/keep": "",
	} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(base, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(base, name), []byte(text), 0o644))
	}
	root := filepath.Join(base, "pravet.yaml")
	data, err := os.ReadFile(root)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(root, append(data, "\nletters: {from: a@marrowick.example, readers: [{who: administrators, "+
		"to: [ops@marrowick.example]}], by: [{folder: outbox}]}\n"...), 0o644))
	status, out := in(t, base, "draft", "--out", "plan.json", "--on", "2026-11-24")
	require.Zero(t, status, out)
	done := copyRepo(t, base) // of which letters are due
	status, out = in(t, done, "apply", "plan.json", "--yes")
	require.Contains(t, []int{0, 3, 4}, status, out)
	require.NoError(t, exec.Command("sh", "-c", "rm -f "+filepath.Join(done, "outbox", "*.eml")).Run())
	status, out = in(t, done, "amend", "end", "2026-11-26", "--for", "E0042", "--write")
	require.Zero(t, status, out)

	for _, c := range []struct {
		name, from string
		args       []string
	}{
		{"draft", base, []string{"draft", "--on", "2026-11-24"}},
		{"apply", base, []string{"apply", "plan.json", "--yes"}},
		{"reject", base, []string{"reject", "plan.json", "--only", `app eq "tickets"`, "--because", "not yet"}},
		{"standing", base, []string{
			"reject", "plan.json", "--only", `person eq "E0042"`, "--standing", "--because", "not yet",
		}},
		{"amend", base, []string{"amend", "set", "title=Mate", "--for", "E0042,C0301", "--write"}},
		{"adopt", base, []string{"adopt", "--app", "slips", "exports/slips.csv", "--yes-above", "50", "--write"}},
		{"intake", base, []string{"intake", "joiners.csv", "--into", "people/ashore.csv", "--save", "joiners", "--write"}},
	} {
		whole := copyRepo(t, c.from)
		status, out := in(t, whole, c.args...)
		require.Contains(t, []int{0, 4}, status, "%s: %s", c.name, out)
		old, want := files(t, c.from), files(t, whole)
		if c.name != "draft" && c.name != "reject" {
			require.NotEqual(t, old, want, c.name)
		}
		for _, f := range someFaults {
			t.Run(c.name+" "+f.name, func(t *testing.T) {
				t.Parallel()
				hits := 0
				for _, n := range whichCalls(f) {
					repo := copyRepo(t, c.from)
					said, hit := f.run(t, repo, n, c.args)
					if !hit && !f.limit {
						break
					}
					hits++
					why := fmt.Sprintf("%s at %d: %s", f.name, n, said)
					if strings.Contains(said, "netpollBreak write failed") {
						said = "" // the fault met what the language does for itself, which ends the process: it is a kill
					}
					require.NotContains(t, said, "goroutine ", why)
					for _, bad := range []string{"(4874)", "disk I/O error", "no space left", "SQL logic"} {
						require.NotContains(t, said, bad, why)
					}
					status, out := in(t, repo, "check")
					require.Zero(t, status, "%s\nthen check: %s", why, out)
					if _, err := os.Stat(filepath.Join(repo, ".pravet", "ledger.db")); err == nil {
						status, out = in(t, repo, "log", "verify")
						require.Zero(t, status, "%s\nthen: %s", why, out)
					}
					is := files(t, repo)
					if c.name != "apply" { // whose steps are many
						require.True(t, maps.Equal(is, old) || maps.Equal(is, want), "%s\nall or nothing: %s", why, differ(is, old, want))
					}
					_, again := in(t, repo, c.args...)
					require.True(t, maps.Equal(files(t, repo), want), "%s\nthen check: %s\nthen again: %s\n%s", why, out, again, differ(files(t, repo), old, want))
					require.Empty(t, leftovers(t, repo), why)
				}
				require.Positive(t, hits)
			})
		}
	}
}

// whichCalls are the calls at which something goes wrong.
func whichCalls(f fault) (out []int) {
	for n := 1; n < 400; n++ {
		if os.Getenv("KILLS") == "all" || n == 2 || n == 5 || n == 9 || n == 16 {
			out = append(out, n)
		}
	}
	return out
}

// run runs a command with the fault, and reports whether it had an effect.
func (f fault) run(t *testing.T, repo string, n int, args []string) (said string, hit bool) {
	t.Helper()
	trace := filepath.Join(t.TempDir(), "trace")
	args = append([]string{"--by", "Farah Linden"}, args...)
	var cmd *exec.Cmd
	if f.limit {
		cmd = exec.Command("sh", append([]string{"-c", fmt.Sprintf(`ulimit -f %d; exec "$@"`, n), "sh", program}, args...)...)
	} else {
		cmd = exec.Command("strace", append([]string{"-f", "-qq", "-o", trace, "-e", "trace=" + strings.SplitN(f.inject, ":", 2)[0],
			"-e", "inject=" + fmt.Sprintf(f.inject, n), program}, args...)...)
	}
	cmd.Dir, cmd.Env = repo, append(os.Environ(), "HOME="+repo, "NO_COLOR=1")
	var b bytes.Buffer
	cmd.Stdout, cmd.Stderr = &b, &b
	err := cmd.Run()
	if cmd.ProcessState == nil {
		require.NoError(t, err)
	}
	if f.limit {
		return b.String(), err != nil
	}
	data, err := os.ReadFile(trace)
	require.NoError(t, err)
	return b.String(), bytes.Contains(data, []byte("INJECTED")) || bytes.Contains(data, []byte("+++ killed by SIGKILL"))
}

// files are those of a repository that a person or an application reads.
func files(t *testing.T, repo string) map[string]string {
	t.Helper()
	out := map[string]string{}
	for _, name := range []string{"pravet.yaml", "standing.yaml", "people", "apps", "kits", "paths", "exports"} {
		err := filepath.WalkDir(filepath.Join(repo, name), func(path string, d fs.DirEntry, err error) error {
			if os.IsNotExist(err) {
				return nil
			}
			if err != nil || !d.Type().IsRegular() || strings.HasPrefix(d.Name(), ".") {
				return err
			}
			data, err := os.ReadFile(path)
			rel, _ := filepath.Rel(repo, path) // it is below
			out[rel] = string(data)
			return err
		})
		require.NoError(t, err)
	}
	return out
}

// differ names the files that are neither as before nor as they are to be, and those that are not as they are to be.
func differ(is, old, want map[string]string) (out string) {
	for name := range want {
		if is[name] != want[name] {
			out += fmt.Sprintf("%s is not as it is to be, and as before: %t; ", name, is[name] == old[name])
		}
	}
	for name := range is {
		if _, ok := want[name]; !ok {
			out += name + " is too many; "
		}
	}
	return out
}

// leftovers are files that a process has left half done, in the folders that the command has written to again.
func leftovers(t *testing.T, repo string) (out []string) {
	t.Helper()
	require.NoError(t, filepath.WalkDir(repo, func(path string, d fs.DirEntry, err error) error {
		if err == nil && (d.Name() == "rewrite.json" || strings.HasSuffix(d.Name(), ".json.new")) {
			out = append(out, path)
		}
		return err
	}))
	return out
}
