//go:build linux

package main_test

import (
	"encoding/json"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/charmbracelet/x/ansi"
	"github.com/charmbracelet/x/vt"
	"github.com/creack/pty"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"pravet/internal/prepared"
)

// A screenSession is the built program on a real pseudo-terminal, with what a terminal would show of it.
type screenSession struct {
	t    *testing.T
	cmd  *exec.Cmd
	pty  *os.File
	vt   *vt.SafeEmulator
	raw  strings.Builder
	done chan error
	was  *unix.Termios
}

// onScreen starts the program on a terminal of some size.
func onScreen(t *testing.T, repo string, columns, lines int, env []string, args ...string) *screenSession {
	t.Helper()
	s := &screenSession{t: t, vt: vt.NewSafeEmulator(columns, lines), done: make(chan error, 1)}
	s.cmd = exec.Command(program, args...)
	s.cmd.Dir, s.cmd.Env = repo, append(append(os.Environ(), "HOME="+repo, "TERM=xterm-256color", "NO_COLOR="), env...)
	at, tty, err := pty.Open()
	require.NoError(t, err)
	require.NoError(t, pty.Setsize(at, &pty.Winsize{Rows: uint16(lines), Cols: uint16(columns)}))
	s.was, err = unix.IoctlGetTermios(int(tty.Fd()), unix.TCGETS)
	require.NoError(t, err)
	s.cmd.Stdin, s.cmd.Stdout, s.cmd.Stderr = tty, tty, tty
	s.cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Setctty: true}
	require.NoError(t, s.cmd.Start())
	s.pty = at
	read := make(chan struct{})
	go func() {
		defer close(read)
		buf := make([]byte, 1<<16)
		for {
			n, err := at.Read(buf)
			s.raw.Write(buf[:n])
			_, _ = s.vt.Write(buf[:n])
			if err != nil {
				return
			}
		}
	}()
	go func() { _, _ = io.Copy(at, s.vt) }() // what a terminal answers when it is asked
	go func() {
		err := s.cmd.Wait()
		time.Sleep(50 * time.Millisecond)
		s.done <- err
	}()
	t.Cleanup(func() {
		_ = s.cmd.Process.Kill()
		_ = tty.Close()
		_ = at.Close()
		<-read
	})
	return s
}

// text returns the text on the terminal, without spaces at the ends of lines.
func (s *screenSession) text() string {
	var out []string
	for line := range strings.SplitSeq(ansi.Strip(s.vt.Render()), "\n") {
		out = append(out, strings.TrimRight(line, " "))
	}
	return strings.TrimRight(strings.Join(out, "\n"), "\n")
}

// sees waits until the terminal shows some texts.
func (s *screenSession) sees(texts ...string) {
	s.t.Helper()
	s.until(fmt.Sprint("showing ", texts), func(screen string) bool {
		for _, text := range texts {
			if !strings.Contains(screen, text) {
				return false
			}
		}
		return true
	})
}

// unseen waits until the terminal does not show a text any more.
func (s *screenSession) unseen(text string) {
	s.t.Helper()
	s.until("without "+text, func(screen string) bool { return !strings.Contains(screen, text) })
}

func (s *screenSession) until(what string, ok func(screen string) bool) {
	s.t.Helper()
	for end := time.Now().Add(30 * time.Second); ; time.Sleep(5 * time.Millisecond) {
		if ok(s.text()) {
			return
		}
		if time.Now().After(end) {
			s.t.Fatalf("the terminal is not %s:\n%s", what, s.text())
		}
	}
}

// keyNames are keys as a terminal sends them.
var keyNames = map[string]string{
	"enter": "\r", "esc": "\x1b", "up": "\x1b[A", "down": "\x1b[B", "right": "\x1b[C", "left": "\x1b[D", "space": " ", "home": "\x1b[H",
	"end": "\x1b[F", "pgdown": "\x1b[6~", "pgup": "\x1b[5~", "back": "\x7f", "ctrl+c": "\x03", "ctrl+u": "\x15",
}

