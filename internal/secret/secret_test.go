package secret_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pravet/internal/secret"
)

func TestASecretIsReadFromWhereItIsKeptAndNeverShown(t *testing.T) {
	dir := t.TempDir()
	file := func(name, text string, mode os.FileMode) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		require.NoError(t, os.Chmod(path, mode))
		return path
	}
	open, shut := file("open", "swordfish\n", 0o644), file("shut", "swordfish\r\n", 0o600)
	script := file("script", "#!/bin/sh\necho swordfish\n", 0o700)
	failing := file("failing", "#!/bin/sh\necho swordfish\necho swordfish >&2\nexit 3\n", 0o700)
	environ := []string{"A=swordfish", "OTHERS=swordfish", "EMPTY=", "PATH=" + os.Getenv("PATH")}
	for _, c := range []struct{ ref, says string }{
		{"env:A", ""},
		{"env:EMPTY", "there is nothing in it"},
		{"env:B", "the environment has no variable B"},
		{"file:" + shut, ""},
		{"file:" + open, "others may read this file; take that away with: chmod 600 " + open},
		{"file:" + dir, "this is no regular file"},
		{"file:" + filepath.Join(dir, "none"), "the file cannot be read: no such file"},
		{"file:" + file("long", strings.Repeat("swordfish", 1000), 0o600), "longer than 4096 bytes"},
		{"file:" + file("empty", "\n", 0o600), "there is nothing in it"},
		{"command:" + script, ""},
		{"command:sh " + script, ""},
		{"command:printenv A", ""},
		{"command:printenv OTHERS", "the program ended with status 1"},
		{"command:" + failing, "the program ended with status 3"},
		{"command:" + filepath.Join(dir, "none"), "the program cannot be run"},
		{"swordfish", "never the secret itself"},
		{"vault:swordfish", "never the secret itself"},
		{"env:", "never the secret itself"},
	} {
		got, err := (&secret.Keeper{Environ: environ, Named: []string{"OTHERS"}}).Read(context.Background(), c.ref)
		if c.says == "" {
			require.NoError(t, err, c.ref)
			assert.Equal(t, "swordfish", got, c.ref)
			continue
		}
		require.ErrorContains(t, err, c.says, c.ref)
		assert.Empty(t, got)
		assert.NotContains(t, strings.ReplaceAll(err.Error(), c.ref, ""), "swordfish", c.ref)
	}
}
