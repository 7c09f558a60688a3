//go:build unix

package main_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// example is a file of the examples.
func example(t *testing.T, name string) string {
	path, err := filepath.Abs(filepath.Join("..", "..", "examples", name))
	require.NoError(t, err)
	return path
}

// withProgram is an environment in which pravet is the built program.
func withProgram(t *testing.T, home string) []string {
	bin := t.TempDir()
	require.NoError(t, os.Symlink(program, filepath.Join(bin, "pravet")))
	return append(os.Environ(), "PATH="+bin+":"+os.Getenv("PATH"), "HOME="+home, "NO_COLOR=1")
}

// TestAPipeline: a push that does not pass is refused, and one that gives something sensitive without a decider's signature;
// a job drafts in the morning, and another carries out what was decided, and nothing else.
func TestAPipeline(t *testing.T) {
	o := newOffice(t, `decisions: {signed: true, keys: keys/allowed_signers}
deciders: [{changes: app eq "tickets", people: {kit: ticket-administrators}, not: [drafter, subject]}]
letters: {from: pravet@marrowick.example, readers: [{who: deciders}], by: [{folder: outbox}]}
`, "E0061", "E0062")
	require.NoError(t, os.MkdirAll(filepath.Join(o.dir, "outbox"), 0o755))
	home := filepath.Dir(o.dir)
	env := withProgram(t, home)
	git := func(dir string, args ...string) (string, error) {
		cmd := exec.Command("git", append([]string{"-C", dir}, args...)...)
		cmd.Env = env
		out, err := cmd.CombinedOutput()
		return string(out), err
	}
	must := func(dir string, args ...string) {
		t.Helper()
		out, err := git(dir, args...)
		require.NoError(t, err, "%v: %s", args, out)
	}
	bare := filepath.Join(t.TempDir(), "access.git")
	must(o.dir, "branch", "-M", "main")
	must(o.dir, "clone", "--quiet", "--bare", o.dir, bare)
	must(o.dir, "remote", "add", "central", bare)
	hook, err := os.ReadFile(example(t, "pipeline/pre-receive"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(bare, "hooks", "pre-receive"), hook, 0o755))

	change := func(file, from, to, subject string, sign ...string) (string, error) {
		t.Helper()
		path := filepath.Join(o.dir, file)
		data, err := os.ReadFile(path)
		require.NoError(t, err)
		require.Contains(t, string(data), from)
		require.NoError(t, os.WriteFile(path, []byte(strings.Replace(string(data), from, to, 1)), 0o644))
		must(o.dir, append(append([]string{}, sign...), "commit", "--quiet", "-a", "-m", subject)...)
		out, pushed := git(o.dir, "push", "--quiet", "central", "main")
		if pushed != nil {
			must(o.dir, "reset", "--quiet", "--hard", "HEAD~1")
		}
		return out, pushed
	}
	out, err := change("pravet.yaml", "removals: 2", "removals: two", "A slip")
	require.Error(t, err, out)
	require.Contains(t, out, "pravet.yaml")
	out, err = change("pravet.yaml", "removals: 2", "removals: 3", "One more removal")
	require.NoError(t, err, out)
	const add = "      - {person: E0061, because: runs our systems}\n"
	out, err = change("kits/systems.yaml", add, add+"      - {person: E0011, because: helps out}\n", "One more administrator")
	require.Error(t, err, out)
	require.Contains(t, out, "the last commit is to be signed")
	signing := func(id string) []string {
		return []string{"-c", "gpg.format=ssh", "-c", "commit.gpgsign=true", "-c", "user.signingkey=" + o.key(id)}
	}
	require.NoError(t, exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", o.key("stranger")).Run())
	out, err = change("kits/systems.yaml", add, add+"      - {person: E0011, because: helps out}\n", "One more administrator", signing("stranger")...)
	require.Error(t, err, out)
	out, err = change("kits/systems.yaml", add, add+"      - {person: E0011, because: helps out}\n", "One more administrator", signing("E0062")...)
	require.NoError(t, err, out)

	out, err = change("pravet.yaml", ", not: [drafter, subject]", "", "Whoever drafts may decide")
	require.Error(t, err, out)
	require.Contains(t, out, "who decides, and how that is proved, changes; it was:")
	require.Contains(t, out, "the last commit is to be signed")

	out, err = change("pravet.yaml", ", not: [drafter, subject]", "", "Whoever drafts may decide", signing("E0062")...)
	require.Error(t, err, out)
	require.Contains(t, out, "a second person is to sign")
	agree := func(id string) (string, error) {
		t.Helper()
		path := filepath.Join(o.dir, "pravet.yaml")
		data, err := os.ReadFile(path)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(path, []byte(strings.Replace(string(data), "not: [drafter, subject]", "not: [drafter]", 1)), 0o644))
		must(o.dir, append(signing("E0062"), "commit", "--quiet", "-a", "-m", "About oneself one may decide")...)
		must(o.dir, append(signing(id), "commit", "--quiet", "--allow-empty", "-m", "Agreed")...)
		out, err := git(o.dir, "push", "--quiet", "central", "main")
		if err != nil {
			must(o.dir, "reset", "--quiet", "--hard", "HEAD~2")
		}
		return out, err
	}
	out, err = agree("E0062")
	require.Error(t, err, "one person is not two: %s", out)
	out, err = agree("E0061")
	require.NoError(t, err, out)

	job := func(name string, args ...string) (int, string) {
		cmd := exec.Command("sh", append([]string{example(t, "pipeline/"+name), o.dir}, args...)...)
		cmd.Env = env
		data, err := cmd.CombinedOutput()
		if cmd.ProcessState == nil {
			require.NoError(t, err)
		}
		return cmd.ProcessState.ExitCode(), string(data)
	}
	read := filepath.Join(t.TempDir(), "read")
	status, out := job("pravet-morning", read)
	require.Zero(t, status, out)
	plan := planOf(t, o.dir)
	for file, says := range map[string]string{
		"plan.md": plan, "waiting.txt": "the holders of ticket-administrators", "waiting.json": `"who"`, "report.html": "<html",
	} {
		data, err := os.ReadFile(filepath.Join(read, file))
		require.NoError(t, err)
		require.Contains(t, string(data), says, file)
	}
	letters, err := filepath.Glob(filepath.Join(o.dir, "outbox", "*.eml"))
	require.NoError(t, err)
	require.Len(t, letters, 3)
	letter, err := os.ReadFile(letters[0])
	require.NoError(t, err)
	require.Contains(t, strings.ReplaceAll(string(letter), "=\r\n", ""), "wait for your decision")

	for day, due := range map[string]bool{"2026-11-25": false, "2026-11-27": true} { // they are reminded after three days
		cmd := exec.Command(program, "letters")
		cmd.Dir, cmd.Env = o.dir, append(os.Environ(), "HOME="+home, "CLOCK="+day+"T09:00:00Z")
		said, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", said)
		require.Equal(t, due, strings.Contains(string(said), "wait for your decision"), "%s: %s", day, said)
	}

	status, out = job("pravet-decided")
	require.Zero(t, status, out)
	require.Contains(t, out, "Nothing was decided about plan "+plan)
	require.NoError(t, os.MkdirAll(filepath.Join(o.dir, "decisions"), 0o755))
	o.well("E0062", "accept", plan, "--only", `app eq "tickets"`, "--because", "as agreed", "--out", "decisions/ivar.txt")
	status, out = job("pravet-decided")
	require.Contains(t, []int{0, 4}, status, out)
	require.Contains(t, out, "Recorded: E0062 accepts")
	require.Contains(t, out, "tickets: read back")
	require.NotContains(t, out, "rosters: read back", "nobody has decided about that")
	status, out = job("pravet-morning", read)
	require.Zero(t, status, out)
}
