package desk_test

import (
	"errors"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"pravet/examples/start"
	"pravet/internal/desk"
)

// slip is a line of the slips that are told in internal/desired: FILE: "what is there" → "what somebody
// wrote".
var slip = regexp.MustCompile(`^(\S+): ("(?:[^"\\]|\\.)*") → ("(?:[^"\\]|\\.)*")$`)

// away is the path that those slips are made in.
const away = `paths:
  a:
    when: ended
    steps:
      - {do: suspend}
      - {after: P30D, do: strip, keep: [roles]}
      - {after: P90D, do: remove}
`

// TestCheckAndDraftAgree makes each slip that somebody may make in the files, and asks both: what one takes
// for an error of the files, the other does. A draft may find more, in the exports that check does not read.
func TestCheckAndDraftAgree(t *testing.T) {
	text, err := os.ReadFile("../desired/testdata/problems.txt")
	require.NoError(t, err)
	slips, wrong := 0, 0
	for line := range strings.SplitSeq(string(text), "\n") {
		m := slip.FindStringSubmatch(line)
		if m == nil {
			continue
		}
		before, err := strconv.Unquote(m[2])
		require.NoError(t, err, line)
		after, err := strconv.Unquote(m[3])
		require.NoError(t, err, line)
		p := &place{t: t, dir: t.TempDir()}
		require.NoError(t, os.CopyFS(p.dir, start.Files))
		require.NoError(t, os.Mkdir(filepath.Join(p.dir, "paths"), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(p.dir, "paths", "a.yaml"), []byte(away), 0o644))
		file := filepath.Join(p.dir, m[1])
		data, err := os.ReadFile(file)
		require.NoError(t, err, line)
		require.Contains(t, string(data), before, line)
		require.NoError(t, os.WriteFile(file, []byte(strings.Replace(string(data), before, after, 1)), 0o644))
		slips++
		var found, drafted error
		p.at(func(d *desk.Desk) {
			x, err := d.Check(d.Today(), false)
			require.NoError(t, err, line)
			if n := x.Repo.Problems.Errors(); n > 0 {
				found = errors.New(x.Repo.Problems.Sorted()[0].Error())
			}
		})
		p.at(func(d *desk.Desk) {
			var problems *desk.Problems
			if _, err := d.Dry(desk.Drafting{On: d.Today()}); errors.As(err, &problems) {
				drafted = problems.List[0]
			}
		})
		if (found == nil) != (drafted == nil) {
			t.Errorf("%s\ncheck: %v\ndraft: %v", line, found, drafted)
		}
		if found != nil {
			wrong++
		}
	}
	require.Greater(t, slips, 50)
	require.Greater(t, wrong, 50)
}
