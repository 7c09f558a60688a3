package cli

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"pravet/examples/marrowick"
	"pravet/internal/core/plan"
	"pravet/internal/show"
)

func (c *program) demo() *cobra.Command {
	var keep string
	var noWalk, live, team bool
	cmd := &cobra.Command{
		Use:     "demo",
		Short:   "Walk through it all on a made-up ferry line",
		GroupID: trying,
		Long: `Demo makes the repository of Marrowick Ferries in a temporary folder, with its
Git history and the exports of three applications, and goes through it: check,
compare, draft, show, ask why, reject three changes, accept the rest, apply, draft
again, look ahead. Every command is really run. It is the morning of 2026-11-24
there.

With --live the applications are reached while they are in use: a stand-in for berth
planning over SCIM, ship's stores that load files, and a PostgreSQL server and an
OpenLDAP server where these are installed. They run on this machine alone, and end
with the demo.

With --team two people with a clone each decide and carry out together: with one record
in a PostgreSQL server where one is installed, else with Git alone; decisions are signed,
and a stranger proves what is on record.`,
		Example: example("pravet demo", "pravet demo --live", "pravet demo --team", "pravet demo --keep ferries --no-walk"),
		Args:    takes(0, 0, "", ""),
	}
	cmd.Flags().StringVar(&keep, "keep", "", "make the repository in this folder and keep it")
	cmd.Flags().
		BoolVar(&noWalk, "no-walk", false, "only make the repository, to walk through it yourself (with --keep)")
	cmd.Flags().
		BoolVar(&live, "live", false, "walk through it with applications that are reached while they are in use")
	cmd.Flags().BoolVar(&team, "team", false, "walk through it with two clones, signed decisions, and one record")
	cmd.MarkFlagsMutuallyExclusive("live", "no-walk", "team")
	cmd.RunE = func(*cobra.Command, []string) error {
		if noWalk && keep == "" {
			return usage(sayNoWalkAlone())
		}
		dir := c.path(keep)
		if keep != "" {
			if err := emptyFolder(dir, keep); err != nil {
				return err
			}
		} else {
			temp, err := os.MkdirTemp("", "marrowick-")
			if err != nil {
				return err
			}
			defer os.RemoveAll(temp)
			dir = temp
		}
		if live {
			return c.liveDemo(dir)
		}
		if team {
			return c.teamDemo(dir)
		}
		_, noGit := exec.LookPath("git")
		if noGit != nil {
			fmt.Fprintln(c.Stderr, "git is not installed; the demo goes without its history.")
		}
		if err := marrowick.Write(dir, noGit == nil); err != nil {
			return err
		}
		if noWalk {
			_, err := fmt.Fprintf(
				c.Stdout,
				"Marrowick Ferries is in %s. It is the morning of 2026-11-24 there:\n"+
					"  cd %s\n"+
					"  pravet check\n"+
					"  pravet draft --on 2026-11-24\n",
				keep,
				keep,
			)
			return err
		}
		t := &tour{c: c, dir: dir, p: show.NewPrinter(c.Stdout, c.Environ), now: marrowick.Today}
		if err := t.walk(noGit == nil); err != nil {
			return err
		}
		if keep != "" {
			t.p.Linef("The repository is in %s; its clock is yours again from here on.", keep)
		}
		return t.p.Err()
	}
	cmd.AddCommand(c.quarter())
	return cmd
}

// A tour runs commands on the demo's repository and its clock.
type tour struct {
	c     *program
	dir   string
	p     *show.Printer
	now   time.Time
	count int
	more  []string // variables of the environment
}

// run says what comes next, then shows the command and what it prints.
func (t *tour) run(says string, want int, args ...string) error {
	t.count++
	t.p.Line()
	t.p.Line(show.Strong(fmt.Sprintf("%d. %s", t.count, says)))
	t.p.Line()
	t.p.Line(show.Dim("$ pravet " + shellWords(args)))
	if err := t.p.Err(); err != nil {
		return err
	}
	env := t.c.Env
	env.Environ = append(slices.Clone(env.Environ), "XDG_STATE_HOME="+filepath.Join(t.dir, ".pravet"))
	env.Environ = append(env.Environ, t.more...)
	env.Dir, env.Terminal = t.dir, false
	// Messages go where the output goes, so that the tour reads in order.
	env.Stderr = env.Stdout
	start := t.now
	t.now = t.now.Add(time.Minute)
	env.Now = func() time.Time { return start }
	if got := Run(t.c.ctx, args, env); got != want {
		return fmt.Errorf("the demo stops: the command ended with status %d, where %d was expected", got, want)
	}
	// The demo's clock goes its own way; so do its files.
	exports, err := filepath.Glob(filepath.Join(t.dir, "exports", "*"))
	if err != nil {
		return err
	}
	for _, e := range exports {
		info, err := os.Stat(e)
		if err != nil {
			return err
		}
		if !info.ModTime().Equal(marrowick.Exported) {
			if err := os.Chtimes(e, start, start); err != nil {
				return err
			}
		}
	}
	return nil
}

func shellWords(args []string) string {
	var out []string
	for _, a := range args {
		if strings.ContainsAny(a, " \"") {
			a = "'" + a + "'"
		}
		out = append(out, a)
	}
	return strings.Join(out, " ")
}