// press presses keys, by name or as they are.
func (s *screenSession) press(keys ...string) {
	s.t.Helper()
	for _, key := range keys {
		if name, ok := keyNames[key]; ok {
			key = name
		}
		_, err := io.WriteString(s.pty, key)
		require.NoError(s.t, err)
		time.Sleep(20 * time.Millisecond)
		if key == keyNames["esc"] {
			time.Sleep(200 * time.Millisecond) // what follows at once would belong to it
		}
	}
}

// at goes to the row that says something.
func (s *screenSession) at(text string) {
	s.t.Helper()
	chosen := func(screen string) string {
		for line := range strings.SplitSeq(screen, "\n") {
			if strings.HasPrefix(line, ">") {
				return line
			}
		}
		return ""
	}
	s.press("home")
	for range 80 {
		time.Sleep(20 * time.Millisecond)
		if strings.Contains(chosen(s.text()), text) {
			return
		}
		s.press("down")
	}
	s.t.Fatalf("no row says %q:\n%s", text, s.text())
}

// ends waits until the program has ended, and makes sure that the terminal is as it was.
func (s *screenSession) ends(status int) {
	s.t.Helper()
	select {
	case <-s.done:
	case <-time.After(20 * time.Second):
		s.t.Fatalf("the program does not end:\n%s", s.text())
	}
	require.Equal(s.t, status, s.cmd.ProcessState.ExitCode(), s.text())
	require.False(s.t, s.vt.IsAltScreen(), "the screen that was there before is shown again")
	require.False(s.t, s.vt.CursorHidden())
	is, err := unix.IoctlGetTermios(int(s.pty.Fd()), unix.TCGETS)
	require.NoError(s.t, err)
	require.Equal(s.t, s.was.Lflag, is.Lflag, "lines are edited and echoed as before")
	require.Equal(s.t, s.was.Iflag, is.Iflag)
	require.Equal(s.t, s.was.Oflag, is.Oflag)
}

// reviewRepo is the example with a plan.
func reviewRepo(t *testing.T) (repo, id string) {
	t.Helper()
	repo = filepath.Join(t.TempDir(), "repo")
	require.NoError(t, prepared.Marrowick.Copy(repo))
	status, out := in(t, repo, "draft", "--on", "2026-11-24")
	require.Zero(t, status, out)
	files, err := filepath.Glob(filepath.Join(repo, "plans", "*.json"))
	require.NoError(t, err)
	require.Len(t, files, 1)
	return repo, strings.TrimSuffix(filepath.Base(files[0]), ".json")
}

// decided returns the recorded decision about each change of the newest plan.
func decided(t *testing.T, repo string) map[string]string {
	t.Helper()
	status, out := in(t, repo, "show", "--format", "json")
	require.Zero(t, status, out)
	var shown struct{ Decisions map[string]string }
	require.NoError(t, json.Unmarshal([]byte(out), &shown))
	return shown.Decisions
}

