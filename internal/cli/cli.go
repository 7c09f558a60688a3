// Package cli is the command line: one file a command, each of which reads
// its flags, calls what does the work, and shows the outcome. Whatever comes
// from the surroundings (time, terminal, environment) enters here, as Env.
package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"pravet/internal/core/day"
	"pravet/internal/core/model"
	"pravet/internal/core/words"
	"pravet/internal/desired"
	"pravet/internal/desk"
	"pravet/internal/prepare"
	"pravet/internal/show"
	"pravet/internal/source"
)

// Env is the program's surroundings.
type Env struct {
	Version        string
	Stdin          io.Reader
	Stdout, Stderr io.Writer
	Environ        []string
	Now            func() time.Time
	Terminal       bool // someone is there to be asked
	Dir            string
	Term           time.Duration // how long a lease of a shared record lasts that is not renewed; 0 for as usual
}

// System is the surroundings of the real program.
func System(version string) Env {
	dir, err := os.Getwd()
	if err != nil {
		dir = "."
	}
	return Env{
		Version:  version,
		Stdin:    os.Stdin,
		Stdout:   os.Stdout,
		Stderr:   os.Stderr,
		Environ:  os.Environ(),
		Now:      time.Now,
		Dir:      dir,
		Terminal: term.IsTerminal(int(os.Stdin.Fd())) && term.IsTerminal(int(os.Stderr.Fd())),
	}
}

// Exit statuses.
const (
	Done          = 0
	Failed        = 1
	WrongUsage    = 2
	LeftForPerson = 3 // changes wait: after draft --exit-status, and where apply leaves something for a person
	Held          = 4 // held by a guard
	Partly        = 5 // partly applied
)

// A statusError ends the program with a status of its own. An error without
// text has been told already.
type statusError struct {
	status int
	err    error
}

func (e *statusError) Error() string {
	if e.err == nil {
		return ""
	}
	return e.err.Error()
}

func (e *statusError) Unwrap() error { return e.err }

func fail(status int, err error) error { return &statusError{status, err} }

func usage(err error) error { return fail(WrongUsage, err) }

// A program is one call of Pravet: its surroundings and the flags that all
// commands have.
type program struct {
	Env
	ctx    context.Context // ends when the user interrupts
	raw    io.Writer       // standard output, for plans byte by byte
	rawErr io.Writer       // standard error, for a bar that goes on and on in its line
	repo   string
	by     string
	key    string     // signs decisions
	opened *desk.Desk // the repository, once a command has asked for it

	noPager     bool
	environment string // "" for the usual one
	rewrites    bool   // files of the repository are to be written
}

// The groups of commands, by what the user wants to do.
const (
	keeping  = "keeping"
	seeing   = "seeing"
	deciding = "deciding"
	carrying = "carrying"
	trying   = "trying"
	helping  = "helping"
)

// Run runs the program and returns its exit status. ctx ends when the user
// interrupts.
func Run(ctx context.Context, args []string, env Env) int {
	c := &program{Env: env, ctx: ctx, raw: env.Stdout, rawErr: env.Stderr}
	c.Stdout, c.Stderr = show.Safe(env.Stdout), show.Safe(env.Stderr)
	defer c.close()
	root := c.root()
	root.SetArgs(args)
	err := root.ExecuteContext(ctx)
	if err == nil {
		return Done
	}
	status := statusOf(err)
	c.listed(err)
	switch text := strings.TrimSpace(plainly(textOf(err))); {
	case errors.Is(err, syscall.EPIPE) && status == Failed:
		// Whoever reads has had enough, and nothing else went wrong.
	case ctx.Err() != nil && errors.Is(err, ctx.Err()):
		fmt.Fprintln(c.Stderr, "pravet:", sayInterrupted())
	case text != "":
		fmt.Fprintln(c.Stderr, "pravet: "+text)
	}
	if status == WrongUsage {
		fmt.Fprintln(c.Stderr, sayHint())
	}
	return status
}

// statusOf is the exit status of an error.
func statusOf(err error) int {
	var se *statusError
	var wrong *desk.Wrong
	var unknown *prepare.Unknown
	var ran *ranError
	switch {
	case errors.As(err, &se):
		return se.status
	case errors.As(err, &wrong), errors.As(err, &unknown): // something that was given
		return WrongUsage
	case errors.As(err, &ran):
		return Failed
	}
	return WrongUsage // what cobra finds wrong itself
}

// textOf is what is said of an error: where it is of something that a flag gave, with the flag.
func textOf(err error) string {
	var wrong *desk.Wrong
	var path *fs.PathError
	switch {
	case errors.As(err, &path) && strings.HasPrefix(path.Path, "/dev/std"):
		return sayNotSaid(source.Reason(err)).Error()
	case !errors.As(err, &wrong) || wrong.Field == "":
		return err.Error()
	case wrong.Column > 0:
		return sayFilterColumn(wrong.Column, wrong.Err).Error()
	}
	return sayFlag(wrong.Field, wrong.Err).Error()
}

