//go:build unix

package main_test

import (
	"encoding/json"
	"fmt"
	"io"
	"log"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"sort"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"pravet/internal/prepared"
	"pravet/internal/standin"
)

// TestAnyScimServerEndsRight: whatever a server is like within what the RFCs leave open, a run ends with what the
// files say and nothing else changed, or says what is left. PEERS="0 1000" tries more of them.
func TestAnyScimServerEndsRight(t *testing.T) {
	from, to := seeds(t, 24)
	for seed := from; seed < to; seed++ {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			w, faults := drawWorld(uint64(seed)), standin.Draw(uint64(seed))
			faults, wrong, said := smallest(faults, standin.Simpler, func(f standin.Faults) (wrong, said string) {
				wrong, said = goesWrong(t, w, scimPeer(t, w, f), tractable(f))
				if strings.HasPrefix(wrong, "changes are left") &&
					(strings.Contains(said, "may be where it stops") || strings.Contains(said, "held by export-part")) {
					wrong = "" // a group has as many members as a limit may have
				}
				return wrong, said
			})
			if wrong == "" {
				return
			}
			t.Fatalf("seed %d, in its smallest form %s\n%s\n%s", seed, quirks(faults), wrong, said)
		})
	}
}

// tractable reports whether a server lets everything be done: it tells how many there are, and who is in its groups.
func tractable(f standin.Faults) bool {
	return f.As.Totals != "low" && !(f.As.Cut > 0 && f.As.CutAll) && !f.As.FromZero && f.Busy+f.After+f.Broken == 0
}

// quirks are the ways in which a server is not the plainest.
func quirks(f standin.Faults) string {
	var out []string
	say := func(v reflect.Value) {
		for i := range v.NumField() {
			if x := v.Field(i); x.Kind() != reflect.Struct && !x.IsZero() {
				out = append(out, fmt.Sprintf("%s=%v", v.Type().Field(i).Name, x))
			}
		}
	}
	say(reflect.ValueOf(f))
	say(reflect.ValueOf(f.As))
	return strings.Join(out, " ")
}

// resources are a world as users and groups of SCIM, with ids.
func (w *world) resources(lower bool) (users, groups []map[string]any) {
	in := map[string][]any{"crew": {}, "deck": {}, "others": {}}
	for i, m := range w.people {
		if !m.is.There {
			continue
		}
		name := m.name
		if lower {
			name = strings.ToLower(name)
		}
		var emails, roles []any
		for _, e := range m.email {
			emails = append(emails, map[string]any{"value": e, "type": "home"})
		}
		emails = append(emails, map[string]any{"value": m.is.Email, "type": "work", "primary": true})
		if m.otherRole {
			roles = append(roles, map[string]any{"value": "kiosk"})
		}
		if m.is.Lead {
			roles = append(roles, map[string]any{"value": "lead"})
		}
		id := fmt.Sprintf("user-%d", i)
		r := map[string]any{
			"id": id, "userName": name, "displayName": m.is.Shown, "active": m.is.Open, "emails": emails,
			"nickName": fmt.Sprintf("nick %d", i),
		}
		if roles != nil {
			r["roles"] = roles
		}
		users = append(users, r)
		for name, is := range map[string]bool{"crew": m.is.Crew, "deck": m.is.Deck, "others": i%3 == 0} {
			if is {
				in[name] = append(in[name], map[string]any{"value": id})
			}
		}
	}
	for _, name := range []string{"crew", "deck", "others"} {
		groups = append(groups, map[string]any{"id": "group-" + name, "displayName": name, "members": in[name]})
	}
	return users, groups
}

// server is one that is reached by SCIM.
func (w *world) server(t *testing.T, h http.Handler, path string) *yardServer {
	web := httptest.NewServer(h)
	web.Config.ErrorLog = log.New(io.Discard, "", 0)
	t.Cleanup(web.Close)
	return scimServer(web.Listener.Addr().String() + path)
}

func scimServer(address string) *yardServer {
	return &yardServer{
		connect: "  by: scim\n  url: http://ADDRESS\n  token: env:YARD_TOKEN\n  settle: 1s\n  page: 7\n  timeout: 10s\n",
		address: address, env: []string{"YARD_TOKEN=open sesame"},
	}
}

