package desired_test

import (
	"os"
	"path/filepath"
	"testing"

	"pravet/examples/start"
	"pravet/internal/core/day"
	"pravet/internal/desired"
)

func FuzzPeopleCSV(f *testing.F) {
	for _, s := range []string{"id,userName,displayName,starts,away\nE1,maren.holt,Maren,2026-01-01,true\n", "id,userName\nE1,a\ne1,A\n", "\ufeffid,userName\r\n\"E\n1\",a\r\n",
		"id,userName,extra.x\n", "id\n", "id,userName\nE1,\"a\n", "id,userName\n\xff,a\n"} {
		f.Add([]byte(s))
	}
	dir := repo(f, nil)
	f.Fuzz(func(t *testing.T, data []byte) {
		fuzz(t, dir, "people/people.csv", data)
	})
}

func FuzzYAML(f *testing.F) {
	names := []string{"pravet.yaml", "apps/tickets.yaml", "kits/desk.yaml", "standing.yaml", "people/more.yaml"}
	for i, name := range names {
		if data, err := start.Files.ReadFile(name); err == nil {
			f.Add(uint8(i), data)
		}
	}
	f.Add(uint8(4), []byte("people:\n  - {id: E9, userName: x, away: {from: 2026-02-01}, extra: {a: 1}}\n"))
	f.Add(uint8(0), []byte("a: &a [*a]\n"))
	f.Add(uint8(1), []byte("? [x]\n: !!binary aGk=\n---\n"))
	f.Add(uint8(3), []byte("rejections:\n- &x {change: *x}\n"))
	dir := repo(f, nil)
	f.Fuzz(func(t *testing.T, which uint8, data []byte) {
		name := names[int(which)%len(names)]
		fuzz(t, dir, name, data)
		if name == "standing.yaml" {
			if out, err := desired.AddRejections(data, []desired.StandingRejection{{Change: "abc", Because: "x", Until: day.None}}); err == nil {
				fuzz(t, dir, name, out)
			}
		}
	})
}

// fuzz reads a repository with one file replaced; whatever it holds, every
// problem has a file and words.
func fuzz(t *testing.T, dir, name string, data []byte) {
	file := filepath.Join(dir, name)
	old, readErr := os.ReadFile(file)
	if err := os.WriteFile(file, data, 0o644); err != nil {
		t.Fatal(err)
	}
	r := read(t, dir)
	restore := os.WriteFile(file, old, 0o644)
	if readErr != nil {
		restore = os.Remove(file) // it was not there before
	}
	if restore != nil {
		t.Fatal(restore)
	}
	for _, p := range r.Problems.Sorted() {
		if p.Pos.File == "" || p.Says == "" || p.Rule == "" {
			t.Fatalf("%+v has no place", p)
		}
	}
	if r.Problems.Errors() == 0 {
		r.Matches(20000, false)
	}
}
