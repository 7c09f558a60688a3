//go:build unix

package main_test

import (
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"pravet/internal/standin"
)

// someSeeds is under how many chances a run with faults is tried in every test run; KILLS=all tries
// more.
const someSeeds = 10

// TestWithFaultsAllSettlesOrIsNamed: an application in which three requests of ten go wrong,
// in every way that a stand-in knows. Whatever a run says of a change is true, everything
// that it does not settle is named, and once the application is well, the rest is done.
func TestWithFaultsAllSettlesOrIsNamed(t *testing.T) {
	settled, seeds := 0, someSeeds
	if os.Getenv("KILLS") == "all" {
		seeds = 200
	}
	t.Cleanup(func() { t.Logf("%d of %d changes settled at once, over %d seeds", settled, seeds*yardChanges, seeds) })
	for seed := range seeds {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			faults := standin.Faults{
				Seed: uint64(seed), Busy: 0.05, Fail: 0.05, Broken: 0.05, Before: 0.05, After: 0.05, Lie: 0.05,
				Late: time.Duration(
					seed%3,
				) * 20 * time.Millisecond, NoBulk: seed%2 == 0, NoPatch: seed%7 == 0, Page: 3 * (seed % 5),
			}
			s, play := scimYardFaults(t, "  failures: 0\n  parallel: 8\n")
			defer s.stop()
			repo := yardRepo(t, s)
			at(t, repo, s, s.address)
			id, n := s.draft(t, repo)
			require.Equal(t, yardChanges, n)

			play.SetFaults(faults)
			status, out := s.run(t, repo, nil, "apply", id, "--yes")
			play.SetFaults(standin.Faults{})
			var done, not int
			i := strings.Index(out, " changes settled, ")
			require.Positive(t, i, out)
			_, err := fmt.Sscanf(
				out[strings.LastIndex(out[:i], " ")+1:],
				"%d changes settled, %d not settled",
				&done,
				&not,
			)
			require.NoError(t, err, out)
			settled += done
			require.Equal(t, not, strings.Count(out, "  not settled  "), "each is named: %s", out)
			if done == yardChanges {
				require.Zero(t, status, out)
			} else {
				require.Equal(t, 5, status, out)
			}
			if done+not < yardChanges {
				require.Regexp(t, `lack|need|left`, out)
			}

			// What was said to be settled is there: what is left to be done is just the rest.
			again, left := s.draft(t, repo)
			require.Equal(t, yardChanges-done, left, out)
			if left > 0 {
				status, out = s.run(t, repo, nil, "apply", again, "--yes")
				require.Zero(t, status, out)
			}
			_, left = s.draft(t, repo)
			require.Zero(t, left)
		})
	}
}