func scimPeer(t *testing.T, w *world, faults standin.Faults) *peer {
	t.Helper()
	s, err := standin.New(
		standin.Options{Token: "open sesame", Faults: standin.Faults{As: standin.Personality{OddIDs: faults.As.OddIDs}}},
	)
	require.NoError(t, err)
	users, groups := w.resources(faults.As.Lower)
	ids := map[string]string{}
	for _, u := range users {
		id := fmt.Sprint(u["id"])
		delete(u, "id")
		ids[id] = s.AddUser(u)
	}
	for _, g := range groups {
		var members []string
		for _, m := range g["members"].([]any) {
			members = append(members, ids[fmt.Sprint(m.(map[string]any)["value"])])
		}
		s.AddGroup(fmt.Sprint(g["displayName"]), members...)
	}
	s.SetFaults(faults)
	return &peer{
		play: s, server: w.server(t, s, ""),
		calm: faults.Late, plain: tractable(faults), faulty: faults.Busy+faults.After+faults.Broken > 0,
		read: func() (map[string]holding, []string) {
			time.Sleep(faults.Late)
			users, groups := s.State()
			return scimTruth(t, w, users, groups)
		},
	}
}

// TestAForeignScimServerEndsRight: on servers that others have written, in their own configuration, each run ends with
// what the files say and nothing else changed.
func TestAForeignScimServerEndsRight(t *testing.T) {
	from, to := seeds(t, 4)
	for seed := from; seed < to; seed++ {
		t.Run(fmt.Sprintf("Go %d", seed), func(t *testing.T) {
			t.Parallel()
			w := drawWorld(uint64(seed))
			s, err := prepared.NewForeign(w.resources(false))
			require.NoError(t, err)
			endsRight(t, w, &peer{server: w.server(t, s, ""), plain: true, read: func() (map[string]holding, []string) {
				users, groups := s.State()
				return scimTruth(t, w, users, groups)
			}})
		})
		t.Run(fmt.Sprintf("JavaScript %d", seed), func(t *testing.T) {
			t.Parallel()
			w := drawWorld(uint64(seed))
			users, groups := w.resources(false)
			address := javaScript(t, users, groups)
			endsRight(t, w, &peer{server: scimServer(address + "/scim"), plain: true, read: func() (map[string]holding, []string) {
				var state struct{ Users, Groups []map[string]any }
				res, err := http.Get("http://" + address + "/state")
				require.NoError(t, err)
				defer res.Body.Close()
				require.NoError(t, json.NewDecoder(res.Body).Decode(&state))
				return scimTruth(t, w, state.Users, state.Groups)
			}})
		})
	}
}

// TestAManagerIsNamedByTheirId: a manager is written as the id of their user, and read as the account that it is.
func TestAManagerIsNamedByTheirId(t *testing.T) {
	enterprise := "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"
	for name, faults := range map[string]standin.Faults{
		"PATCH": {NoBulk: true}, "PUT": {NoPatch: true}, "odd ids": {As: standin.Personality{OddIDs: true}},
	} {
		t.Run(name, func(t *testing.T) {
			w := drawWorld(3)
			p := scimPeer(t, w, faults)
			repo := w.repo(t, strings.ReplaceAll(p.server.connect, "ADDRESS", p.server.address), ", manager: manager")
			var people strings.Builder
			people.WriteString("id,userName,displayName,email,manager\n")
			chief := ""
			for i, m := range w.people {
				if !m.due.There || !m.due.Open {
					continue
				}
				fmt.Fprintf(&people, "%d,%s,%s,%s,%s\n", i+1, m.name, m.due.Shown, m.due.Email, chief)
				if chief == "" {
					chief = fmt.Sprint(i + 1)
				}
			}
			require.NoError(t, os.WriteFile(filepath.Join(repo, "people/all.csv"), []byte(people.String()), 0o644))
			for range 3 {
				id, changes := p.server.draft(t, repo)
				if changes == 0 {
					break
				}
				_, out := p.server.run(t, repo, nil, "apply", id, "--yes")
				t.Log(out)
			}
			_, changes := p.server.draft(t, repo)
			require.Zero(t, changes)
			users, _ := p.play.State()
			ids := map[string]any{}
			for _, u := range users {
				ids[fmt.Sprint(u["userName"])] = u["id"]
			}
			n, _ := strconv.Atoi(chief)
			with := 0
			for _, u := range users {
				if x, ok := u[enterprise].(map[string]any); ok {
					manager, _ := x["manager"].(map[string]any)
					require.Equal(t, ids[w.people[n-1].name], manager["value"])
					with++
				}
			}
			require.Equal(t, strings.Count(people.String(), ","+chief+"\n"), with)
		})
	}
}

