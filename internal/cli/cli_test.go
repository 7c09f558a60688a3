package cli

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/require"

	"pravet/examples/marrowick"
	"pravet/internal/prepared"
)

// atDesk is the example's repository on its morning, with someone at a desk who
// types.
type atDesk struct {
	dir string
	out bytes.Buffer
	err bytes.Buffer
}

func TestMain(m *testing.M) {
	code := m.Run()
	if err := prepared.Remove(); err != nil {
		panic(err)
	}
	os.Exit(code)
}

// drafted is the repository once a plan was drafted, and applied once that was carried out.
var (
	drafted = prepared.New(func(dir string) error {
		if err := prepared.Marrowick.Copy(dir); err != nil {
			return err
		}
		return (&atDesk{dir: dir}).expect(Done, "draft", "--on", "2026-11-24")
	})
	applied = prepared.New(func(dir string) error {
		if err := drafted.Copy(dir); err != nil {
			return err
		}
		return (&atDesk{dir: dir}).expect(Held, "apply", "2w57bede", "--yes")
	})
)

// expect runs a command that ends with a status.
func (d *atDesk) expect(status int, args ...string) error {
	if got := d.run(args...); got != status {
		return fmt.Errorf("%s ended with status %d: %s", args[0], got, d.err.String())
	}
	return nil
}

func atWork(t *testing.T) *atDesk { return in(t, prepared.Marrowick) }

// in is a desk in a copy of a folder.
func in(t *testing.T, from *prepared.Folder) *atDesk {
	d := &atDesk{dir: t.TempDir()}
	require.NoError(t, from.Copy(d.dir))
	return d
}

func (d *atDesk) env() Env {
	return Env{
		Version: "v1",
		Stdin:   strings.NewReader(""),
		Stdout:  &d.out,
		Stderr:  &d.err,
		Environ: []string{"NO_COLOR=1", "BERTHS_TOKEN=made-up"},
		Now:     func() time.Time { return marrowick.Today },
		Dir:     d.dir,
	}
}

// run runs a command and returns its exit status.
func (d *atDesk) run(args ...string) int { return d.runFor(context.Background(), args...) }

func (d *atDesk) runFor(ctx context.Context, args ...string) int {
	d.out.Reset()
	d.err.Reset()
	return Run(ctx, args, d.env())
}

// TestEveryCommandIsExplainedAndItsExamplesWork: each has a group, a sentence,
// a text and examples; the examples are run on the demo data, after a plan was
// drafted, and for the ledger carried out.
func TestEveryCommandIsExplainedAndItsExamplesWork(t *testing.T) {
	c := &program{Env: atWork(t).env(), ctx: context.Background()}
	var walk func(cmd *cobra.Command)
	walk = func(cmd *cobra.Command) {
		for _, sub := range cmd.Commands() {
			walk(sub)
		}
		if cmd.Name() == "pravet" || cmd.Name() == "help" || cmd.CommandPath() == "pravet completion" {
			return
		}
		require.NotEmpty(t, cmd.Short, cmd.Name())
		require.NotEmpty(t, cmd.Long, cmd.Name())
		require.NotEmpty(t, cmd.Example, cmd.Name())
		if cmd.Parent().Name() == "pravet" {
			require.NotEmpty(t, cmd.GroupID, cmd.Name())
		}
		for _, line := range strings.Split(cmd.Example, "\n") {
			t.Run(strings.TrimSpace(line), func(t *testing.T) {
				if !strings.Contains(line, "serve") { // those serve at one port
					t.Parallel()
				}
				works(t, cmd, line)
			})
		}
	}
	walk(c.root())
}

// works runs an example of a command.
func works(t *testing.T, cmd *cobra.Command, line string) {
	from := drafted
	if slices.Contains([]string{"log", "verify", "backout"}, cmd.Name()) {
		from = applied
	}
	d := in(t, from)
	args := shellSplit(strings.TrimSpace(line))
	require.Equal(t, "pravet", args[0], line)
	ctx, stop := context.Background(), func() {}
	if slices.Contains(args, "serve") { // until somebody interrupts
		ctx, stop = context.WithTimeout(ctx, 300*time.Millisecond)
	}
	status := d.runFor(ctx, args[1:]...)
	stop()
	wanted := Done
	switch {
	case cmd.CommandPath() == "pravet decisions take":
		wanted = Failed // nobody has written it
	case strings.HasPrefix(cmd.CommandPath(), "pravet ledger"):
		wanted = WrongUsage // here the record is a file
	case cmd.Name() == "review" && !slices.Contains(args, "--plain") && !slices.Contains(args, "--page"):
		wanted = WrongUsage // there is no terminal to draw on
	case cmd.Name() == "fetch" && slices.Contains(args, "berths"):
		wanted = WrongUsage // here its users live in a file
	case cmd.Name() != "apply" || slices.Contains(args, "--only"): // of whom nothing is held
	case slices.Contains(args, "--yes"):
		wanted = Held
	default:
		wanted = WrongUsage // there is no terminal to ask on
	}
	require.Equal(t, wanted, status, "%s\n%s", line, d.err.String())
}