// listed lists the problems that an error is about.
func (c *program) listed(err error) {
	var list []*source.Problem
	var problems *desk.Problems
	var would *desk.WouldNotPass
	var rows *desk.WrongList
	switch {
	case errors.As(err, &problems):
		list = problems.List
	case errors.As(err, &would):
		list = would.List
	case errors.As(err, &rows):
		list = rows.List[:min(len(rows.List), source.MaxPerFile)]
	}
	for _, p := range list {
		fmt.Fprintln(c.Stderr, p)
	}
}

// environment is a flag that takes the name of an environment.
type environment string

func (e *environment) String() string { return string(*e) }
func (e *environment) Type() string   { return "string" }

// Set takes a name; that of the usual one stands for none.
func (e *environment) Set(name string) error {
	if !desired.IsID(name) {
		return sayNotAnEnvironment(name)
	}
	if name == desired.Usual {
		name = ""
	}
	*e = environment(name)
	return nil
}

// Tree is the tree of all commands, for manual pages. Its commands are not run.
func Tree(env Env) *cobra.Command {
	c := &program{Env: env, ctx: context.Background(), raw: env.Stdout}
	return c.root()
}

func (c *program) close() {
	if c.opened != nil {
		_ = c.opened.Close() // nothing is written through it any more
	}
}

// env is a variable of the environment, "" where it is not set.
func (c *program) env(name string) string {
	for _, e := range slices.Backward(c.Environ) {
		if v, ok := strings.CutPrefix(e, name+"="); ok {
			return v
		}
	}
	return ""
}

// ranError marks errors of a command that ran, apart from wrong usage.
type ranError struct{ error }

func (e *ranError) Unwrap() error { return e.error }

func (c *program) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "pravet",
		Short: "Keep people's access to business applications as it is described in files",
		Long: `Pravet compares files that say who should have what in each business
application with what the applications exported, drafts a plan of every
difference with its reason and its risk, and carries out what you accept.

To see it all on a made-up ferry line: pravet demo`,
		Version:       c.Version,
		SilenceErrors: true,
		SilenceUsage:  true,
		RunE:          func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
		PersistentPreRun: func(cmd *cobra.Command, _ []string) {
			for _, name := range []string{"write", "commit"} {
				f := cmd.Flags().Lookup(name)
				c.rewrites = c.rewrites || f != nil && f.Value.String() == "true"
			}
		},
	}
	root.SetIn(c.Stdin)
	root.SetOut(c.Stdout)
	root.SetErr(c.Stderr)
	root.SetVersionTemplate("pravet {{.Version}}\n")
	root.PersistentFlags().
		StringVar(
			&c.repo, "repo", "", "folder of the desired-state repository (default: the one that this folder is in)",
		)
	root.PersistentFlags().
		StringVar(&c.by, "by", "", "who acts, for the ledger (default: Git's user, else the system's)")
	root.PersistentFlags().
		StringVar(&c.key, "key", "", "the SSH key that signs what is decided (default: the file in PRAVET_KEY)")
	root.PersistentFlags().BoolVar(&c.noPager, "no-pager", false, "write long output to the terminal as it is")
	root.PersistentFlags().Var(
		(*environment)(
			&c.environment,
		), "env", "the environment: where the same files meet other applications (default: live)",
	)
	root.CompletionOptions.HiddenDefaultCmd = false
	root.AddGroup(
		&cobra.Group{ID: keeping, Title: "Keeping the files:"},
		&cobra.Group{ID: seeing, Title: "Seeing who has what:"},
		&cobra.Group{ID: deciding, Title: "Deciding:"},
		&cobra.Group{ID: carrying, Title: "Carrying out:"},
		&cobra.Group{ID: trying, Title: "Trying it:"},
		&cobra.Group{ID: helping, Title: "Finding the way:"},
	)
	root.SetHelpCommandGroupID(helping)
	root.SetCompletionCommandGroupID(helping)
	cobra.EnableCommandSorting = false // commands stand in the order of their use
	for _, cmd := range []*cobra.Command{
		c.new(), c.check(), c.intake(), c.adopt(), c.propose(), c.amend(), c.fetch(), c.list(), c.why(),
		c.holders(), c.seats(), c.ahead(), c.report(), c.compare(), c.draft(), c.show(), c.review(), c.accept(),
		c.reject(), c.backout(), c.apply(), c.rehearse(), c.letters(), c.log(), c.ledger(), c.decisions(), c.demo(), c.standin(),
	} {
		ran(cmd)
		root.AddCommand(cmd)
	}
	help := c.help(root)
	ran(help)
	root.SetHelpCommand(help)
	return root
}

// ran marks the errors of a command, and of those below it, as of one that ran.
func ran(cmd *cobra.Command) {
	for _, sub := range cmd.Commands() {
		ran(sub)
	}
	run := cmd.RunE
	if run == nil {
		return
	}
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		if err := run(cmd, args); err != nil {
			return &ranError{err}
		}
		return nil
	}
}