func endsRight(t *testing.T, w *world, p *peer) {
	t.Helper()
	right, wrong, said := lived(t, w, p)
	require.Empty(t, wrong, said)
	require.True(t, right, said)
}

// javaScript starts a server of tools/peers and returns its address.
func javaScript(t *testing.T, users, groups []map[string]any) string {
	t.Helper()
	tools, err := filepath.Abs("../../tools/peers")
	require.NoError(t, err)
	require.DirExists(
		t, filepath.Join(tools, "node_modules"), "make test installs what tests need; or npm ci in tools/peers",
	)
	data, err := json.Marshal(map[string]any{"users": users, "groups": groups})
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "state.json")
	require.NoError(t, os.WriteFile(file, data, 0o600))
	cmd := exec.Command("node", filepath.Join(tools, "scimmy.mjs"), file)
	cmd.Stderr = os.Stderr
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	})
	var port int
	_, err = fmt.Fscan(out, &port)
	require.NoError(t, err)
	return fmt.Sprintf("127.0.0.1:%d", port)
}

// scimTruth makes accounts of the users and groups that a SCIM server really has.
func scimTruth(t *testing.T, w *world, users, groups []map[string]any) (map[string]holding, []string) {
	ours := map[string]string{} // as names are compared → as the files write them
	mails := map[string]map[string]bool{}
	for _, m := range w.people {
		ours[strings.ToLower(m.name)] = m.name
		mails[m.name] = map[string]bool{m.is.Email: true, m.due.Email: true}
	}
	names := map[string]string{} // id → name
	accounts := map[string]holding{}
	var rest []string
	for _, u := range users {
		name := fmt.Sprint(u["userName"])
		if x, ok := ours[strings.ToLower(name)]; ok {
			name = x
		}
		names[fmt.Sprint(u["id"])] = name
		_, twice := accounts[name]
		require.False(t, twice, "two accounts of one name: %s", name)
		h := holding{There: true, Shown: fmt.Sprint(u["displayName"]), Open: u["active"] == true}
		list, _ := u["emails"].([]any)
		var more []string
		for _, e := range list {
			v := fmt.Sprint(e.(map[string]any)["value"])
			if mails[name][v] && h.Email == "" {
				h.Email = v
			} else {
				more = append(more, v)
			}
		}
		sort.Strings(more)
		roles, _ := u["roles"].([]any)
		var other []string
		for _, e := range roles {
			if v := fmt.Sprint(e.(map[string]any)["value"]); v == "lead" {
				h.Lead = true
			} else {
				other = append(other, v)
			}
		}
		accounts[name] = h
		if u["nickName"] != nil {
			rest = append(rest, fmt.Sprintf("user %s: nick %v, emails %v, roles %v", name, u["nickName"], more, other))
		} else if len(more)+len(other) > 0 {
			rest = append(rest, fmt.Sprintf("user %s: new, emails %v, roles %v", name, more, other))
		}
	}
	for _, g := range groups {
		members, _ := g["members"].([]any)
		seen := map[string]bool{}
		var in []string
		for _, m := range members {
			name := names[fmt.Sprint(m.(map[string]any)["value"])]
			require.False(t, seen[name], "%s is twice in %s", name, g["displayName"])
			seen[name] = true
			in = append(in, name)
			h := accounts[name]
			switch g["displayName"] {
			case "crew":
				h.Crew = true
			case "deck":
				h.Deck = true
			}
			accounts[name] = h
		}
		if g["displayName"] != "crew" && g["displayName"] != "deck" {
			sort.Strings(in)
			text, err := json.Marshal(in)
			require.NoError(t, err)
			rest = append(rest, fmt.Sprintf("group %s: %s", g["displayName"], text))
		}
	}
	sort.Strings(rest)
	return accounts, rest
}
