//go:build unix

package main_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"pravet/internal/prepared"
)

// An office is a copy of the example in which decisions are signed, with keys for some of its people.
type office struct {
	t   *testing.T
	dir string
}

// newOffice makes one, with more in pravet.yaml.
func newOffice(t *testing.T, more string, people ...string) *office {
	t.Helper()
	o := &office{t, filepath.Join(t.TempDir(), "repo")}
	require.NoError(t, prepared.Marrowick.Copy(o.dir))
	require.NoError(t, os.MkdirAll(filepath.Join(o.dir, "keys"), 0o755))
	for _, id := range people {
		out, err := exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-C", "", "-f", o.key(id)).CombinedOutput()
		require.NoError(t, err, "%s", out)
		public, err := os.ReadFile(o.key(id) + ".pub")
		require.NoError(t, err)
		o.add("keys/allowed_signers", id+" "+string(public))
	}
	o.add("pravet.yaml", "\n"+more)
	o.commit("Decisions are signed")
	return o
}

// key is the file of somebody's key, outside of the repository.
func (o *office) key(id string) string { return filepath.Join(filepath.Dir(o.dir), "key-"+id) }

func (o *office) add(file, text string) {
	o.t.Helper()
	f, err := os.OpenFile(filepath.Join(o.dir, file), os.O_APPEND|os.O_WRONLY|os.O_CREATE, 0o644)
	require.NoError(o.t, err)
	_, err = f.WriteString(text)
	require.NoError(o.t, err)
	require.NoError(o.t, f.Close())
}

func (o *office) commit(subject string) {
	o.t.Helper()
	for _, args := range [][]string{{"add", "."}, {"commit", "--quiet", "-m", subject}} {
		out, err := exec.Command("git", append([]string{"-C", o.dir}, args...)...).CombinedOutput()
		require.NoError(o.t, err, "%s", out)
	}
}

// by runs the program with somebody's key.
func (o *office) by(id string, args ...string) (status int, out string) {
	o.t.Helper()
	cmd := exec.Command(program, args...)
	cmd.Dir, cmd.Env = o.dir, append(os.Environ(), "HOME="+filepath.Dir(o.dir), "NO_COLOR=1")
	if id != "" {
		cmd.Env = append(cmd.Env, "PRAVET_KEY="+o.key(id))
	}
	data, err := cmd.CombinedOutput()
	if cmd.ProcessState == nil {
		require.NoError(o.t, err)
	}
	return cmd.ProcessState.ExitCode(), string(data)
}

func (o *office) well(id string, args ...string) string {
	o.t.Helper()
	status, out := o.by(id, args...)
	require.Zero(o.t, status, "%v: %s", args, out)
	return out
}

// count counts the changes of a plan that a filter matches.
func (o *office) count(plan, only string) int {
	o.t.Helper()
	cmd := exec.Command(program, "show", plan, "--only", only, "--format", "csv")
	cmd.Dir = o.dir
	out, err := cmd.Output()
	require.NoError(o.t, err)
	return bytes.Count(out, []byte{'\n'}) - 1
}

// on runs SQL on the ledger, as somebody may who has its file.
func (o *office) on(statement string) {
	o.t.Helper()
	out, err := exec.Command("sqlite3", filepath.Join(o.dir, ".pravet", "ledger.db"), statement).CombinedOutput()
	require.NoError(o.t, err, "%s", out)
}

const signedOnly = "decisions: {signed: true, keys: keys/allowed_signers}\n"

