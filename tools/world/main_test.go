package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestOneAccountInAHundredDiffers, in each application, whether Pravet tells it
// or a plain comparison of the rows.
func TestOneAccountInAHundredDiffers(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, exec.Command("go", "run", ".", "-people", "2000", dir).Run())
	out, err := exec.Command("go", "run", "pravet/cmd/pravet", "draft", "--repo", dir, "--on", "2026-11-24").
		CombinedOutput()
	require.NoError(t, err, "%s", out)
	require.Contains(t, string(out), "60 changes: 15 widen access, 15 narrow it, 30 keep it\n")
	for _, app := range apps {
		want, err := os.ReadFile(filepath.Join(dir, "rows", app+".csv"))
		require.NoError(t, err)
		is, err := os.ReadFile(filepath.Join(dir, "exports", app+".csv"))
		require.NoError(t, err)
		have := map[string]bool{}
		for _, line := range strings.Split(string(is), "\n") {
			have[line] = true
		}
		missing := 0
		for _, line := range strings.Split(string(want), "\n") {
			if !have[line] {
				missing++
			}
		}
		require.Equal(t, 20, missing, app)
	}
}
