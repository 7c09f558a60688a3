//go:build unix

package main_test

import (
	"bytes"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/testscript"
	"github.com/stretchr/testify/require"
	"github.com/zeebo/blake3"

	"pravet/examples/marrowick"
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
		build := exec.Command("go", "build", "-ldflags", "-s -w -X main.version=v0.0.0-test", "-o", to, from)
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
		case strings.Contains(text, "is at work in"),
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