// TestOnlyWhatIsSignedCounts: a decision is taken with a key that the files know, and is proved by ssh-keygen alone from what
// log hands out; without one, by a name, or by somebody else's key it is not.
func TestOnlyWhatIsSignedCounts(t *testing.T) {
	o := newOffice(t, signedOnly, "E0061", "E0062")
	signers := filepath.Join(o.dir, "keys", "allowed_signers")
	named, err := os.ReadFile(signers)
	require.NoError(t, err)
	const email = "farah.linden@marrowick.example" // as people are called in such files, mostly
	require.NoError(t, os.WriteFile(signers, []byte(strings.Replace(string(named), "E0061 ", email+" ", 1)), 0o644))
	o.commit("By her address")
	o.well("", "draft")
	plan := planOf(t, o.dir)
	status, out := o.by("", "--by", "Runa Skerry", "accept", plan, "--because", "as agreed")
	require.Equal(t, 1, status, out)
	require.Contains(t, out, "nothing was decided: decisions are signed here; name the file of your key with --key FILE")
	status, out = o.by("", "apply", plan, "--yes")
	require.Equal(t, 1, status, out)
	require.Contains(t, out, "decisions are signed here")
	stranger := o.key("stranger")
	require.NoError(t, exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", stranger).Run())
	status, out = o.by("stranger", "accept", plan, "--because", "as agreed")
	require.Equal(t, 1, status, out)
	require.Contains(t, out, "this key is nobody's in keys/allowed_signers")
	require.Zero(t, o.count(plan, `decision eq "accepted"`))

	o.well("E0061", "accept", plan, "--because", "as agreed")
	require.Positive(t, o.count(plan, `decision eq "accepted"`))
	o.well("E0061", "reject", plan, "--person", "E0042", "--app", "berths", "--because", "not this week")
	approvals := o.well("", "report", "approvals", "--format", "csv")
	require.Contains(t, approvals, ",E0061,", "whose decision it is, and not who put it on record: %s", approvals)
	why := o.well("", "why", "E0042")
	require.Equal(t, 1, strings.Count(why, "Oskar Nyman  E0042"), "%s", why)
	require.Contains(t, why, "not this week")
	require.NotContains(t, o.well("", "why", "E0042", "--format", "json"), "duplicate")
	o.well("E0061", "accept", plan, "--because", "as agreed")
	cmd := exec.Command(program, "log", "--kind", "decision", "--format", "json")
	cmd.Dir = o.dir
	data, err := cmd.Output()
	require.NoError(t, err)
	var entries []struct {
		Body struct {
			Signed struct{ Message, Signature string }
		}
	}
	require.NoError(t, json.Unmarshal(data, &entries))
	require.Len(t, entries, 3)
	signed := entries[0].Body.Signed
	require.Contains(t, signed.Message, plan)
	require.Contains(t, signed.Message, "Marrowick Ferries")
	require.NoError(t, os.WriteFile(filepath.Join(o.dir, "sig"), []byte(signed.Signature), 0o600))
	verify := exec.Command("ssh-keygen", "-Y", "verify", "-f", "keys/allowed_signers", "-I", email, "-n", "decision@pravet", "-s", "sig")
	verify.Dir, verify.Stdin = o.dir, strings.NewReader(signed.Message)
	text, err := verify.CombinedOutput()
	require.NoError(t, err, "%s", text)
	require.NoError(t, os.Remove(filepath.Join(o.dir, "sig")))
	status, out = o.by("", "apply", plan, "--yes")
	require.Equal(t, 4, status, "what is accepted is carried out without a key: %s", out)
	require.Contains(t, out, "settled")
}

// TestADecisionThatDoesNotCountSaysWhy: whoever has the ledger may write into it what he likes.
func TestADecisionThatDoesNotCountSaysWhy(t *testing.T) {
	for name, x := range map[string]struct {
		spoil func(o *office, plan string)
		says  string
	}{
		"altered": {func(o *office, _ string) {
			o.on(`UPDATE entries SET body = replace(body, '"because":"as agreed"', '"because":"as I like"') WHERE kind = 'decision'`)
		}, "it says something else than what was signed"},
		"unsigned": {func(o *office, _ string) {
			o.on(`UPDATE entries SET body = json_remove(body, '$.signed') WHERE kind = 'decision'`)
		}, "it is not signed"},
		"said to be by a rule": {func(o *office, _ string) {
			o.on(`UPDATE entries SET body = json_set(json_remove(body, '$.signed'), '$.unattended', json('true')) WHERE kind = 'decision'`)
		}, "it is not signed"},
		"with a broken signature": {func(o *office, _ string) {
			o.on(`UPDATE entries SET body = json_set(body, '$.signed.signature', 'none') WHERE kind = 'decision'`)
		}, "this is no signature"},
		"by a key that was revoked": {func(o *office, _ string) {
			public, err := os.ReadFile(o.key("E0061") + ".pub")
			require.NoError(o.t, err)
			o.add("keys/revoked", string(public))
		}, "was revoked"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			o := newOffice(t, "decisions: {signed: true, keys: keys/allowed_signers, revoked: keys/revoked}\n", "E0061")
			o.add("keys/revoked", "# none\n")
			o.commit("No key was revoked yet")
			o.well("", "draft")
			plan := planOf(t, o.dir)
			o.well("E0061", "accept", plan, "--because", "as agreed")
			require.Positive(t, o.count(plan, `decision eq "accepted"`))
			x.spoil(o, plan)
			if strings.HasPrefix(name, "by a key") {
				o.commit("A laptop was lost")
				o.on(`UPDATE entries SET body = json_set(body, '$.revision', '` + head(t, o.dir) + `') WHERE kind = 'plan'`)
			}
			rechain(t, o)
			require.Zero(t, o.count(plan, `decision eq "accepted"`))
			out := o.well("", "show", plan)
			require.Contains(t, out, "counts for nothing")
			require.Contains(t, strings.Join(strings.Fields(out), " "), x.says)
		})
	}
}

