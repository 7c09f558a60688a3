//go:build unix

package main_test

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/rogpeppe/go-internal/testscript"

	"pravet/internal/core/plan"
	"pravet/internal/ledger"
	"pravet/internal/prepared"
)

// plays VAR DIR ARG ...: stand-ins are served from a repository until the script ends, by
// pravet standin serve ARG ...; VAR is the host and the port that they are at.
func plays(ts *testscript.TestScript, _ bool, args []string) {
	cmd := exec.Command(program, slices.Concat([]string{"standin", "serve", "--at", "127.0.0.1:0"}, args[2:])...)
	cmd.Dir = ts.MkAbs(args[1])
	cmd.Env = append(os.Environ(), "HOME="+ts.Getenv("HOME"), "CLOCK="+ts.Getenv("CLOCK"), "TOKEN="+ts.Getenv("TOKEN"))
	said, err := cmd.StderrPipe()
	ts.Check(err)
	ts.Check(cmd.Start())
	ts.Defer(func() {
		_ = cmd.Process.Signal(os.Interrupt)
		_ = cmd.Wait()
	})
	line, err := bufio.NewReader(said).ReadString('\n')
	ts.Check(err)
	_, at, ok := strings.Cut(line, "is played at http://")
	if !ok {
		ts.Fatalf("%s", line)
	}
	ts.Setenv(args[0], strings.SplitN(at, "/", 2)[0])
}

// exits STATUS COMMAND ...: the command ends with that status.
func exits(ts *testscript.TestScript, _ bool, args []string) {
	want, err := strconv.Atoi(args[0])
	ts.Check(err)
	got := 0
	if err := ts.Exec(args[1], args[2:]...); err != nil {
		var exit *exec.ExitError
		if !errors.As(err, &exit) {
			ts.Fatalf("%v", err)
		}
		got = exit.ExitCode()
	}
	if got != want {
		ts.Fatalf("exit status %d, want %d", got, want)
	}
}

// marrowick DIR: the example's repository, with Git history.
func marrowickRepo(ts *testscript.TestScript, _ bool, args []string) {
	ts.Check(prepared.Marrowick.Copy(ts.MkAbs(args[0])))
}

// appends FILE OTHER: the content of another file comes at the end of a file.
func appends(ts *testscript.TestScript, _ bool, args []string) {
	file := ts.MkAbs(args[0])
	ts.Check(os.WriteFile(file, []byte(ts.ReadFile(args[0])+ts.ReadFile(args[1])), 0o644))
}

// replace FILE OLD NEW: the first OLD of a file becomes NEW; \n, \t and \" are
// read as in Go.
func replace(ts *testscript.TestScript, _ bool, args []string) {
	file := ts.MkAbs(args[0])
	data, err := os.ReadFile(file)
	ts.Check(err)
	before, after := unquote(ts, args[1]), unquote(ts, args[2])
	if !strings.Contains(string(data), before) {
		ts.Fatalf("%s has no %q", args[0], before)
	}
	ts.Check(os.WriteFile(file, []byte(strings.Replace(string(data), before, after, 1)), 0o644))
}

func unquote(ts *testscript.TestScript, s string) string {
	out, err := strconv.Unquote(`"` + strings.ReplaceAll(s, `"`, `\"`) + `"`)
	ts.Check(err)
	return out
}

// bytes FILE TEXT: a file with these bytes, written as in Go ("\xff").
func writeBytes(ts *testscript.TestScript, _ bool, args []string) {
	ts.Check(os.WriteFile(ts.MkAbs(args[0]), []byte(unquote(ts, args[1])), 0o644))
}

// big FILE MEGABYTES BEFORE AFTER: a file with one line of that length.
func big(ts *testscript.TestScript, _ bool, args []string) {
	n, err := strconv.Atoi(args[1])
	ts.Check(err)
	f, err := os.Create(ts.MkAbs(args[0]))
	ts.Check(err)
	_, err = f.WriteString(unquote(ts, args[2]))
	ts.Check(err)
	for range n {
		_, err := f.Write(bytes.Repeat([]byte{'x'}, 1<<20))
		ts.Check(err)
	}
	_, err = f.WriteString(unquote(ts, args[3]))
	ts.Check(err)
	ts.Check(f.Close())
}

// lock DIR APP...: someone else is at work in applications of a repository until the script ends.
func lock(ts *testscript.TestScript, _ bool, args []string) {
	now := func() time.Time { return time.Date(2026, 11, 24, 9, 0, 0, 0, time.UTC) }
	l, err := ledger.Open(ts.MkAbs(args[0]), ledger.Options{By: "Leonie Marsh", Now: now})
	ts.Check(err)
	lease, err := l.Lease(args[1:], "apply abcdefgh")
	ts.Check(err)
	ts.Defer(func() { _ = lease.Release(); _ = l.Close() })
}