// TestAReviewFromTheFirstRowToTheRecord: somebody goes through the plan with keys alone, and what was decided is recorded as
// one, once it is confirmed, and not before.
func TestAReviewFromTheFirstRowToTheRecord(t *testing.T) {
	repo, id := reviewRepo(t)
	s := onScreen(t, repo, 120, 40, nil, "review", "--by", "Farah Linden")
	s.sees("Review of plan "+id, "30 undecided, 8 held", "Seats: as before. Cost: 300.00 EUR/month", "c confirm")

	// One change is read with all that is known of it.
	s.at("guard suspensions")
	s.press("enter", "down", "enter")
	s.sees("held by suspensions", "What this person has and should have", "people/others.yaml", "Commit ", "line 1  new")
	s.press("esc")

	// A guard is lifted, and a fold accepted for the same reason.
	s.at("guard suspensions")
	s.press("l")
	s.sees("Lift the guard suspensions, because:")
	s.press("the season is over", "enter")
	s.sees("The guard suspensions is lifted for this plan", "35 undecided, 3 held")
	s.press("a")
	s.sees("Accept 5 changes, because: the season is over")
	s.press("enter")
	s.sees("5 changes to accept", "30 undecided, 3 held, 5 to accept")

	// A selection is rejected until a day.
	s.at("suspend account, Oskar Nyman")
	s.press("space")
	s.at("suspend account, Walter Munk")
	s.press("space")
	s.sees("2 selected")
	s.press("r", "ctrl+u", "they come back", "enter")
	s.sees("Until (YYYY-MM-DD")
	s.press("never", "enter")
	s.sees(`"never" is not a day`)
	s.press("r", "enter", "2026-12-31", "enter")
	s.sees("28 undecided, 3 held, 5 to accept, 2 to reject")

	// Reasons that were given can be called up again.
	s.at("restore account, Dagny Cole")
	s.press("a")
	s.sees("because: they come back")
	s.press("up")
	s.sees("because: the season is over")
	s.press("esc")
	s.sees("28 undecided")

	// What is left for later is undecided again.
	s.at("suspend account, Walter Munk")
	s.press("u")
	s.sees("29 undecided, 3 held, 5 to accept, 1 to reject")
	require.Empty(t, decided(t, repo), "nothing is recorded yet")

	s.press("c")
	s.sees("lift the guard suspensions for this plan", "accept 5 changes, because the season is over", "reject 1 change until 2026-12-31")
	s.press("no", "enter")
	s.sees("All changes, by cause")
	s.press("c", "yes", "enter")
	s.sees("Recorded: accept 5 changes")
	s.ends(0)

	counts := map[string]int{}
	for _, state := range decided(t, repo) {
		counts[state]++
	}
	require.Equal(t, map[string]int{"accepted": 5, "rejected": 1}, counts)
	_, out := in(t, repo, "log", "--kind", "decision", "--format", "json")
	require.Equal(t, 1, strings.Count(out, `"kind": "decision"`), "it is one entry: %s", out)
	left, err := filepath.Glob(filepath.Join(repo, ".pravet", "reviews", "*"))
	require.NoError(t, err)
	require.Empty(t, left)
}

// TestAReviewIsTakenUpAgain: what was decided stays where somebody leaves, or is killed in the middle; and others who decide
// meanwhile are not overruled.
func TestAReviewIsTakenUpAgain(t *testing.T) {
	repo, id := reviewRepo(t)
	begin := func() *screenSession {
		s := onScreen(t, repo, 120, 30, nil, "review", id, "--by", "Farah Linden")
		s.sees("Review of plan")
		return s
	}
	s := begin()
	s.at("restore account, Dagny Cole")
	s.press("a", "back on board", "enter")
	s.sees("1 to accept")
	other := onScreen(t, repo, 100, 30, nil, "review", id, "--by", "Farah Linden")
	other.sees("is open in another terminal")
	other.ends(1)
	s.press("q")
	s.sees("Nothing was recorded", "has decided about 1 change so far", "pravet review "+id)
	s.ends(0)

	s = begin()
	s.sees("1 to accept")
	s.at("suspend account, Walter Munk")
	s.press("r", "ctrl+u", "stays", "enter", "enter")
	s.sees("1 to accept, 1 to reject")
	require.NoError(t, s.cmd.Process.Kill())
	<-s.done

	status, out := in(t, repo, "reject", id, "--person", "dagny.cole", "--because", "not yet")
	require.Zero(t, status, out)
	s = begin()
	s.press("c", "yes", "enter")
	s.sees("nothing was recorded: others have decided about 1 change since you did")
	s.ends(1)
	s = begin()
	s.sees("1 to reject")
	s.press("c", "yes", "enter")
	s.sees("Recorded: reject 1 change")
	s.ends(0)
	counts := map[string]int{}
	for _, state := range decided(t, repo) {
		counts[state]++
	}
	require.Equal(t, map[string]int{"rejected": 2}, counts)
}