// TestADecisionCountsOnce: the same signed one, put on record again after it was taken back, does not bring it back.
func TestADecisionCountsOnce(t *testing.T) {
	o := newOffice(t, signedOnly, "E0061")
	o.well("", "draft")
	plan := planOf(t, o.dir)
	o.well("E0061", "accept", plan, "--because", "as agreed")
	o.well("E0061", "reject", plan, "--because", "not yet")
	o.on(`INSERT INTO entries (seq, at, by, kind, subject, body, prev, hash)
		SELECT (SELECT max(seq) FROM entries) + 1, at, by, kind, subject, body, '', '' FROM entries WHERE kind = 'decision' ORDER BY seq LIMIT 1`)
	rechain(t, o)
	require.Zero(t, o.count(plan, `decision eq "accepted"`))
	require.Contains(t, strings.Join(strings.Fields(o.well("", "show", plan)), " "), "the same signed decision is on record before")
}

// rechain makes a ledger whole again that somebody has changed, who knows how.
func rechain(t *testing.T, o *office) {
	t.Helper()
	out, err := exec.Command("python3", "-c", `
import hashlib, json, sqlite3, sys
db = sqlite3.connect(sys.argv[1])
def text(s):
    return json.dumps(s, ensure_ascii=False, separators=(",", ":")).replace("<", "\\u003c").replace(">", "\\u003e").replace("&", "\\u0026")
prev, last = "0" * 64, 0
for seq, at, by, kind, subject, body in db.execute("SELECT seq, at, by, kind, subject, body FROM entries ORDER BY seq").fetchall():
    fields = "[" + ",".join(text(x) for x in [prev, str(seq), at, by, kind, subject, body]) + "]"
    digest = hashlib.sha256(fields.encode()).hexdigest()
    db.execute("UPDATE entries SET prev = ?, hash = ? WHERE seq = ?", (prev, digest, seq))
    prev, last = digest, seq
db.execute("UPDATE head SET seq = ?, hash = ?", (last, prev))
db.commit()
`, filepath.Join(o.dir, ".pravet", "ledger.db")).CombinedOutput()
	require.NoError(t, err, "%s", out)
	require.NoError(t, os.RemoveAll(filepath.Join(filepath.Dir(o.dir), ".local")), "what the machine remembers of the ledger's end")
}

func head(t *testing.T, dir string) string {
	out, err := exec.Command("git", "-C", dir, "rev-parse", "HEAD").Output()
	require.NoError(t, err)
	return strings.TrimSpace(string(out))
}

