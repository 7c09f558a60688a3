package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"pravet/internal/core/day"
	"pravet/internal/core/filter"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/core/words"
	"pravet/internal/ledger"
	"pravet/internal/plans"
	"pravet/internal/prepare"
	"pravet/internal/say"
	"pravet/internal/show"
	"pravet/internal/source"
)

func (c *program) draft() *cobra.Command {
	var apps []string
	var only, on, out string
	var exitStatus, dry, fetch bool
	cmd := &cobra.Command{
		Use:     "draft",
		Short:   "Draft a plan of every difference between the files and the exports",
		GroupID: deciding,
		Long: `Draft compares the files with what each application exported and writes a plan:
every difference as one change, in an order that works, each with its reasons,
its effect and what holds it. Nothing is changed in any application.

The same files, exports and day give the same bytes. With --dry the plan is shown,
and nothing is written: no plan, and no entry in the ledger.

Exit status: 0 done; with --exit-status 3 when changes wait.`,
		Example: example(
			"pravet draft",
			"pravet draft --app tickets --only 'department eq \"Deck\"'",
			"pravet draft --on 2026-12-01 --out -",
			"pravet draft --dry",
		),
		Args: takes(0, 0, "", ""),
	}
	cmd.Flags().StringSliceVar(&apps, "app", nil, "only this application (may be repeated)")
	cmd.Flags().StringVar(&only, "only", "", "only people that this filter matches")
	cmd.Flags().StringVar(&on, "on", "", "draft for this day, YYYY-MM-DD (default: today)")
	cmd.Flags().
		StringVar(&out, "out", "", "write the plan to this file, - for standard output (default: plans/ID.json)")
	cmd.Flags().BoolVar(&dry, "dry", false, "show what the plan would be, and write nothing")
	cmd.MarkFlagsMutuallyExclusive("dry", "out")
	cmd.Flags().BoolVar(&fetch, "fetch", false, "fetch live applications first")
	cmd.MarkFlagsMutuallyExclusive("dry", "fetch")
	cmd.Flags().BoolVar(&exitStatus, "exit-status", false, "end with status 3 when changes wait")
	offer(cmd, "app", c.completeApps)
	cmd.RunE = func(*cobra.Command, []string) error {
		dir, today, err := c.where(on)
		if err != nil {
			return err
		}
		var selection *filter.Filter
		if only != "" {
			if selection, err = filter.OfPeople(only); err != nil {
				return usage(say.Flag("only", err))
			}
		}
		if dry {
			return c.dry(dir, apps, selection, today, exitStatus)
		}
		tree, err := c.tree(dir)
		if err != nil {
			return err
		}
		rules := make(chan *prepare.State, 1)
		go func() { rules <- c.rulesOf(prepare.Rules(c.ctx, tree)) }() // while the ledger is opened
		l, err := c.ledger(dir)
		s := <-rules
		defer s.Close()
		if err != nil {
			return err
		}
		defer l.Close()
		if err := c.settled(dir, s, l); err != nil {
			return err
		}
		if fetch && len(s.Errors()) == 0 {
			if err := c.fetchFirst(s, l, apps); err != nil {
				return err
			}
		}
		if err := c.read(s, apps); err != nil {
			return err
		}
		if err := s.Repo.CheckFilter(selection, "--only"); err != nil {
			return usage(err)
		}
		p, err := prepare.Draft(s, l, today, day.Of(c.Now()), selection)
		if err != nil {
			return err
		}
		data, err := p.Seal()
		if err != nil {
			return err
		}
		file, err := c.writePlan(l, dir, out, p, data)
		if err != nil {
			return err
		}
		if err := prepare.Record(l, s, p, file, day.Of(c.Now())); err != nil {
			return err
		}
		return c.drafted(p, file, exitStatus)
	}
	return cmd
}

// fetchFirst fetches the live ones of the applications that a draft is about.
func (c *program) fetchFirst(s *prepare.State, l ledger.Ledger, apps []string) error {
	live, _, err := s.Live(apps)
	if err != nil || len(live) == 0 {
		return err
	}
	release, err := l.Lease("fetch")
	if err != nil {
		return err
	}
	return errors.Join(c.fetchNow(s, l, live, ""), release())
}

