//go:build unix

package main_test

import (
	"bufio"
	"bytes"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/testscript"
	"github.com/stretchr/testify/require"
	"github.com/zeebo/blake3"

	"pravet/examples/marrowick"
	"pravet/internal/core/plan"
	"pravet/internal/ledger"
	"pravet/internal/prepared"
)

// program is where the built program is; every script runs it as a user would.
// Its clock stands still, on the morning of the example, unless a test sets the
// variable CLOCK; released is the program with the machine's clock.
var program, released string

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "pravet-bin-")
	if err != nil {
		panic(err)
	}
	program, released = filepath.Join(dir, "pravet"), filepath.Join(dir, "released")
	for to, from := range map[string]string{program: "./testdata/clocked", released: "."} {
		build := exec.Command("go", "build", "-trimpath", "-ldflags", "-X main.version=v0.0.0-test", "-o", to, from)
		build.Env = append(os.Environ(), "CGO_ENABLED=0")
		if out, err := build.CombinedOutput(); err != nil {
			panic(fmt.Sprintf("%v: %s", err, out))
		}
	}
	os.Setenv("CLOCK", marrowick.Today.UTC().Format(time.RFC3339))
	code := m.Run()
	os.RemoveAll(dir)
	if err := prepared.Remove(); err != nil {
		panic(err)
	}
	os.Exit(code)
}

// TestScripts runs the scripts in testdata/script, each in a folder of its own.
// Besides testscript's commands they have those of the functions below.
func TestScripts(t *testing.T) {
	testscript.Run(t, testscript.Params{
		Dir: "testdata/script",
		// UPDATE=1 go test ./cmd/pravet writes the expected output anew; read it.
		UpdateScripts: os.Getenv("UPDATE") != "",
		Setup: func(e *testscript.Env) error {
			e.Setenv("PATH", filepath.Dir(program)+string(os.PathListSeparator)+os.Getenv("PATH"))
			e.Setenv("HOME", e.WorkDir)
			e.Setenv("GIT_CONFIG_SYSTEM", "/dev/null")
			e.Setenv("NO_COLOR", "")
			e.Setenv("NAME", "userName={join: [First name, Last name], with: \".\", case: lower, plain: true}")
			e.Setenv("SHOWN", "displayName={join: [First name, Last name], with: \" \"}")
			e.Setenv("CLOCK", os.Getenv("CLOCK"))
			schedule, err := filepath.Abs("../../examples/schedule")
			if err != nil {
				return err
			}
			e.Setenv("SCHEDULE", schedule)
			return nil
		},
		Cmds: map[string]func(*testscript.TestScript, bool, []string){
			"exits": exits, "marrowick": marrowickRepo, "replace": replace, "bytes": writeBytes, "big": big,
			"lock": lock, "appends": appends,
			"plan-id": planID, "change-id": changeID, "same": same, "sql": sql, "full-disk": fullDisk,
			"plays": plays, "read-only": readOnly, "unmount": unmount, "forge": forge, "mode": mode, "fifo": fifo,
		},
	})
}

// plays VAR DIR ARG ...: stand-ins are served from a repository until the script ends, by
// pravet standin serve ARG ...; VAR is the host and the port that they are at.
func plays(ts *testscript.TestScript, _ bool, args []string) {
	cmd := exec.Command(program, slices.Concat([]string{"standin", "serve", "--at", "127.0.0.1:0"}, args[2:])...)
	cmd.Dir = ts.MkAbs(args[1])
	cmd.Env = append(os.Environ(), "HOME="+ts.Getenv("HOME"), "CLOCK="+ts.Getenv("CLOCK"), "TOKEN="+ts.Getenv("TOKEN"))
	said, err := cmd.StderrPipe()
	ts.Check(err)
	ts.Check(cmd.Start())
	ts.Defer(func() {
		_ = cmd.Process.Signal(os.Interrupt)
		_ = cmd.Wait()
	})
	line, err := bufio.NewReader(said).ReadString('\n')
	ts.Check(err)
	_, at, ok := strings.Cut(line, "is played at http://")
	if !ok {
		ts.Fatalf("%s", line)
	}
	ts.Setenv(args[0], strings.SplitN(at, "/", 2)[0])
}