// TestDecidersDecide: as many as it takes of those whom the rules name, and nobody about themselves; what waits for whom is
// shown; a rejection by one is enough.
func TestDecidersDecide(t *testing.T) {
	o := newOffice(t, `decisions: {signed: true, keys: keys/allowed_signers}
deciders:
  - changes: app eq "tickets"
    people: {kit: ticket-administrators}
    count: 2
    not: [drafter, subject]
  - changes: app eq "rosters"
    people: {owner: true}
`, "E0007", "E0061", "E0062", "E0047", "E0045")
	o.well("", "check")
	o.well("", "--by", "Tomas Quill", "draft")
	plan := planOf(t, o.dir)
	undecided := func(app string) int { return o.count(plan, fmt.Sprintf(`app eq %q and decision eq "undecided"`, app)) }
	accepted := func(app string) int { return o.count(plan, fmt.Sprintf(`app eq %q and decision eq "accepted"`, app)) }
	tickets, rosters := undecided("tickets"), undecided("rosters")
	require.Positive(t, tickets)
	require.Positive(t, rosters)
	out := o.well("", "list", "waiting")
	require.Contains(t, out, "2 of the holders of ticket-administrators")
	require.Contains(t, out, "the owner of rosters")
	require.Contains(t, out, "anybody")

	o.well("E0045", "accept", plan, "--because", "mine to decide in berths alone")
	require.Zero(t, accepted("tickets")+accepted("rosters"))
	require.Positive(t, accepted("berths"))
	out = o.well("E0061", "accept", plan, "--because", "as agreed")
	require.Contains(t, out, "still wait for 1 of the holders of ticket-administrators as well")
	require.Zero(t, accepted("tickets"))
	o.well("E0061", "accept", plan, "--because", "twice is not two")
	require.Zero(t, accepted("tickets"))
	status, out := o.by("", "apply", plan, "--app", "tickets", "--yes")
	require.NotContains(t, out, "read back", "%d: nothing of it is carried out", status)
	o.well("E0007", "accept", plan, "--because", "he drafted it")
	require.Zero(t, accepted("tickets"))
	o.well("E0062", "accept", plan, "--because", "as agreed")
	require.Equal(t, tickets, accepted("tickets"))
	require.Zero(t, accepted("rosters"))
	o.well("E0047", "accept", plan, "--because", "mine")
	require.Equal(t, rosters, accepted("rosters"))
	o.well("E0007", "reject", plan, "--app", "tickets", "--because", "not this week")
	require.Zero(t, accepted("tickets"))
}

// TestCheckKnowsWhoCouldDecide: a rule that nobody can fulfil is an error, and one that hangs on one person a warning.
func TestCheckKnowsWhoCouldDecide(t *testing.T) {
	o := newOffice(t, `deciders:
  - changes: app eq "tickets"
    people: {kit: ticket-administrators}
    count: 4
`)
	status, out := o.by("", "check")
	require.Equal(t, 1, status, out)
	require.Contains(t, out, "4 of the holders of ticket-administrators, and only 3 people could decide")
	o = newOffice(t, `deciders: [{changes: app eq "rosters", people: {owner: true}}, {changes: app eq "x", people: {kit: ticket-administrator}}]`)
	_, out = o.by("", "check")
	require.Contains(t, out, `there is no kit "ticket-administrator"`)
	o = newOffice(t, `deciders: [{changes: app eq "rosters", people: {owner: true}}, {changes: app eq "tickets", people: title eq "Managing director"}]`)
	out = o.well("", "check")
	require.NotContains(t, out, "owner of rosters")
	require.Contains(t, out, `people with title eq "Managing director", and only one person could decide: while one is away, nothing is decided`)
	o.add("apps/rosters.yaml", "")
	roster, err := os.ReadFile(filepath.Join(o.dir, "apps", "rosters.yaml"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(o.dir, "apps", "rosters.yaml"), []byte(strings.Replace(string(roster), "owner: E0047\n", "", 1)), 0o644))
	status, out = o.by("", "check")
	require.Equal(t, 1, status, out)
	require.Contains(t, out, "these changes take the owner of rosters, and nobody could decide")
	o = newOffice(t, signedOnly)
	status, out = o.by("", "check")
	require.Equal(t, 1, status, out)
	require.Contains(t, out, "keys/allowed_signers: there is no such file")
	for text, says := range map[string]string{
		"":                          "there is no key in it, so nobody could decide anything",
		"E0061 ssh-unknown AAAA\n":  "line 1: the key cannot be read",
		"E0061\n":                   "line 1: names of persons are expected",
		"E0061 " + public(t) + "\n": "anybody may write this file",
	} {
		require.NoError(t, os.WriteFile(filepath.Join(o.dir, "keys", "allowed_signers"), []byte(text), 0o644))
		require.NoError(t, os.Chmod(filepath.Join(o.dir, "keys", "allowed_signers"), 0o644))
		if strings.HasPrefix(says, "anybody") {
			require.NoError(t, os.Chmod(filepath.Join(o.dir, "keys", "allowed_signers"), 0o666))
		}
		status, out = o.by("", "check")
		require.Equal(t, 1, status, out)
		require.Contains(t, strings.Join(strings.Fields(out), " "), "keys/allowed_signers: "+says)
	}
	o = newOffice(t, `deciders: [{changes: decision eq "accepted"}]`)
	status, out = o.by("", "check")
	require.Equal(t, 1, status, out)
	require.Contains(t, out, "who decides cannot depend on decision")
}