// TestAReviewIsFilteredAndGrouped: by the one filter, and as show groups.
func TestAReviewIsFilteredAndGrouped(t *testing.T) {
	repo, _ := reviewRepo(t)
	s := onScreen(t, repo, 120, 40, nil, "review")
	s.sees("All changes, by cause")
	s.press("/", `app eq "berths" and effect eq "widens"`, "enter")
	s.sees(`4 of 38: app eq "berths" and effect eq "widens"`)
	s.press("/", "ctrl+u", `colour eq "red"`, "enter")
	s.sees(`there is no attribute of a change "colour"`)
	s.press("esc")
	s.unseen("4 of 38")
	s.press("g", "ctrl+u", "department", "enter")
	s.sees("All changes, by department", "department: Ticketing")
	s.press("g", "ctrl+u", "nothing", "enter")
	s.sees(`"nothing"`)
	s.press("?")
	s.sees("take back what this review has decided about it", "any key: back")
	s.press("x", "q")
	s.ends(0)
}

// TestWhatCannotBeUndoneIsAcceptedIndividually: a fold leaves it out, and says so; chosen individually it is accepted.
func TestWhatCannotBeUndoneIsAcceptedIndividually(t *testing.T) {
	repo := filepath.Join(t.TempDir(), "repo")
	manyChanges(t, repo, 2, "strays: remove", "gone.one,Gone One,Blocked,,", "gone.two,Gone Two,Blocked,,")
	s := onScreen(t, repo, 120, 44, nil, "review")
	s.sees("2 undecided, 2 held")
	s.press("g", "ctrl+u", "app", "enter")
	s.sees("All changes, by app")
	s.at("4 ▸ tickets")
	s.press("a", "all of it", "enter")
	s.sees("2 changes to accept; 2 left out because they cannot be undone: choose each individually", "2 held, 2 to accept")
	s.at("cannot be undone")
	s.press("enter", "down", "a", "enter")
	s.sees("1 change to accept", "1 held, 1 to accept (held), 2 to accept")
	s.press("q")
	s.ends(0)
}

// TestTheTerminalIsPutBack: however a review ends, lines are edited and echoed as before, and the cursor is seen.
func TestTheTerminalIsPutBack(t *testing.T) {
	repo, _ := reviewRepo(t)
	for name, end := range map[string]struct {
		how    func(s *screenSession)
		status int
	}{
		"left":        {func(s *screenSession) { s.press("q") }, 0},
		"control-C":   {func(s *screenSession) { s.press("ctrl+c") }, 0},
		"terminated":  {func(s *screenSession) { _ = s.cmd.Process.Signal(syscall.SIGTERM) }, 1},
		"interrupted": {func(s *screenSession) { _ = s.cmd.Process.Signal(syscall.SIGINT) }, 1},
		"quit":        {func(s *screenSession) { _ = s.cmd.Process.Signal(syscall.SIGQUIT) }, 1},
		"hung up":     {func(s *screenSession) { _ = s.cmd.Process.Signal(syscall.SIGHUP) }, 1},
	} {
		t.Run(name, func(t *testing.T) {
			s := onScreen(t, repo, 80, 24, nil, "review")
			s.sees("All changes, by cause")
			require.True(t, s.vt.IsAltScreen())
			end.how(s)
			s.ends(end.status)
		})
	}
}