// exits STATUS COMMAND ...: the command ends with that status.
func exits(ts *testscript.TestScript, _ bool, args []string) {
	want, err := strconv.Atoi(args[0])
	ts.Check(err)
	got := 0
	if err := ts.Exec(args[1], args[2:]...); err != nil {
		var exit *exec.ExitError
		if !errors.As(err, &exit) {
			ts.Fatalf("%v", err)
		}
		got = exit.ExitCode()
	}
	if got != want {
		ts.Fatalf("exit status %d, want %d", got, want)
	}
}

// marrowick DIR: the example's repository, with Git history.
func marrowickRepo(ts *testscript.TestScript, _ bool, args []string) {
	ts.Check(prepared.Marrowick.Copy(ts.MkAbs(args[0])))
}

// appends FILE OTHER: the content of another file comes at the end of a file.
func appends(ts *testscript.TestScript, _ bool, args []string) {
	file := ts.MkAbs(args[0])
	ts.Check(os.WriteFile(file, []byte(ts.ReadFile(args[0])+ts.ReadFile(args[1])), 0o644))
}

// replace FILE OLD NEW: the first OLD of a file becomes NEW; \n, \t and \" are
// read as in Go.
func replace(ts *testscript.TestScript, _ bool, args []string) {
	file := ts.MkAbs(args[0])
	data, err := os.ReadFile(file)
	ts.Check(err)
	before, after := unquote(ts, args[1]), unquote(ts, args[2])
	if !strings.Contains(string(data), before) {
		ts.Fatalf("%s has no %q", args[0], before)
	}
	ts.Check(os.WriteFile(file, []byte(strings.Replace(string(data), before, after, 1)), 0o644))
}

func unquote(ts *testscript.TestScript, s string) string {
	out, err := strconv.Unquote(`"` + strings.ReplaceAll(s, `"`, `\"`) + `"`)
	ts.Check(err)
	return out
}

// bytes FILE TEXT: a file with these bytes, written as in Go ("\xff").
func writeBytes(ts *testscript.TestScript, _ bool, args []string) {
	ts.Check(os.WriteFile(ts.MkAbs(args[0]), []byte(unquote(ts, args[1])), 0o644))
}

// big FILE MEGABYTES BEFORE AFTER: a file with one line of that length.
func big(ts *testscript.TestScript, _ bool, args []string) {
	n, err := strconv.Atoi(args[1])
	ts.Check(err)
	f, err := os.Create(ts.MkAbs(args[0]))
	ts.Check(err)
	_, err = f.WriteString(unquote(ts, args[2]))
	ts.Check(err)
	for range n {
		_, err := f.Write(bytes.Repeat([]byte{'x'}, 1<<20))
		ts.Check(err)
	}
	_, err = f.WriteString(unquote(ts, args[3]))
	ts.Check(err)
	ts.Check(f.Close())
}

// lock DIR: someone else holds the repository's lock until the script ends.
func lock(ts *testscript.TestScript, _ bool, args []string) {
	now := func() time.Time { return time.Date(2026, 11, 24, 9, 0, 0, 0, time.UTC) }
	l, err := ledger.Open(ts.MkAbs(args[0]), ledger.Options{By: "Leonie Marsh", Now: now})
	ts.Check(err)
	release, err := l.Lease("apply abcdefgh")
	ts.Check(err)
	ts.Defer(func() { _ = release(); _ = l.Close() })
}

// plan-id VAR DIR: the id of the newest plan of a repository.
func planID(ts *testscript.TestScript, _ bool, args []string) {
	files, err := filepath.Glob(filepath.Join(ts.MkAbs(args[1]), "plans", "*.json"))
	ts.Check(err)
	var newest time.Time
	for _, f := range files {
		info, err := os.Stat(f)
		ts.Check(err)
		if !info.ModTime().Before(newest) {
			newest = info.ModTime()
			ts.Setenv(args[0], strings.TrimSuffix(filepath.Base(f), ".json"))
		}
	}
	if newest.IsZero() {
		ts.Fatalf("there is no plan")
	}
}

// change-id VAR DIR PLAN FILTER: the id of the one change that a filter finds.
func changeID(ts *testscript.TestScript, _ bool, args []string) {
	cmd := exec.Command(program, "show", args[2], "--only", args[3], "--format", "csv")
	cmd.Dir = ts.MkAbs(args[1])
	out, err := cmd.Output()
	ts.Check(err)
	lines := strings.Split(strings.TrimSpace(string(out)), "\r\n")
	if len(lines) != 2 {
		ts.Fatalf("%d changes fit %s", len(lines)-1, args[3])
	}
	id, _, _ := strings.Cut(lines[1], ",")
	ts.Setenv(args[0], id)
}

