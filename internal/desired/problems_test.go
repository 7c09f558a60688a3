package desired_test

import (
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

const slips = "testdata/problems.txt"

// ways is a path that is added to that repository.
const ways = `paths:
  a:
    when: ended
    steps:
      - {do: suspend}
      - {after: P30D, do: strip, keep: [roles]}
      - {after: P90D, do: remove}
`

// The file has slips: what is replaced in a file of the repository that new starts with,
// and by what; below each stands what is said of it. UPDATE=1 writes it anew, for a person
// to read.
func TestEverySlipIsSaid(t *testing.T) {
	data, err := os.ReadFile(slips)
	require.NoError(t, err)
	var out strings.Builder
	for _, line := range strings.Split(string(data), "\n") {
		file, rest, ok := strings.Cut(line, ": ")
		if !ok || strings.HasPrefix(line, " ") {
			continue
		}
		before, after, ok := strings.Cut(rest, " → ")
		require.True(t, ok, line)
		was, err := strconv.Unquote(before)
		require.NoError(t, err, line)
		is, err := strconv.Unquote(after)
		require.NoError(t, err, line)
		dir := repo(t, map[string]string{"paths/a.yaml": ways})
		name := filepath.Join(dir, file)
		text, err := os.ReadFile(name)
		require.NoError(t, err)
		require.Contains(t, string(text), was, line)
		require.NoError(t, os.WriteFile(name, []byte(strings.Replace(string(text), was, is, 1)), 0o644))
		out.WriteString(line + "\n")
		r := read(t, dir)
		r.Matches(20781, false)
		for _, p := range r.Problems.Sorted() {
			out.WriteString("  " + p.Error() + "\n")
		}
		require.NotEmpty(t, r.Problems.Sorted(), line)
		out.WriteString("\n")
	}
	if os.Getenv("UPDATE") != "" {
		require.NoError(t, os.WriteFile(slips, []byte(out.String()), 0o644))
		return
	}
	require.Equal(t, string(data), out.String())
}