// shellSplit splits a line at spaces that are not within single quotes.
func shellSplit(line string) (out []string) {
	word, quoted, any := "", false, false
	for _, r := range line {
		switch {
		case r == '\'':
			quoted, any = !quoted, true
		case r == ' ' && !quoted:
			if any {
				out = append(out, word)
			}
			word, any = "", false
		default:
			word, any = word+string(r), true
		}
	}
	if any {
		out = append(out, word)
	}
	return out
}

// TestOutputIsForProgramsAndMessagesAreForPeople: what a program reads stands
// alone on standard output.
func TestOutputIsForProgramsAndMessagesAreForPeople(t *testing.T) {
	d := atWork(t)
	for _, args := range [][]string{
		{"check", "--format", "json"},
		{"check", "--format", "csv"},
		{"check", "--format", "sarif"},
		{"draft", "--on", "2026-11-24", "--out", "-"},
		{"check", "--schema", "plan"}, {"log", "--format", "json"},
	} {
		if args[0] == "log" {
			require.Equal(t, Done, d.run("draft", "--on", "2026-11-24"))
		}
		require.Equal(t, Done, d.run(args...), "%v: %s", args, d.err.String())
		first := d.out.String()[:1]
		require.Contains(t, []string{"{", "[", "f"}, first, "%v", args) // f: the first column of check's CSV is file
		require.NotContains(t, d.out.String(), "Read 12 files")
		require.NotContains(t, d.out.String(), "Written to")
		require.NotContains(t, d.out.String(), "\x1b")
	}
}

// TestWrongUsageIsToldApartFromFailure, and neither shows a stack.
func TestWrongUsageIsToldApartFromFailure(t *testing.T) {
	d := atWork(t)
	require.Equal(t, Done, d.run("draft", "--on", "2026-11-24"))
	for _, c := range []struct {
		status int
		says   string
		args   []string
	}{
		{WrongUsage, "unknown flag: --colour", []string{"show", "2w57bede", "--colour"}},
		{WrongUsage, "needs a reason", []string{"reject", "2w57bede"}},
		{WrongUsage, "needs a reason", []string{"reject", "2w57bede", "--because", "  "}},
		{
			WrongUsage, "the plan has no change that fits",
			[]string{"accept", "2w57bede", "--only", `app eq "none"`, "--because", "x"},
		},
		{
			WrongUsage, "--until: \"soon\" is not a date",
			[]string{"reject", "2w57bede", "--until", "soon", "--because", "x"},
		},
		{WrongUsage, "--no-walk goes with --keep DIR", []string{"demo", "--no-walk"}},
		{WrongUsage, "there is no schema \"kit\"", []string{"check", "--schema", "kit"}},
		{WrongUsage, "--only, column 1", []string{"draft", "--only", `shoe eq "x"`}},
		{WrongUsage, "there is no plan \"xyz\" in plans/", []string{"apply", "xyz"}},
		{Failed, "there is no such folder", []string{"check", "--repo", "nowhere"}},
		{Failed, "no such run or plan|has no run or plan \"run-9\"", []string{"log", "run-9"}},
	} {
		require.Equal(t, c.status, d.run(c.args...), "%v", c.args)
		ok := false
		for _, says := range strings.Split(c.says, "|") {
			ok = ok || strings.Contains(d.err.String(), says)
		}
		require.True(t, ok, "%v: %s", c.args, d.err.String())
		require.NotContains(t, d.err.String(), "goroutine")
		require.True(t, strings.HasPrefix(d.err.String(), "pravet: "), d.err.String())
	}
}

// TestTheQuestionIsAskedOnce and only the right answer is a yes.
func TestTheQuestionIsAskedOnce(t *testing.T) {
	for answer, want := range map[string]int{
		"yes\n": Held, " yes \n": Held, "y\n": Failed, "\n": Failed, "": Failed, "no\nyes\n": Failed, "yes": Held,
	} {
		d := in(t, drafted)
		env := d.env()
		env.Terminal, env.Stdin = true, strings.NewReader(answer)
		d.err.Reset()
		require.Equal(t, want, Run(context.Background(), []string{"apply", "2w57bede"}, env), "%q", answer)
		require.Equal(t, 1, strings.Count(d.err.String(), "Carry this out? Type yes: "))
		if want == Failed {
			require.Contains(t, d.err.String(), "nothing was changed")
		}
	}
}
