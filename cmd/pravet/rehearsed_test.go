//go:build linux

package main_test

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"pravet/examples/quarter"
)

// TestDaysComeOutAsRehearsed: half of the quarter is lived through with the real program, then the rest is rehearsed, and lived
// through; the same happens on the same days.
func TestDaysComeOutAsRehearsed(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, quarter.Write(dir))
	run := func(today time.Time, args ...string) (int, string) {
		cmd := exec.Command(program, append([]string{"--by", "Farah Linden"}, args...)...)
		cmd.Dir, cmd.Env = dir, append(os.Environ(), "HOME="+dir, "CLOCK="+today.Add(8*time.Hour).Format(time.RFC3339))
		for _, name := range []string{"tickets.csv", "berths.csv"} {
			require.NoError(t, os.Chtimes(filepath.Join(dir, "exports", name), today, today))
		}
		out, _ := cmd.Output()
		return cmd.ProcessState.ExitCode(), string(out)
	}
	// day drafts and carries out, until nothing is left that nothing holds, and says what was done.
	day := func(today time.Time) (done []string) {
		for range 4 {
			_, out := run(today, "draft", "--out", "plan.json")
			require.NotEmpty(t, out)
			var p struct {
				ID      string
				Changes []json.RawMessage
			}
			require.NoError(t, json.Unmarshal(readFile(t, filepath.Join(dir, "plan.json")), &p))
			if len(p.Changes) == 0 {
				return done
			}
			var ids []string
			forGood := 0
			for _, raw := range p.Changes {
				var c struct {
					ID      string
					ForGood bool
					Holds   []json.RawMessage
				}
				require.NoError(t, json.Unmarshal(raw, &c))
				if ids = append(ids, c.ID); c.ForGood && len(c.Holds) == 0 {
					forGood++
				}
			}
			status, said := run(today, append([]string{"accept", "plan.json", "--because", "as rehearsed"}, ids...)...)
			require.Zero(t, status, said)
			args := []string{"apply", "plan.json", "--yes"}
			if forGood > 0 {
				args = append(args, "--yes-for-good", strconv.Itoa(forGood))
			}
			run(today, args...)
			_, out = run(today, "show", "plan.json", "--format", "csv", "--only", `decision eq "done"`)
			rows := strings.Split(strings.TrimSpace(out), "\n")[1:]
			for _, row := range rows {
				id, _, _ := strings.Cut(row, ",")
				done = append(done, id)
			}
			if len(rows) == 0 {
				return done
			}
		}
		return done
	}
	first, err := time.Parse(time.DateOnly, quarter.First)
	require.NoError(t, err)
	turn, err := time.Parse(time.DateOnly, "2026-11-18") // after which nobody changes the files until January
	require.NoError(t, err)
	next := 0
	for today := first; !today.After(turn); today = today.AddDate(0, 0, 1) {
		for next < len(quarter.Happenings) && quarter.Happenings[next].Day == today.Format(time.DateOnly) {
			require.NoError(t, quarter.Happenings[next].Do(dir))
			next++
		}
		day(today)
	}
	from := turn.AddDate(0, 0, 1)
	_, out := run(from, "rehearse", "--for", "P45D", "--all", "--format", "json")
	var x struct {
		Days []struct {
			On   string
			Done []struct{ Person, Says string }
		}
		Done int
	}
	require.NoError(t, json.Unmarshal([]byte(out), &x), out)
	rehearsed := map[string]int{}
	for _, d := range x.Days {
		rehearsed[d.On] = len(d.Done)
	}
	lived := map[string]int{}
	for n := range 46 {
		today := from.AddDate(0, 0, n)
		if done := day(today); len(done) > 0 {
			slices.Sort(done)
			lived[today.Format(time.DateOnly)] = len(slices.Compact(done))
		}
	}
	require.NotEmpty(t, lived)
	require.Equal(t, lived, rehearsed)
}
