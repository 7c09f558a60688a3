package signing_test

import (
	"bytes"
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"pravet/internal/signing"
)

// newKey makes a key, and returns its file and its public half.
func newKey(t *testing.T, kind, passphrase string) (file, public string) {
	t.Helper()
	file = filepath.Join(t.TempDir(), "key")
	out, err := exec.Command("ssh-keygen", "-q", "-t", kind, "-N", passphrase, "-C", "", "-f", file).CombinedOutput()
	require.NoError(t, err, "%s", out)
	data, err := os.ReadFile(file + ".pub")
	require.NoError(t, err)
	return file, strings.TrimSpace(string(data))
}

// TestASignatureIsProvedHereAndByOthers: by the program, and by ssh-keygen, for each kind of key; and of nothing else than what
// was signed.
func TestASignatureIsProvedHereAndByOthers(t *testing.T) {
	for _, kind := range []string{"ed25519", "ecdsa", "rsa"} {
		t.Run(kind, func(t *testing.T) {
			file, public := newKey(t, kind, "")
			message := []byte("it is so\n")
			armored, err := signing.Sign(context.Background(), file, message, false)
			require.NoError(t, err)
			key, err := signing.Prove(message, armored)
			require.NoError(t, err)
			keys, err := signing.ReadKeys([]byte("# ours\n\nidris@ferries.example "+public+"\n"), nil)
			require.NoError(t, err)
			require.NoError(t, keys.Allowed(key, []string{"E1", "idris@ferries.example"}, time.Now()))
			require.Equal(t, []string{"idris@ferries.example"}, keys.Principals(key))

			dir := t.TempDir()
			for name, text := range map[string]string{"allowed": "idris@ferries.example " + public + "\n", "sig": armored} {
				require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
			}
			cmd := exec.Command("ssh-keygen", "-Y", "verify", "-f", "allowed", "-I", "idris@ferries.example", "-n", signing.Namespace, "-s", "sig")
			cmd.Dir, cmd.Stdin = dir, bytes.NewReader(message)
			out, err := cmd.CombinedOutput()
			require.NoError(t, err, "%s", out)

			_, err = signing.Prove([]byte("it is not so\n"), armored)
			require.ErrorContains(t, err, "was changed since")
			_, err = signing.Prove(message, strings.Replace(armored, "U1NIU0", "U1NIU1", 1))
			require.Error(t, err)
			_, err = signing.Prove(message, "")
			require.ErrorContains(t, err, "no signature")
		})
	}
}

// TestASignatureForSomethingElseDoesNotCount: the same key signs other things as well.
func TestASignatureForSomethingElseDoesNotCount(t *testing.T) {
	file, _ := newKey(t, "ed25519", "")
	cmd := exec.Command("ssh-keygen", "-q", "-Y", "sign", "-f", file, "-n", "file")
	cmd.Stdin = strings.NewReader("it is so\n")
	out, err := cmd.Output()
	require.NoError(t, err)
	_, err = signing.Prove([]byte("it is so\n"), string(out))
	require.ErrorContains(t, err, `made for "file"`)
}

// TestAKeyCountsInItsTime: for whom it is, from when on and until when, and not once it was revoked.
func TestAKeyCountsInItsTime(t *testing.T) {
	file, public := newKey(t, "ed25519", "")
	_, other := newKey(t, "ed25519", "")
	armored, err := signing.Sign(context.Background(), file, []byte("x"), false)
	require.NoError(t, err)
	key, err := signing.Prove([]byte("x"), armored)
	require.NoError(t, err)
	on := time.Date(2026, 11, 24, 0, 0, 0, 0, time.UTC)
	for line, says := range map[string]string{
		"idris@ferries.example " + public:                                                "",
		"E1,idris " + public:                                                             "",
		"*@ferries.example " + public:                                                    "",
		`"idris@ferries.example" ` + public:                                              "",
		`idris@ferries.example namespaces="decision@pravet,file" ` + public:              "",
		`idris@ferries.example valid-before="20270101" ` + public:                        "",
		`idris@ferries.example valid-before="20261124" ` + public:                        "had expired on 2026-11-24",
		`idris@ferries.example valid-after="202611241200Z" ` + public:                    "valid from 2026-11-24 on",
		`idris@ferries.example namespaces="file" ` + public:                              "not for decisions",
		"runa@ferries.example " + public:                                                 "is runa@ferries.example's",
		"idris@ferries.example " + other:                                                 "nobody's in the file of keys",
		"runa@ferries.example " + public + "\nidris@ferries.example " + public:           "",
		`idris@ferries.example valid-after="20200101",valid-before="20210101" ` + public: "had expired on 2021-01-01",
	} {
		keys, err := signing.ReadKeys([]byte(line+"\n"), nil)
		require.NoError(t, err, line)
		err = keys.Allowed(key, []string{"E1", "idris@ferries.example"}, on)
		if says == "" {
			require.NoError(t, err, line)
		} else {
			require.ErrorContains(t, err, says, line)
		}
	}
	keys, err := signing.ReadKeys([]byte("E1 "+public), nil)
	require.NoError(t, err)
	require.NoError(t, keys.Revoke([]byte("# lost on a ferry\n"+public+" on a laptop\n")))
	require.ErrorContains(t, keys.Allowed(key, []string{"E1"}, on), "was revoked")
}