// public is the public half of some key.
func public(t *testing.T) string {
	file := filepath.Join(t.TempDir(), "key")
	require.NoError(t, exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-C", "", "-f", file).Run())
	data, err := os.ReadFile(file + ".pub")
	require.NoError(t, err)
	return strings.TrimSpace(string(data))
}

// TestWhoDecidedBeforeDecidesAboutTheChange: a commit that changes who decides, or by which keys, does not take that from those
// who decided when something was carried out last: the first plan after it takes both.
func TestWhoDecidedBeforeDecidesAboutTheChange(t *testing.T) {
	o := newOffice(t, `decisions: {signed: true, keys: keys/allowed_signers}
deciders:
  - changes: app eq "tickets"
    people: {kit: ticket-administrators}
    count: 2
`, "E0007", "E0061", "E0062")
	newest := func() string {
		t.Helper()
		return newestPlan(t, o.dir)
	}
	accepted := func(plan string) int { return o.count(plan, `app eq "tickets" and decision eq "accepted"`) }
	o.well("", "draft")
	first := newest()
	o.well("E0007", "accept", first, "--because", "as agreed")
	o.well("E0061", "accept", first, "--because", "as agreed")
	status, out := o.by("", "apply", first, "--only", `person eq "E0034"`)
	require.Contains(t, []int{0, 4}, status, out)
	require.Contains(t, out, "1 change settled")

	// Somebody takes the rules away, and puts a key of their own in the place of another's.
	yaml, err := os.ReadFile(filepath.Join(o.dir, "pravet.yaml"))
	require.NoError(t, err)
	text, _, _ := strings.Cut(string(yaml), "deciders:")
	require.NoError(t, os.WriteFile(filepath.Join(o.dir, "pravet.yaml"), []byte(text), 0o644))
	require.NoError(t, exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-C", "", "-f", o.key("mine")).Run())
	mine, err := os.ReadFile(o.key("mine") + ".pub")
	require.NoError(t, err)
	o.add("keys/allowed_signers", "E0062 "+string(mine))
	o.commit("Nothing to see here")
	o.well("", "draft")
	second := newest()
	require.NotEqual(t, first, second)
	require.Contains(t, o.well("", "list", "waiting"), "2 of the holders of ticket-administrators (by the rules as they were)")
	status, out = o.by("mine", "accept", second, "--because", "as I like")
	if status == 0 {
		require.Zero(t, accepted(second))
		require.Contains(t, strings.Join(strings.Fields(o.well("", "show", second)), " "), "the keys have changed since something was carried out last")
	}
	o.well("E0061", "accept", second, "--because", "as agreed")
	require.Zero(t, accepted(second), "one is not enough, as before: %s", out)
	o.well("E0007", "accept", second, "--because", "as agreed")
	require.Positive(t, accepted(second))
	status, out = o.by("", "apply", second)
	require.Contains(t, []int{0, 4}, status, out)

	// From then on the new rules count.
	o.add("standing.yaml", "")
	o.add("people/ashore.csv", "E0199,new.clerk,New Clerk,new.clerk@marrowick.example,Ticket clerk,Ticketing,North Quay,Employee,2026-11-01,,\n")
	o.commit("A new clerk")
	o.well("", "draft")
	third := newest()
	require.NotContains(t, o.well("", "list", "waiting"), "as they were")
	o.well("mine", "accept", third, "--person", "E0199", "--because", "new rules")
	require.Positive(t, accepted(third))
}