// TestAReviewFitsEveryTerminal: from 80 columns and 24 lines to 200 and 60, and while the size changes; without colours where
// NO_COLOR says so.
func TestAReviewFitsEveryTerminal(t *testing.T) {
	repo, _ := reviewRepo(t)
	coloured := regexp.MustCompile("\x1b\\[[0-9;]*38;[25];")
	for _, size := range [][2]int{{80, 24}, {120, 40}, {200, 60}} {
		s := onScreen(t, repo, size[0], size[1], []string{"NO_COLOR=1"}, "review")
		s.sees("30 undecided, 8 held", "Held by guards", "c confirm", "? keys")
		for _, next := range [][2]int{{200, 60}, {80, 24}, {40, 10}, {size[0], size[1]}} {
			require.NoError(t, pty.Setsize(s.pty, &pty.Winsize{Rows: uint16(next[1]), Cols: uint16(next[0])}))
			s.vt.Resize(next[0], next[1])
			s.sees("30 undecided", "enter open")
		}
		s.press("q")
		s.ends(0)
		require.False(t, coloured.MatchString(s.raw.String()), "no colour was written")
	}
	s := onScreen(t, repo, 100, 30, []string{"COLORTERM=truecolor"}, "review")
	s.sees("Held by guards")
	s.at("guard suspensions")
	s.press("enter")
	s.sees("narrows")
	s.press("q")
	s.ends(0)
	require.True(t, coloured.MatchString(s.raw.String()), "effects are in colour")
}

// TestAReviewLineByLine: the same by lines, from a file as well; nothing is drawn.
func TestAReviewLineByLine(t *testing.T) {
	repo, id := reviewRepo(t)
	run := func(lines ...string) (int, string) {
		cmd := exec.Command(program, "--by", "Farah Linden", "review", "--plain")
		cmd.Dir, cmd.Env = repo, append(os.Environ(), "HOME="+repo)
		cmd.Stdin = strings.NewReader(strings.Join(lines, "\n") + "\n")
		out, _ := cmd.CombinedOutput()
		return cmd.ProcessState.ExitCode(), string(out)
	}
	status, out := run("help", "open 1", "open 99", "fly", "accept 1", "reject 2 until yesterday because no", "quit")
	require.Zero(t, status, out)
	require.Contains(t, out, "1. 5 changes, rosters, guard suspensions: 5 accounts would be suspended; the limit is 10% of 26 open accounts, which is 2 (5 held)")
	require.Contains(t, out, `there is no row "99"`)
	require.Contains(t, out, `"fly" is not a command here; type help for all of them`)
	require.Contains(t, out, "accept needs a reason: accept 4 because REASON")
	require.Contains(t, out, `"yesterday" is not a day`)
	require.Contains(t, out, "Nothing was decided, and nothing was recorded.")
	require.NotContains(t, out, "\x1b", "no sign of a terminal")
	require.Empty(t, decided(t, repo))

	row := regexp.MustCompile(`(?m)^(\d+)\. 1 change, rosters: restore account, Dagny Cole`).FindStringSubmatch(out)
	require.NotNil(t, row, out)
	status, out = run("lift 1 because the season is over", "accept 1,"+row[1]+" because agreed with the owners", "status", "record")
	require.Zero(t, status, out)
	require.Contains(t, out, "29 undecided, 3 held, 6 to accept")
	require.Contains(t, out, "Recorded: accept 6 changes, because agreed with the owners.")
	require.Len(t, decided(t, repo), 6)

	status, out = in(t, repo, "review", id)
	require.Equal(t, 2, status)
	require.Contains(t, out, "review needs a terminal; without one use --plain, or accept and reject")

	s := onScreen(t, repo, 100, 40, []string{"TERM=dumb"}, "review", "--plain")
	s.sees("\nreview:")
	s.press("record\n")
	s.sees("nothing has been decided in this review")
	s.press("quit\n")
	s.ends(0)
}

// TestAReviewIsQuick: the first picture and each key, of 10,000 changes; what was seen is written to the log, and no limit is
// asked for but one that nobody would wait for.
func TestAReviewIsQuick(t *testing.T) {
	repo := filepath.Join(t.TempDir(), "repo")
	manyChanges(t, repo, 10_000, "")
	began := time.Now()
	s := onScreen(t, repo, 120, 40, nil, "review")
	s.sees("All changes, by cause")
	first := time.Since(began)
	s.sees("Seats: as before")
	var keys []time.Duration
	for i := range 40 {
		key := "down"
		if i%2 == 1 {
			key = "up"
		}
		before := s.text()
		began := time.Now()
		s.press(key)
		s.until("moving", func(screen string) bool { return screen != before })
		keys = append(keys, time.Since(began)-20*time.Millisecond) // that press waits
	}
	slices.Sort(keys)
	s.press("g", "ctrl+u", "app", "enter")
	s.sees("All changes, by app")
	s.press("end", "a", "all of them")
	s.sees("all of them")
	began = time.Now()
	s.press("enter")
	s.sees("10,000 to accept")
	decision := time.Since(began) - 20*time.Millisecond
	t.Logf("first picture %v; a key: median %v, longest %v; a decision %v", first, keys[len(keys)/2], keys[len(keys)-1], decision)
	require.Less(t, first, 5*time.Second)
	require.Less(t, keys[len(keys)/2], time.Second)
	s.press("q")
	s.ends(0)
}