// TestABadFileOfKeysSaysWhere: with the line.
func TestABadFileOfKeysSaysWhere(t *testing.T) {
	_, public := newKey(t, "ed25519", "")
	for text, says := range map[string]string{
		"\nidris@ferries.example":                 "line 2: names of persons are expected",
		"idris@ferries.example ssh-unknown AAAA":  "line 1: the key cannot be read",
		"idris cert-authority " + public:          "line 1: certificates are not known here",
		`idris valid-before="tomorrow" ` + public: `line 1: the time "tomorrow" is expected`,
		"idris no-such-option " + public:          `line 1: the option "no-such-option" is not known`,
	} {
		_, err := signing.ReadKeys([]byte(text), nil)
		require.ErrorContains(t, err, says)
	}
}

// TestAKeyThatNobodyUnlocksSaysSo: where nobody is there to be asked.
func TestAKeyThatNobodyUnlocksSaysSo(t *testing.T) {
	file, _ := newKey(t, "ed25519", "a passphrase")
	began := time.Now()
	_, err := signing.Sign(context.Background(), file, []byte("x"), false)
	require.ErrorContains(t, err, "does not sign")
	require.Less(t, time.Since(began), 20*time.Second)
	open, _ := newKey(t, "ed25519", "")
	require.NoError(t, os.Chmod(open, 0o644))
	_, err = signing.Sign(context.Background(), open, []byte("x"), false)
	require.ErrorContains(t, err, "are too open")
	require.NotContains(t, err.Error(), "\n")
	require.NotContains(t, err.Error(), "@@")
	_, err = signing.Sign(context.Background(), file+".gone", []byte("x"), false)
	require.ErrorContains(t, err, "No such file")
}

// TestAnAgentSigns: the private half of the key is in an agent alone.
func TestAnAgentSigns(t *testing.T) {
	file, _ := newKey(t, "ed25519", "")
	dir, err := os.MkdirTemp("", "pravet-agent-") // short enough for the name of a socket
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, os.RemoveAll(dir)) })
	agent := exec.Command("ssh-agent", "-D", "-a", filepath.Join(dir, "s"))
	require.NoError(t, agent.Start())
	t.Cleanup(func() { _ = agent.Process.Kill(); _ = agent.Wait() })
	t.Setenv("SSH_AUTH_SOCK", filepath.Join(dir, "s"))
	require.Eventually(t, func() bool { return exec.Command("ssh-add", "-q", file).Run() == nil }, 5*time.Second, 20*time.Millisecond)
	require.NoError(t, os.Remove(file))
	armored, err := signing.Sign(context.Background(), file+".pub", []byte("x"), false)
	require.NoError(t, err)
	_, err = signing.Prove([]byte("x"), armored)
	require.NoError(t, err)
}

func FuzzKeys(f *testing.F) {
	f.Add("idris@ferries.example ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIA==\n")
	f.Add(`"a,b" valid-before="20260101" ssh-rsa AAAA`)
	f.Fuzz(func(_ *testing.T, text string) {
		if keys, err := signing.ReadKeys([]byte(text), nil); err == nil {
			_ = keys.Revoke([]byte(text))
		}
		_, _ = signing.Prove([]byte(text), text)
	})
}