// dry shows what a plan would be. Nothing is written.
func (c *program) dry(dir string, apps []string, only *filter.Filter, today day.Day, exitStatus bool) error {
	tree, l, err := c.question(dir)
	if err != nil {
		return err
	}
	defer l.Close()
	s := prepare.Rules(c.ctx, tree)
	if err := c.read(s, apps); err != nil {
		return err
	}
	if err := s.Repo.CheckFilter(only, "--only"); err != nil {
		return usage(err)
	}
	p, err := prepare.Draft(s, l, today, day.Of(c.Now()), only)
	if err != nil {
		return err
	}
	if _, err := p.Seal(); err != nil {
		return err
	}
	sel := &selection{}
	v, err := c.view(dir, p, sel)
	if err != nil {
		return err
	}
	err = c.paged(func(pr *show.Printer) error {
		if err := c.write(pr, v, &shownAs{}, sel); err != nil {
			return err
		}
		pr.Line(show.Dim(say.Dry()))
		return pr.Err()
	})
	if err == nil && exitStatus && len(p.Changes) > 0 {
		return &statusError{status: Waiting}
	}
	return err
}

// settled closes the books of runs that were cut off before the exports are read;
// while a run is under way, it says so.
func (c *program) settled(dir string, s *prepare.State, l ledger.Ledger) error {
	if len(s.Errors()) > 0 {
		return nil // to be mended first
	}
	release, err := l.Lease("draft")
	var leased *ledger.Leased
	if errors.As(err, &leased) {
		fmt.Fprintln(c.Stderr, say.UnderWay(leased.Holder.String()))
		return nil
	}
	if err != nil {
		return err
	}
	return errors.Join(c.settle(dir, s, l), release())
}

// writePlan writes the plan's bytes to where they are wanted and returns how
// the file is spoken of.
func (c *program) writePlan(l ledger.Ledger, dir, out string, p *plan.Plan, data io.WriterTo) (string, error) {
	switch out {
	case "-":
		_, err := data.WriteTo(c.raw)
		return "-", err
	case "":
		return plans.Write(l, dir, p, data)
	}
	if err := c.spare(dir, c.path(out)); err != nil {
		return "", err
	}
	return out, source.WriteFile(c.path(out), data, 0o600)
}

// spare refuses a file of the repository that something else is kept in.
func (c *program) spare(dir, file string) error {
	real := file
	if resolved, err := filepath.EvalSymlinks(file); err == nil {
		real = resolved
	}
	home, err := filepath.EvalSymlinks(dir)
	if err != nil {
		return err
	}
	rel, err := filepath.Rel(home, real)
	if err != nil || !filepath.IsLocal(rel) {
		return nil
	}
	data, err := os.ReadFile(real)
	if info, statErr := os.Stat(real); errors.Is(err, os.ErrNotExist) || statErr == nil && info.IsDir() {
		return nil // writing says what is wrong with a folder
	}
	if err == nil {
		if _, err = plan.Read(data); err == nil {
			return nil // a plan may be written over
		}
	}
	return fail(Failed, say.OutIsTaken(rel))
}

// drafted says what the plan amounts to and what can be done next.
func (c *program) drafted(p *plan.Plan, file string, exitStatus bool) error {
	w := c.Stdout
	if file == "-" {
		w = c.Stderr
	}
	pr := show.NewPrinter(w, c.Environ)
	pr.Head(p)
	for i := range p.Exports {
		e := &p.Exports[i]
		n := 0
		for j := range p.Changes {
			if p.Changes[j].App == e.App {
				n++
			}
		}
		pr.Linef(
			"  %-12s  %s, %s",
			words.Clean(e.App),
			model.Count(n, "change", "changes"),
			model.Count(e.Accounts, "account", "accounts"),
		)
	}
	pr.Aside(p)
	if file != "-" {
		name := p.ID
		if !strings.HasPrefix(file, "plans/") {
			name = file
		}
		where, next := say.Drafted(file, c.inEnv(name))
		pr.Line(where)
		pr.Line(show.Dim(next))
	}
	if err := pr.Err(); err != nil {
		return err
	}
	if exitStatus && len(p.Changes) > 0 {
		return &statusError{status: Waiting}
	}
	return nil
}

// plan finds a plan by its file, or by its id or the beginning of it, and
// reads it. dir is the repository, "" outside of any.
func (c *program) plan(dir, name string) (*plan.Plan, error) {
	file, err := plans.Find(dir, c.Dir, name)
	if errors.Is(err, plans.ErrName) {
		return nil, usage(err)
	}
	if err != nil {
		return nil, fail(Failed, err)
	}
	p, err := plans.Read(file, name)
	if err != nil {
		return nil, fail(Failed, err)
	}
	return p, nil
}

// planHere finds and reads a plan of the repository.
func (c *program) planHere(name string) (dir string, p *plan.Plan, err error) {
	if dir, err = c.dir(); err != nil {
		return "", nil, err
	}
	p, err = c.plan(dir, name)
	return dir, p, err
}
