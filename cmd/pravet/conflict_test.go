//go:build unix

package main_test

import (
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/require"

	"pravet/internal/standin"
)

// TestWhatSomebodyChangedMeanwhileIsAConflict: it is called that, with status 5, and nothing of theirs is overwritten;
// what somebody has done already is left alone.
func TestWhatSomebodyChangedMeanwhileIsAConflict(t *testing.T) {
	s, play := scimYardFaults(t, "")
	play.SetFaults(standin.Faults{NoBulk: true})
	t.Cleanup(s.stop)
	repo := yardRepo(t, s)
	at(t, repo, s, s.address)
	id, changes := s.draft(t, repo)
	play.Change("p01", func(r map[string]any) { r["displayName"] = "By hand" })
	play.Change("p02", func(r map[string]any) { r["displayName"] = "Person 2" }) // as the plan has it
	play.Remove("p11")                                                           // whom the plan suspends
	status, out := s.run(t, repo, nil, "apply", id, "--yes")
	require.Equal(t, 5, status, out)
	require.Contains(t, out, `somebody has changed displayName to "By hand" meanwhile, where the plan has "Old name"`)
	require.Contains(t, out, "the account p11 is not there any more")
	require.Contains(t, out, "57 changes settled, 2 not settled")
	require.Equal(t, 60, changes)
	u, _ := play.User("p01")
	require.Equal(t, "By hand", u["displayName"])
	_, log := s.run(t, repo, nil, "log", "run-1", "--format", "json")
	require.Contains(t, log, `"result": "conflict"`)
}

// TestAPutBringsNothingBack: where there is neither PATCH nor versions, what somebody changes of users by hand while a
// run goes on stays as they left it.
func TestAPutBringsNothingBack(t *testing.T) {
	s, play := scimYardFaults(t, "  parallel: 1\n")
	t.Cleanup(s.stop)
	play.SetFaults(standin.Faults{NoPatch: true, NoBulk: true, As: standin.Personality{Version: "none"}})
	once, begun := false, false
	web := httptest.NewServer(&gate{server: play, asked: map[string]int{}, shut: func(r *http.Request, _ int) (int, string) {
		begun = begun || r.Method == http.MethodPut
		if begun && r.Method == http.MethodGet && !once { // what is read before a PUT and changed before it arrives nobody can save
			once = true
			for i := 1; i <= 12; i++ { // by hand, behind the run's back
				play.Change(yardName(i), func(u map[string]any) {
					u["nickName"] = "by hand"
					u["roles"] = []any{map[string]any{"value": "kiosk"}}
				})
			}
			play.Change("p05", func(u map[string]any) { u["displayName"] = "By hand" })
		}
		return 0, ""
	}})
	t.Cleanup(web.Close)
	repo := yardRepo(t, s)
	at(t, repo, s, web.Listener.Addr().String())
	id, _ := s.draft(t, repo)
	status, out := s.run(t, repo, nil, "apply", id, "--yes")
	require.Equal(t, 5, status, out)
	require.Contains(t, out, `somebody has changed displayName to "By hand" meanwhile`)
	for i := 1; i <= 12; i++ {
		u, _ := play.User(yardName(i))
		require.Equal(t, "by hand", u["nickName"], yardName(i))
		require.Contains(t, u["roles"], map[string]any{"value": "kiosk"}, yardName(i))
		if i == 5 {
			require.Equal(t, "By hand", u["displayName"])
		}
	}
}