// manyChanges makes a repository with a plan of so many changes, and one for each account that belongs to nobody; app is another
// line of the application's file.
func manyChanges(t *testing.T, repo string, n int, app string, strays ...string) {
	t.Helper()
	write := func(name, text string) {
		file := filepath.Join(repo, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o700))
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	}
	write("pravet.yaml", "organization: Marrowick Ferries\nguards: {exportAge: P10Y}\n")
	var people, export strings.Builder
	people.WriteString("id,userName,displayName,department\n")
	export.WriteString("Login,Full name,State,Teams,Seats\n")
	for i := range n {
		dep := fmt.Sprintf("Dock %d", i%50)
		fmt.Fprintf(&people, "E%05d,person.%d,Person %d,%s\n", i, i, i, dep)
		fmt.Fprintf(&export, "person.%d,Person %d,Open,,till-seat\n", i, i)
	}
	for _, row := range strays {
		export.WriteString(row + "\n")
	}
	write("people/people.csv", people.String())
	write("exports/tickets.csv", export.String())
	write("apps/tickets.yaml", `app: tickets
title: Ticket sales
export: {path: exports/tickets.csv, format: csv, columns: {userName: Login, displayName: Full name, active: {column: State, true: Open, false: Blocked}, groups: {column: Teams, split: ";"}, licenses: {column: Seats, split: ";"}}}
connect: {by: files}
match: userName
account: {userName: userName, displayName: displayName}
groups: {north-quay: {title: North quay}}
licenses: {till-seat: {seats: 20000, price: 2.00 EUR/month}}
guards: {narrowing: 100%, removals: 5}
`+app+"\n")
	var kits strings.Builder
	kits.WriteString("kits:\n")
	for i := range 50 {
		fmt.Fprintf(&kits, "  dock-%d:\n    for: department eq \"Dock %d\"\n    gives: {tickets: {groups: [north-quay], licenses: [till-seat]}}\n", i, i)
	}
	write("kits/kits.yaml", kits.String())
	status, out := in(t, repo, "draft")
	require.Zero(t, status, out)
}

