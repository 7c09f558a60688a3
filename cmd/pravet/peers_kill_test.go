//go:build unix

package main_test

import (
	"fmt"
	"math/rand/v2"
	"os/exec"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"os"

	"github.com/stretchr/testify/require"

	"pravet/internal/standin"
)

// TestKilledOnAnyServerNothingIsLost: a run is killed at any instant after it has begun to write, on any server, while
// three requests in ten fail or are not answered. Whoever goes on afterwards ends with what the files say; nothing is
// done twice. PEERS="0 300" kills more often.
func TestKilledOnAnyServerNothingIsLost(t *testing.T) {
	from, to := seeds(t, 4)
	for seed := from; seed < to; seed++ {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			r := rand.New(rand.NewPCG(uint64(seed), 23))
			faults := standin.Draw(uint64(seed))
			for !tractable(standin.Faults{As: faults.As}) || faults.As.Members == "asked" && faults.NoPatch {
				faults = standin.Draw(r.Uint64())
			}
			faults.Busy, faults.After, faults.Broken = 0, 0, 0
			w := drawWorld(uint64(seed))
			p := scimPeer(t, w, faults)
			repo := w.repo(t, strings.ReplaceAll(p.server.connect, "ADDRESS", p.server.address), ", email: email")
			before, rest := p.read()
			id, changes := p.server.draft(t, repo)
			faults.Busy, faults.After, faults.Broken, faults.Before, faults.Fail = 0.06, 0.06, 0.06, 0.06, 0.06
			p.play.SetFaults(faults)
			said := ""
			for kills := 0; kills < 2; kills++ {
				cmd := exec.Command(program, "apply", id, "--yes")
				cmd.Dir, cmd.Env = repo, slices.Concat(os.Environ(), p.server.env, []string{"HOME=" + repo})
				var out strings.Builder
				cmd.Stdout, cmd.Stderr = &out, &out
				begun := len(p.play.Log()) + r.IntN(max(changes, 1))
				require.NoError(t, cmd.Start())
				ended := make(chan error, 1)
				go func() { ended <- cmd.Wait() }()
				for n := 0; len(p.play.Log()) <= begun && n < 2000; n++ {
					time.Sleep(time.Millisecond)
				}
				time.Sleep(time.Duration(r.IntN(3000)) * time.Microsecond)
				_ = cmd.Process.Signal(syscall.SIGKILL)
				<-ended
				said += out.String() + "killed\n"
			}
			left, held := -1, 0
			for range 6 {
				status, out := p.server.run(t, repo, nil, "draft", "--fetch")
				said += out
				if status != 0 {
					continue
				}
				var again string
				_, err := fmt.Sscanf(out[max(strings.Index(out, "Plan "), 0):], "Plan %s", &again)
				require.NoError(t, err, out)
				if left, held = counted(out); left == held {
					break
				}
				_, out = p.server.run(t, repo, nil, "apply", again, "--yes")
				said += out
				time.Sleep(p.calm)
			}
			after, restAfter := p.read()
			require.Equal(t, rest, restAfter, "what is not Pravet's was changed\n%s", said)
			for _, m := range w.people {
				due := m.due
				if !due.There {
					due = before[m.name]
				}
				if left == 0 {
					require.Equal(t, due, after[m.name], "%s, %s\n%s", m.name, quirks(faults), said)
				}
				require.True(
					t, between(after[m.name], before[m.name], due) || after[m.name] == due, "%s, %s\n%s", m.name, quirks(faults), said,
				)
			}
			require.Equal(t, held, left, "%d changes are left, %s\n%s", left, quirks(faults), said)
			made := map[string]bool{}
			for _, what := range p.play.Log() {
				if strings.HasPrefix(what, "created ") {
					require.False(t, made[what], "%s twice, %s", what, quirks(faults))
					made[what] = true
				}
			}
			status, out := p.server.run(t, repo, nil, "log", "verify")
			require.Zero(t, status, out)
		})
	}
}