// [!] same FOLDER FOLDER: two folders hold the same files with the same bytes,
// apart from the ledger's.
func same(ts *testscript.TestScript, neg bool, args []string) {
	out, err := exec.Command("diff", "-r", "-x", ".pravet", "-x", ".git", "-x", "plans", ts.MkAbs(args[0]), ts.MkAbs(args[1])).
		CombinedOutput()
	if (err == nil) == neg {
		ts.Fatalf("diff: %v\n%s", err, out)
	}
}

// sql DIR STATEMENT: tampers with a repository's ledger.
func sql(ts *testscript.TestScript, _ bool, args []string) {
	out, err := exec.Command("sqlite3", filepath.Join(ts.MkAbs(args[0]), ".pravet", "ledger.db"), args[1]).
		CombinedOutput()
	if err != nil {
		ts.Fatalf("%v: %s", err, out)
	}
}

// full-disk DIR KIB: a disk of that size is mounted there.
func fullDisk(ts *testscript.TestScript, _ bool, args []string) {
	dir := ts.MkAbs(args[0])
	ts.Check(os.MkdirAll(dir, 0o755))
	if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size="+args[1]+"k", "tmpfs", dir).CombinedOutput(); err != nil {
		ts.Fatalf("a small disk cannot be mounted: %s; run the tests as root", out)
	}
	ts.Defer(func() { _ = exec.Command("umount", "-l", dir).Run() })
}

// read-only DIR: a disk that full-disk has mounted may not be written any more.
func readOnly(ts *testscript.TestScript, _ bool, args []string) {
	if out, err := exec.Command("mount", "-o", "remount,ro", ts.MkAbs(args[0])).CombinedOutput(); err != nil {
		ts.Fatalf("%s", out)
	}
}

// forge PLAN: a plan with all holds taken out, under an id and a digest that fit.
func forge(ts *testscript.TestScript, _ bool, args []string) {
	file := ts.MkAbs(args[0])
	data, err := os.ReadFile(file)
	ts.Check(err)
	p, err := plan.Read(data)
	ts.Check(err)
	for i := range p.Changes {
		p.Changes[i].Holds = nil
	}
	p.Totals = plan.Count(p.Changes)
	sealed, err := p.Seal()
	ts.Check(err)
	ts.Check(os.WriteFile(filepath.Join(filepath.Dir(file), p.ID+".json"), sealed.Bytes(), 0o600))
	ts.Setenv("FORGED", p.ID)
}

// mode MODE FILE: a file has these permissions.
func mode(ts *testscript.TestScript, _ bool, args []string) {
	info, err := os.Stat(ts.MkAbs(args[1]))
	ts.Check(err)
	if got := fmt.Sprintf("%o", info.Mode().Perm()); got != args[0] {
		ts.Fatalf("%s has the mode %s", args[1], got)
	}
}

// fifo FILE: a pipe that nobody writes to.
func fifo(ts *testscript.TestScript, _ bool, args []string) {
	ts.Check(syscall.Mkfifo(ts.MkAbs(args[0]), 0o644))
}

// unmount DIR: takes such a disk away.
func unmount(ts *testscript.TestScript, _ bool, args []string) {
	if out, err := exec.Command("umount", "-l", ts.MkAbs(args[0])).CombinedOutput(); err != nil {
		ts.Fatalf("%s", out)
	}
}

// TestProgramIsStaticAndSmall keeps the promises of the README.
func TestProgramIsStaticAndSmall(t *testing.T) {
	info, err := os.Stat(released)
	require.NoError(t, err)
	require.Less(t, info.Size(), int64(56<<20))
	out, _ := exec.Command("ldd", released).CombinedOutput() // fails for a static released
	require.Contains(t, string(out), "not a dynamic executable")
}