// A step of the tour: what is done next, and the command that does it.
type step struct {
	says string
	args []string
}

func (t *tour) steps(list []step) error {
	for _, s := range list {
		if err := t.run(s.says, Done, s.args...); err != nil {
			return err
		}
	}
	return nil
}

func (t *tour) walk(git bool) error {
	t.p.Line(
		show.Strong("Marrowick Ferries, Tuesday 24 November 2026."),
		" Sixty-odd people, three applications: ticket",
	)
	t.p.Line("sales, crew rosters, and berth planning. The systems administrator looks at what has to change today.")
	first := []step{
		{"Check the files: every problem with its place, and how many people each rule matches.", []string{"check"}},
	}
	if git {
		first = append(first, step{
			"See what yesterday's commit means, before any application is looked at.",
			[]string{"compare", "HEAD~1", "--on", "2026-11-24"},
		})
	}
	first = append(first, step{
		"Draft a plan: every difference between the files and what the applications exported.",
		[]string{"draft", "--on", "2026-11-24"},
	})
	if err := t.steps(first); err != nil {
		return err
	}
	p, err := t.drafted()
	if err != nil {
		return err
	}
	held := map[string]string{} // guard → the first change that it holds
	for i := range p.Changes {
		for _, h := range p.Changes[i].Holds {
			if held[h.Guard] == "" {
				held[h.Guard] = p.Changes[i].ID
			}
		}
	}
	for _, guard := range []string{"seats", "separation", "looks-alike", "suspensions"} {
		if held[guard] == "" {
			return fmt.Errorf("the demo stops: the guard %s holds nothing", guard)
		}
	}
	err = t.steps([]step{
		{
			"Read it person by person: each change with the line that causes it, and what holds it.",
			[]string{"show", p.ID},
		},
		{
			"Mirela Dunn is to approve refunds, and sets fares: ask why.",
			[]string{"why", "mirela.dunn", "--on", "2026-11-24"},
		},
		{
			"Those two are kept apart, so that change is rejected.",
			[]string{
				"reject",
				p.ID,
				held["separation"],
				"--because",
				"fares and refunds stay apart; Tomas asks someone else",
			},
		},
		{
			"Somebody has made an account for Søren Dahl by hand, as Søren.Dahl: no second one, until that one " +
				"is renamed.",
			[]string{
				"reject",
				p.ID,
				held["looks-alike"],
				"--until",
				"2026-12-01",
				"--because",
				"the account made by hand is renamed first",
			},
		},
		{"There is one till seat too few, and another is ordered: reject that change until it is here.",
			[]string{"reject", p.ID, held["seats"], "--until", "2026-12-15", "--because", "one more seat is ordered"}},
		{"The summer crew ended together, so many suspensions are right today: lift that guard, for this plan.",
			[]string{"accept", p.ID, "--lift", "suspensions", "--because", "the summer crew ended together"}},
		{"Accept the rest.", []string{"accept", p.ID, "--because", "read with Idris Keane and Leonie Marsh"}},
		{
			"Carry it out: each application's file is replaced as a whole, then read again and compared.",
			[]string{"apply", p.ID},
		},
		{"Draft again: only what was rejected is left, and it is set " +
			"aside.", []string{"draft", "--on", "2026-11-24"}},
		{
			"Look ahead: the summer crew of 2027 will need more seats than there are.",
			[]string{"seats", "--ahead", "P8M", "--on", "2026-11-24"},
		},
		{"Everything is on record,", []string{"log"}},
		{"and the record can be proved whole.", []string{"log", "verify"}},
		{"The auditors ask who may do what is sensitive.", []string{"report", "administrators"}},
	})
	if err != nil {
		return err
	}
	err = t.run(
		"On Monday there is a spreadsheet of people: look at each row before anybody is taken in. Five are wrong.", Failed,
		"intake", "intake/monday.csv", "--date", "DD.MM.YYYY", "--number", "E####", "--into", "people/ashore.csv",
		"--map", `userName={join: [First name, Last name], with: ".", case: lower, plain: true}`,
		"--map", `displayName={join: [First name, Last name], with: " "}`,
	)
	if err != nil {
		return err
	}
	err = t.steps([]step{
		{"Slipway bookings have grown for years with nobody watching: take the application over as it is.",
			[]string{
				"adopt", "--app", "slips", "exports/slips.csv", "--title", "Slipway bookings", "--yes-above", "80",
				"--write",
			}},
		{"Find the rules in what people hold there.", []string{"propose", "--app", "slips", "--sure", "60"}},
	})
	if err != nil {
		return err
	}
	t.p.Line()
	return t.p.Err()
}

// drafted reads the plan that the tour has drafted.
func (t *tour) drafted() (*plan.Plan, error) {
	found, err := filepath.Glob(filepath.Join(t.dir, "plans", "*.json"))
	if err != nil {
		return nil, err
	}
	if len(found) != 1 {
		return nil, fmt.Errorf("the demo stops: there are %d plans, where one was drafted", len(found))
	}
	data, err := os.ReadFile(found[0])
	if err != nil {
		return nil, err
	}
	return plan.Read(data)
}

// sayNoWalkAlone is a --no-walk that would leave nothing.
func sayNoWalkAlone() error { return errors.New("--no-walk goes with --keep DIR") }