// dir finds the repository to work in.
func (c *program) dir() (string, error) {
	at := c.Dir
	if c.repo != "" {
		at = c.path(c.repo)
		if _, err := os.Stat(filepath.Join(at, desired.Root)); err != nil {
			if _, err := os.Stat(at); err != nil {
				return "", fail(Failed, sayNoFolder(c.repo))
			}
			return "", fail(Failed, sayNoRepository(c.repo, desired.Root))
		}
		return at, nil
	}
	dir, err := desired.Find(at)
	if err != nil {
		return "", fail(Failed, err)
	}
	return dir, nil
}

// path makes a path of the command line absolute.
func (c *program) path(p string) string {
	if filepath.IsAbs(p) {
		return p
	}
	return filepath.Join(c.Dir, p)
}

// desk opens the repository that a command is about.
func (c *program) desk() (*desk.Desk, error) {
	if c.opened != nil {
		return c.opened, nil
	}
	dir, err := c.dir()
	if err != nil {
		return nil, err
	}
	return c.open(dir)
}

// closeDesk closes the repository, so that it is read again when it is asked for.
func (c *program) closeDesk() error {
	d := c.opened
	if c.opened = nil; d == nil {
		return nil
	}
	return d.Close()
}

// open opens a repository; with "" there is none, and only files that are named can be read.
func (c *program) open(dir string) (d *desk.Desk, err error) {
	c.opened, err = desk.Open(c.ctx, desk.Place{
		Dir: dir, Folder: c.Dir, Environment: c.environment, By: c.by,
		Environ: c.Environ, Now: c.Now, Rewrites: c.rewrites, Term: c.Term, Key: c.key, Asks: c.Terminal,
		Page: func(x *desk.Paper) ([]byte, error) {
			var b bytes.Buffer
			err := paperOf(x).HTML(&b)
			return b.Bytes(), err
		},
		Ear: desk.Ear{
			Log: c.tell, Closed: c.closed, Counting: c.counter(), Fetched: c.fetched,
			Finished: func(files []string) { c.tell(sayFinished(files)) },
		},
	})
	return c.opened, err
}

// on opens the repository that a command is about, and reads its --on date; today when it is not
// given.
func (c *program) on(text string) (*desk.Desk, day.Day, error) {
	d, err := c.desk()
	if err != nil {
		return nil, 0, err
	}
	on, err := d.On("on", text)
	return d, on, err
}

// lastDay reads --until: the last day that something counts, day.None where it is not given.
func lastDay(until string) (day.Day, error) {
	if until == "" {
		return day.None, nil
	}
	on, err := day.Parse(until)
	if err != nil {
		return 0, usage(sayFlag("until", err))
	}
	return on, nil
}

// inEnv names a plan or a run in a command that a message proposes: with the environment that it is of.
func (c *program) inEnv(name string) string {
	if c.environment == "" {
		return name
	}
	return name + " --env " + c.environment
}

// sayNotSaid is output that could not be written.
func sayNotSaid(err error) error { return fmt.Errorf("the output could not be written: %w", err) }

// sayFinished is files that another call had begun to write, and that were finished.
func sayFinished(files []string) string {
	return fmt.Sprintf("A call was cut off while it wrote files; what it had begun is finished: %s %s as it wrote %s.",
		words.Several(files), model.Plural(len(files), "is", "are"), model.Plural(len(files), "it", "them"))
}

// example formats examples for a command's help.
func example(lines ...string) string { return "  " + strings.Join(lines, "\n  ") }

// formatFlag adds --format with the formats of a command.
func formatFlag(cmd *cobra.Command, format *string, formats ...string) {
	cmd.Flags().StringVar(format, "format", formats[0], "one of "+strings.Join(formats, ", "))
	offer(cmd, "format", cobra.FixedCompletions(formats, noFiles))
	check := func(*cobra.Command, []string) error {
		for _, f := range formats {
			if f == *format {
				return nil
			}
		}
		return usage(desk.SayNotOneOf("format", *format, formats))
	}
	cmd.PreRunE = check
}

// sayNotAnEnvironment is a name that no environment can have.
func sayNotAnEnvironment(name string) error {
	return fmt.Errorf("%q is not a name of an environment: small letters, digits and hyphens", name)
}

// sayNoNumber is a flag that takes a whole number and was given something else, in quotes.
func sayNoNumber(flag, quoted string) string {
	return flag + ": " + quoted + " is no whole number that fits here"
}

// sayHint is what every wrong usage ends with.
func sayHint() string { return "See: pravet --help, or pravet COMMAND --help" }

// sayExclusive is said of flags of which one can be used.
func sayExclusive(flags []string) string {
	return "--" + strings.Join(flags, " and --") + " exclude each other; use one of them"
}

// sayNoFolder is a --repo that is not there.
func sayNoFolder(name string) error { return fmt.Errorf("%s: there is no such folder", name) }

// sayNoRepository is a --repo without a desired state.
func sayNoRepository(folder, root string) error {
	return fmt.Errorf("%s: there is no %s in this folder; start a repository with: pravet new %s", folder, root, folder)
}