// TestTwoRunsAtOnce starts two runs of one plan together: each change is
// carried out once, and the run that comes second says who is at it, or finds
// nothing left to do.
func TestTwoRunsAtOnce(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "repo")
	require.NoError(t, prepared.Bare.Copy(dir))
	require.NoError(t, command(dir, "draft", "--on", "2026-11-24").Run())
	plans, err := filepath.Glob(filepath.Join(dir, "plans", "*.json"))
	require.NoError(t, err)
	require.Len(t, plans, 1)
	var wait [2]*exec.Cmd
	var out [2]bytes.Buffer
	for i := range wait {
		wait[i] = command(dir, "apply", plans[0], "--yes")
		wait[i].Stdout, wait[i].Stderr = &out[i], &out[i]
		require.NoError(t, wait[i].Start())
	}
	settled := 0
	for i := range wait {
		_ = wait[i].Wait() // the status tells of held changes
		text := out[i].String()
		switch {
		case strings.Contains(text, "29 changes settled, 0 not settled"):
			settled++
		case strings.Contains(text, "holds the lock of this repository since"),
			strings.Contains(text, "nothing to carry out"):
		default:
			t.Errorf("unexpected: %s", text)
		}
	}
	require.Equal(t, 1, settled)
}

func command(dir string, args ...string) *exec.Cmd {
	cmd := exec.Command(program, append([]string{"--by", "Farah Linden"}, args...)...)
	cmd.Dir = dir
	return cmd
}

// TestAKilledRunIsFinishedByTheNext kills runs at any moment. Each file is then as
// it is before or after one of the steps, and running the plan again ends where an
// undisturbed run does.
func TestAKilledRunIsFinishedByTheNext(t *testing.T) {
	start := filepath.Join(t.TempDir(), "start")
	require.NoError(t, prepared.Bare.Copy(start))
	require.NoError(t, command(start, "draft", "--on", "2026-11-24").Run())
	plans, err := filepath.Glob(filepath.Join(start, "plans", "*.json"))
	require.NoError(t, err)
	require.Len(t, plans, 1)
	id := strings.TrimSuffix(filepath.Base(plans[0]), ".json")

	whole := copyRepo(t, start)
	_ = command(whole, "apply", id, "--yes").Run() // the status tells of held changes
	want := exports(t, whole)
	states := contents(t, whole)

	killed := 0
	for i := range 40 {
		dir := copyRepo(t, start)
		run := command(dir, "apply", id, "--yes")
		require.NoError(t, run.Start())
		time.Sleep(time.Duration(i) * 3 * time.Millisecond)
		require.NoError(t, run.Process.Kill())
		if run.Wait() != nil && !run.ProcessState.Exited() {
			killed++
		}
		for name, content := range exports(t, dir) {
			sum := blake3.Sum256([]byte(content))
			require.Contains(
				t,
				states["exports/"+name],
				"blake3:"+hex.EncodeToString(sum[:]),
				"%s after %d ms",
				name,
				i*3,
			)
		}
		out, _ := command(dir, "apply", id, "--yes").CombinedOutput()
		require.Equal(t, want, exports(t, dir), "%s", out)
		left, err := os.ReadDir(filepath.Join(dir, "exports"))
		require.NoError(t, err)
		require.Len(t, left, 5, "what the killed run had beside the files is gone")
		verified, err := command(dir, "log", "verify").CombinedOutput()
		require.NoError(t, err, "%s", verified)
		settled, err := command(dir, "log", "--kind", "outcome", "--format", "csv").Output()
		require.NoError(t, err)
		require.GreaterOrEqual(t, strings.Count(string(settled), "settled: "), 29)
		for _, line := range strings.Split(string(settled), "\n") {
			if strings.Contains(line, "not settled") {
				require.Contains(t, line, "the run was cut off before this was carried out")
			}
		}
	}
	require.Greater(t, killed, 5, "the runs were over before they were killed")
}

// contents are the digests of all that each file has held, before, between and
// after the steps of a run, as the ledger has them.
func contents(t *testing.T, dir string) map[string][]string {
	data, err := command(dir, "log", "--kind", "step", "--format", "json").Output()
	require.NoError(t, err)
	var entries []struct {
		Body struct {
			Journal []struct{ Path, Before, After string }
		}
	}
	require.NoError(t, json.Unmarshal(data, &entries))
	out := map[string][]string{}
	for _, e := range entries {
		for _, f := range e.Body.Journal {
			out[f.Path] = append(out[f.Path], f.Before, f.After)
		}
	}
	return out
}

func copyRepo(t *testing.T, from string) string {
	to := filepath.Join(t.TempDir(), "repo")
	require.NoError(t, exec.Command("cp", "-rp", from, to).Run())
	return to
}

