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

// TestAStrangerProvesTheEvidence: with sha256sum, sqlite3 and ssh-keygen alone, as the README in the archive says; made twice,
// the archive is the same; and what was changed in it is found.
func TestAStrangerProvesTheEvidence(t *testing.T) {
	o := newOffice(t, signedOnly, "E0061", "E0062")
	o.well("", "draft")
	plan := planOf(t, o.dir)
	o.well("E0061", "accept", plan, "--because", "as <agreed> & \"noted\"")
	o.well("E0062", "reject", plan, "--only", `app eq "tickets"`, "--because", "not this week, says Zoë")
	_, _ = o.by("", "apply", plan, "--yes")
	one, two := filepath.Join(t.TempDir(), "one.tar.gz"), filepath.Join(t.TempDir(), "two.tar.gz")
	out := o.well("", "report", "evidence", "--from", "2026-11-01", "--to", "2026-11-30", "--out", one)
	require.Contains(t, out, "2 decisions of which 2 are signed")
	o.well("", "report", "evidence", "--from", "2026-11-01", "--to", "2026-11-30", "--out", two)
	x, err := os.ReadFile(one)
	require.NoError(t, err)
	y, err := os.ReadFile(two)
	require.NoError(t, err)
	require.Equal(t, x, y)

	dir := t.TempDir()
	sh := func(script string) (string, error) {
		cmd := exec.Command("sh", "-c", script)
		cmd.Dir = dir
		out, err := cmd.CombinedOutput()
		return string(out), err
	}
	said, err := sh("tar xzf " + one + " && sh evidence/verify.sh")
	require.NoError(t, err, said)
	require.Contains(t, said, "one chain")
	require.Contains(t, said, "Signatures: 2 proved.")
	said, err = sh(`sqlite3 evidence/record.db "SELECT because FROM decisions ORDER BY seq"`)
	require.NoError(t, err, said)
	require.Equal(t, "as <agreed> & \"noted\"\nnot this week, says Zoë\n", said)
	readme, err := os.ReadFile(filepath.Join(dir, "evidence", "README.txt"))
	require.NoError(t, err)
	require.Contains(t, string(readme), "Marrowick Ferries")
	require.NotContains(t, string(readme), "%!")

	resum := `cd evidence && find . -type f ! -name SHA256SUMS | sed 's#^\./##' | LC_ALL=C sort | xargs sha256sum >SHA256SUMS; cd ..; sh evidence/verify.sh`
	for name, x := range map[string]struct{ spoil, says string }{
		"a file":    {"echo x >>evidence/plans/" + plan + ".json; sh evidence/verify.sh", "FAILED"},
		"an entry":  {`sqlite3 evidence/record.db "UPDATE entries SET line = replace(line, 'not this week', 'not today') WHERE kind = 'decision'"; ` + resum, "not those of what they say"},
		"its body":  {`sqlite3 evidence/record.db "UPDATE entries SET body = replace(body, 'not this week', 'not today') WHERE kind = 'decision'"; ` + resum, "do not follow"},
		"one less":  {`sqlite3 evidence/record.db "DELETE FROM entries WHERE seq = 5"; ` + resum, "do not follow"},
		"a message": {"sed -i 's/as /is /' evidence/decisions/*.message; " + resum, "is not proved"},
		"a key":     {"for k in evidence/keys/*/allowed_signers; do sed -i s/E006/E007/ $k; done; " + resum, "is not proved"},
	} {
		said, err := sh("rm -rf evidence; tar xzf " + one + "; " + x.spoil)
		require.Error(t, err, "%s: %s", name, said)
		require.Contains(t, said, x.says, name)
	}
	other := filepath.Join(t.TempDir(), "other.tar.gz")
	out = o.well("", "report", "evidence", "--from", "2026-11-01", "--to", "2026-11-30", "--pseudonyms", "--out", other)
	require.Contains(t, out, "People have other names in it")
	said, err = sh("rm -rf evidence; tar xzf " + other + "; cd evidence && sha256sum --quiet -c SHA256SUMS")
	require.NoError(t, err, said)
	for _, name := range []string{"E0042", "Oskar Nyman", "oskar.nyman", "Farah Linden", "E0061", "BEGIN SSH"} {
		said, err = sh("cd evidence && grep -rla '" + name + "' . || true")
		require.NoError(t, err)
		require.Empty(t, said, name)
	}
	said, err = sh(`sqlite3 evidence/record.db "SELECT count(*), count(DISTINCT person) FROM outcomes WHERE person LIKE 'Person-%'"; ` +
		`sqlite3 evidence/record.db "SELECT count(*) FROM entries e JOIN entries p ON p.seq = e.seq - 1 WHERE e.prev <> p.hash"`)
	require.NoError(t, err, said)
	require.Regexp(t, `^[1-9]\d*\|[1-9]\d*\n0\n$`, said)

	status, said := o.by("", "report", "evidence", "--from", "2020-01-01", "--to", "2020-01-31", "--out", one)
	require.Equal(t, 1, status, said)
	require.Contains(t, said, "nothing is on record from 2020-01-01 to 2020-01-31")
	require.NotContains(t, strings.ToLower(said), "panic")
}
