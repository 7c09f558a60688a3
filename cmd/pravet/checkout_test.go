//go:build unix

package main_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"pravet/internal/core/plan"
)

// TestAPlanIsOfOneRevision: while somebody checks out two branches to and fro, each plan that is drafted is of one of
// them, and says which. A mixture is drafted again, and refused at last.
func TestAPlanIsOfOneRevision(t *testing.T) {
	s := &yardServer{connect: "  by: files\n"}
	repo := yardRepo(t, s)
	write := func(name, text string) {
		t.Helper()
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(repo, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(repo, name), []byte(text), 0o644))
	}
	git := func(args ...string) string {
		t.Helper()
		out, err := exec.Command("git", append([]string{"-C", repo, "-c", "user.name=F", "-c", "user.email=f@x.example"}, args...)...).Output()
		require.NoError(t, err, "%v", args)
		return strings.TrimSpace(string(out))
	}
	write(".gitignore", "exports/\nplans/\n.pravet/\n.local/\n*.json\n")
	write("exports/yard.csv", "Login,State,Groups,Roles\np01,true,deck,\n")
	write("apps/yard.yaml", "app: yard\nconnect: {by: files}\nexport: {format: csv, path: exports/yard.csv, columns: {userName: Login, "+
		"active: State, groups: Groups, roles: Roles}}\nmatch: userName\ngroups: {crew: {}, deck: {}}\nroles: {lead: {}}\n")
	branch := func(name, group string) {
		for i := range 40 {
			write(fmt.Sprintf("kits/k%02d.yaml", i), fmt.Sprintf("kits:\n  k%02d: {for: 'userName eq \"p%02d\"', gives: {yard: {groups: [%s]}}}\n",
				i, 1+i%20, group))
			write(fmt.Sprintf("people/%02d.csv", i), fmt.Sprintf("id,userName,displayName,title\nx%d,x%d,%s %d,%s\n", i, i, name, i,
				strings.Repeat(name, 200)))
		}
		if name == "b" {
			write("kits/more.yaml", "kits:\n  more: {for: 'userName eq \"p02\"', gives: {yard: {roles: [lead]}}}\n")
		}
	}
	git("init", "--quiet", "--initial-branch", "a")
	branch("a", "crew")
	git("add", ".")
	git("commit", "--quiet", "--message", "a")
	git("checkout", "--quiet", "-b", "b")
	branch("b", "deck")
	git("add", ".")
	git("commit", "--quiet", "--message", "b")

	digest := map[string]string{} // of each revision
	read := func() plan.Desired {
		data, err := os.ReadFile(filepath.Join(repo, "plan.json"))
		require.NoError(t, err)
		var p struct{ Desired plan.Desired }
		require.NoError(t, json.Unmarshal(data, &p))
		return p.Desired
	}
	for _, name := range []string{"a", "b"} {
		git("checkout", "--quiet", name)
		status, out := s.run(t, repo, nil, "draft", "--out", "plan.json")
		require.Zero(t, status, out)
		d := read()
		require.True(t, d.Clean)
		require.Equal(t, git("rev-parse", name), d.Revision)
		digest[d.Revision] = d.Digest
	}
	var stop atomic.Bool
	done := make(chan error, 1)
	go func() {
		var err error
		for n := 0; err == nil && !stop.Load(); n++ {
			time.Sleep(time.Duration(rand.IntN(200)) * time.Millisecond)
			err = exec.Command("git", "-C", repo, "checkout", "--quiet", []string{"a", "b"}[n%2]).Run()
		}
		done <- err
	}()
	drafts, refused, dirty := 40, 0, 0
	if os.Getenv("DRAFTS") != "" {
		_, err := fmt.Sscan(os.Getenv("DRAFTS"), &drafts)
		require.NoError(t, err)
	}
	for range drafts {
		require.NoError(t, os.RemoveAll(filepath.Join(repo, "plan.json")))
		status, out := s.run(t, repo, nil, "draft", "--out", "plan.json")
		if status != 0 {
			refused++
			require.NoFileExists(t, filepath.Join(repo, "plan.json"))
			continue
		}
		d := read()
		if !d.Clean {
			dirty++
		}
		require.Contains(
			t, []string{digest[git("rev-parse", "a")], digest[git("rev-parse", "b")]}, d.Digest, "a mixture: %s", out,
		)
		if d.Clean {
			require.Equal(t, digest[d.Revision], d.Digest, "it says %s", d.Revision)
		}
	}
	stop.Store(true)
	require.NoError(t, <-done)
	t.Logf("of %d drafts %d were refused, %d said that not all is committed", drafts, refused, dirty)
	require.Less(t, refused+dirty, drafts, "some are drafted")

	// Once nobody changes anything, it goes.
	status, out := s.run(t, repo, nil, "draft", "--out", "plan.json")
	require.Zero(t, status, out)
}