// TestAReviewIsSignedOnce: rejections, lifted guards and acceptances of one review are one statement under one signature, here
// and in a file that travels; what was signed cannot be told apart, and nothing else is taken.
func TestAReviewIsSignedOnce(t *testing.T) {
	o := newOffice(t, signedOnly, "E0061", "E0062")
	o.well("", "draft", "--on", "2026-11-24")
	plan := planOf(t, o.dir)
	there := o.copied()
	status, out := plainly(o, "E0061", nil, "group app", "quit")
	require.Zero(t, status, out)
	status, out = plainly(
		o, "E0061", nil, "lift 1 because the season is over", "accept 1 because agreed with the crew office", "group app",
		"reject "+rowOf(t, out, "berths")+" standing because stays as it is", "status", "record",
	)
	require.Zero(t, status, out)
	require.Contains(t, out, "Recorded: lift the guard suspensions for this plan, because the season is over.")
	_, entries := o.by("", "log", "--kind", "decision", "--format", "json")
	require.Equal(t, 1, strings.Count(entries, "BEGIN SSH SIGNATURE"), entries)
	require.Equal(t, 1, strings.Count(entries, `"seq"`), entries)
	states := map[string]int{}
	for _, state := range decided(t, o.dir) {
		states[state]++
	}
	require.Equal(t, 5, states["accepted"], states)
	require.Positive(t, states["rejected"], states)
	standing, err := os.ReadFile(filepath.Join(o.dir, "standing.yaml"))
	require.NoError(t, err)
	require.Contains(t, string(standing), "stays as it is")

	// Another reads what one signed, and takes what the other wrote down.
	file := filepath.Join(o.dir, "plans", plan+".json")
	require.NoError(t, os.WriteFile(filepath.Join(there.dir, "plan.json"), readFile(t, file), 0o600))
	status, out = plainly(
		there, "E0062", []string{"plan.json", "--out", "yes.txt"}, "lift 1 because it is over", "accept 1 because yes", "record",
	)
	require.Zero(t, status, out)
	sheet := readFile(t, filepath.Join(there.dir, "yes.txt"))
	require.Equal(t, 1, strings.Count(string(sheet), "BEGIN SSH SIGNATURE"))
	require.Equal(t, 1, strings.Count(string(sheet), "Pravet decision, form 1"))
	at := filepath.Join(filepath.Dir(o.dir), "yes.txt")
	forged := strings.Replace(string(sheet), `"verdict": "lift"`, `"verdict": "accept"`, 1)
	require.NoError(t, os.WriteFile(at, []byte(forged), 0o600))
	status, out = o.by("", "decisions", "take", at)
	require.Equal(t, 1, status)
	require.Contains(t, out, "its signature does not count")
	require.NoError(t, os.WriteFile(at, sheet, 0o600))
	require.Contains(t, o.well("", "decisions", "take", at), "lifts a guard of the whole plan, accepts 5 changes")
	require.Contains(t, o.well("", "decisions", "take", at), "On record already")
}

// TestAReviewSaysWhoElseDecides: what waits for the owner of an application is counted while somebody else accepts it, and stays
// so once that is recorded.
func TestAReviewSaysWhoElseDecides(t *testing.T) {
	o := newOffice(t, signedOnly+"deciders:\n  - {changes: 'app eq \"berths\"', people: {owner: true}}\n", "E0061")
	o.well("", "draft", "--on", "2026-11-24")
	status, out := plainly(o, "E0061", nil, "group app", "quit")
	require.Zero(t, status, out)
	require.Contains(t, out, "Waiting: 5 for the owner of berths")
	row := rowOf(t, out, "berths")
	status, out = plainly(o, "E0061", nil, "group app", "accept "+row+" because agreed", "status", "record")
	require.Zero(t, status, out)
	require.Contains(t, out, "25 undecided")
	require.Contains(t, out, "5 to accept (others decide too)")
	require.Contains(t, out, "Waiting: 5 for the owner of berths")
	_, out = plainly(o, "E0061", nil, "quit")
	require.Contains(t, out, "5 waiting")
}

// plainly goes through a plan line by line with somebody's key.
func plainly(o *office, id string, args []string, lines ...string) (status int, out string) {
	o.t.Helper()
	cmd := exec.Command(program, append([]string{"review", "--plain"}, args...)...)
	cmd.Dir, cmd.Env = o.dir, append(os.Environ(), "HOME="+filepath.Dir(o.dir), "PRAVET_KEY="+o.key(id))
	cmd.Stdin = strings.NewReader(strings.Join(lines, "\n") + "\n")
	data, err := cmd.CombinedOutput()
	if cmd.ProcessState == nil {
		require.NoError(o.t, err)
	}
	return cmd.ProcessState.ExitCode(), string(data)
}

// rowOf is the number of the row of a group, as it was listed.
func rowOf(t *testing.T, out, group string) string {
	t.Helper()
	found := regexp.MustCompile(`(?m)^(\d+)\. \d+ changes?, ` + group + ` \(`).FindStringSubmatch(out)
	require.NotNil(t, found, out)
	return found[1]
}

func readFile(t *testing.T, file string) []byte {
	t.Helper()
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	return data
}