// exports returns the contents of a repository's exports by name.
func exports(t *testing.T, dir string) map[string]string {
	out := map[string]string{}
	for _, name := range []string{"berths.json", "rosters.csv", "tickets.csv"} {
		data, err := os.ReadFile(filepath.Join(dir, "exports", name))
		require.NoError(t, err)
		out[name] = string(data)
	}
	return out
}

// TestAFileThatMayNotBeRead is told apart from one that is not there. Root may
// read everything, so root runs the program as somebody else.
func TestAFileThatMayNotBeRead(t *testing.T) {
	base, err := os.MkdirTemp("", "pravet-unreadable-")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(base) })
	dir := filepath.Join(base, "repo")
	require.NoError(t, prepared.Bare.Copy(dir))
	require.NoError(t, exec.Command("cp", program, filepath.Join(base, "pravet")).Run())
	require.NoError(t, exec.Command("chmod", "-R", "a+rwX", base).Run())
	run := func(args ...string) string {
		cmd := exec.Command(filepath.Join(base, "pravet"), append([]string{"--by", "x"}, args...)...)
		cmd.Dir = dir
		if os.Getuid() == 0 {
			cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
		}
		out, err := cmd.CombinedOutput()
		var exit *exec.ExitError
		require.ErrorAs(t, err, &exit)
		require.Equal(t, 1, exit.ExitCode(), "%s", out)
		return string(out)
	}
	for _, c := range []struct {
		file string
		args []string
	}{
		{"people/ashore.csv", []string{"check"}},
		{"kits/afloat.yaml", []string{"check"}},
		{"pravet.yaml", []string{"check"}},
		{"exports/berths.json", []string{"draft", "--on", "2026-11-24"}},
		{"exports/tickets.csv", []string{"draft", "--on", "2026-11-24"}},
		{"exports/tickets-profiles.csv", []string{"draft", "--on", "2026-11-24"}},
		{"exports/tickets-profiles.csv", []string{"why", "E0042"}},
		{"people/ashore.csv", []string{"why", "E0042"}},
		{"people/ashore.csv", []string{"list", "people"}},
		{"exports/tickets.csv", []string{"list", "strays"}},
		{"apps/tickets.yaml", []string{"holders", "tickets/role/seller"}},
		{"exports/tickets.csv", []string{"holders", "tickets/role/seller"}},
		{"exports/tickets.csv", []string{"seats"}},
		{"people/ashore.csv", []string{"seats", "--ahead", "P1M"}},
		{"kits/ashore.yaml", []string{"check", "--rules"}},
	} {
		file := c.file
		require.NoError(t, os.Chmod(filepath.Join(dir, file), 0))
		out := run(c.args...)
		require.Contains(t, out, file)
		require.Contains(t, out, "it may not be read")
		require.Contains(t, out, "give yourself the permission to read it")
		require.NoError(t, os.Chmod(filepath.Join(dir, file), 0o644))
	}
	// So for every command that reads a plan, and those that read the ledger.
	draft := exec.Command(
		filepath.Join(base, "pravet"),
		"draft",
		"--repo",
		dir,
		"--on",
		"2026-11-24",
		"--out",
		filepath.Join(dir, "plan.json"),
	)
	require.NoError(t, draft.Run())
	require.NoError(t, exec.Command("chmod", "-R", "a+rwX", base).Run())
	require.NoError(t, os.Chmod(filepath.Join(dir, "plan.json"), 0))
	for _, args := range [][]string{
		{"show"}, {"accept", "--because", "x"}, {"reject", "--because", "x"}, {"apply", "--yes"},
	} {
		require.Contains(t, run(append(args, "plan.json")...), "plan.json: it may not be read")
	}
	require.NoError(t, os.Chmod(filepath.Join(dir, ".pravet", "ledger.db"), 0))
	for _, args := range [][]string{{"log"}, {"log", "verify"}, {"draft", "--on", "2026-11-24"}} {
		require.Contains(t, run(args...), "the ledger cannot be used")
	}
	// Nor is anything written where it may not be.
	require.NoError(t, os.Chmod(dir, 0o555))
	require.NoError(t, os.RemoveAll(filepath.Join(dir, ".pravet")))
	require.Contains(t, run("draft", "--on", "2026-11-24"), "permission denied")
}