// plan-id VAR DIR: the id of the newest plan of a repository.
func planID(ts *testscript.TestScript, _ bool, args []string) {
	files, err := filepath.Glob(filepath.Join(ts.MkAbs(args[1]), "plans", "*.json"))
	ts.Check(err)
	var newest time.Time
	for _, f := range files {
		info, err := os.Stat(f)
		ts.Check(err)
		if !info.ModTime().Before(newest) {
			newest = info.ModTime()
			ts.Setenv(args[0], strings.TrimSuffix(filepath.Base(f), ".json"))
		}
	}
	if newest.IsZero() {
		ts.Fatalf("there is no plan")
	}
}

// change-id VAR DIR PLAN FILTER: the id of the one change that a filter finds.
func changeID(ts *testscript.TestScript, _ bool, args []string) {
	cmd := exec.Command(program, "show", args[2], "--only", args[3], "--format", "csv")
	cmd.Dir = ts.MkAbs(args[1])
	out, err := cmd.Output()
	ts.Check(err)
	lines := strings.Split(strings.TrimSpace(string(out)), "\r\n")
	if len(lines) != 2 {
		ts.Fatalf("%d changes fit %s", len(lines)-1, args[3])
	}
	id, _, _ := strings.Cut(lines[1], ",")
	ts.Setenv(args[0], id)
}

// [!] same FOLDER FOLDER: two folders hold the same files with the same bytes,
// apart from the ledger's.
func same(ts *testscript.TestScript, neg bool, args []string) {
	out, err := exec.Command(
		"diff", "-r", "-x", ".pravet", "-x", ".git", "-x", "plans", ts.MkAbs(args[0]), ts.MkAbs(args[1]),
	).
		CombinedOutput()
	if (err == nil) == neg {
		ts.Fatalf("diff: %v\n%s", err, out)
	}
}

// sql DIR STATEMENT: tampers with a repository's ledger.
func sql(ts *testscript.TestScript, _ bool, args []string) {
	out, err := exec.Command("sqlite3", filepath.Join(ts.MkAbs(args[0]), ".pravet", "ledger.db"), args[1]).
		CombinedOutput()
	if err != nil {
		ts.Fatalf("%v: %s", err, out)
	}
}

// full-disk DIR KIB: a disk of that size is mounted there.
func fullDisk(ts *testscript.TestScript, _ bool, args []string) {
	dir := ts.MkAbs(args[0])
	ts.Check(os.MkdirAll(dir, 0o755))
	if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size="+args[1]+"k", "tmpfs", dir).CombinedOutput(); err != nil {
		ts.Fatalf("a small disk cannot be mounted: %s; run the tests as root", out)
	}
	ts.Defer(func() { _ = exec.Command("umount", "-l", dir).Run() })
}

// read-only DIR: a disk that full-disk has mounted may not be written any more.
func readOnly(ts *testscript.TestScript, _ bool, args []string) {
	if out, err := exec.Command("mount", "-o", "remount,ro", ts.MkAbs(args[0])).CombinedOutput(); err != nil {
		ts.Fatalf("%s", out)
	}
}

// forge PLAN: a plan with all holds taken out, under an id and a digest that fit.
func forge(ts *testscript.TestScript, _ bool, args []string) {
	file := ts.MkAbs(args[0])
	data, err := os.ReadFile(file)
	ts.Check(err)
	p, err := plan.Read(data)
	ts.Check(err)
	for i := range p.Changes {
		p.Changes[i].Holds = nil
	}
	p.Totals = plan.Count(p.Changes)
	sealed, err := p.Seal()
	ts.Check(err)
	ts.Check(os.WriteFile(filepath.Join(filepath.Dir(file), p.ID+".json"), sealed.Bytes(), 0o600))
	ts.Setenv("FORGED", p.ID)
}

// mode MODE FILE: a file has these permissions.
func mode(ts *testscript.TestScript, _ bool, args []string) {
	info, err := os.Stat(ts.MkAbs(args[1]))
	ts.Check(err)
	if got := fmt.Sprintf("%o", info.Mode().Perm()); got != args[0] {
		ts.Fatalf("%s has the mode %s", args[1], got)
	}
}

// fifo FILE: a pipe that nobody writes to.
func fifo(ts *testscript.TestScript, _ bool, args []string) {
	ts.Check(syscall.Mkfifo(ts.MkAbs(args[0]), 0o644))
}

// unmount DIR: takes such a disk away.
func unmount(ts *testscript.TestScript, _ bool, args []string) {
	if out, err := exec.Command("umount", "-l", ts.MkAbs(args[0])).CombinedOutput(); err != nil {
		ts.Fatalf("%s", out)
	}
}
