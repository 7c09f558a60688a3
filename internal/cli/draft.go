package cli

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"pravet/internal/core/filter"
	"pravet/internal/core/plan"
	"pravet/internal/prepare"
	"pravet/internal/show"
	"pravet/internal/source"
)

func (c *context) draft() *cobra.Command {
	var apps []string
	var only, on, out string
	var exitStatus bool
	cmd := &cobra.Command{
		Use:     "draft",
		Short:   "Draft a plan of every difference between the files and the exports",
		GroupID: deciding,
		Long: `Draft compares the files with what each application exported and writes a plan:
every difference as one change, in an order that works, each with its reasons,
its effect and what holds it. Nothing is changed in any application.

The same files, exports and day give the same bytes.

Exit status: 0 done; with --exit-status 3 when changes wait.`,
		Example: example("pravet draft", "pravet draft --app tickets --only 'department eq \"Deck\"'", "pravet draft --on 2026-12-01 --out -"),
		Args:    cobra.NoArgs,
	}
	cmd.Flags().StringSliceVar(&apps, "app", nil, "only this application (may be repeated)")
	cmd.Flags().StringVar(&only, "only", "", "only people that this filter matches")
	cmd.Flags().StringVar(&on, "on", "", "draft for this day, YYYY-MM-DD (default: today)")
	cmd.Flags().StringVar(&out, "out", "", "write the plan to this file, - for standard output (default: plans/ID.json)")
	cmd.Flags().BoolVar(&exitStatus, "exit-status", false, "end with status 3 when changes wait")
	_ = cmd.RegisterFlagCompletionFunc("app", c.completeApps)
	cmd.RunE = func(*cobra.Command, []string) error {
		dir, today, err := c.where(on)
		if err != nil {
			return err
		}
		var selection *filter.Filter
		if only != "" {
			if selection, err = filter.Parse(only); err != nil {
				return usage("--only: %w", err)
			}
		}
		l, err := c.ledger(dir)
		if err != nil {
			return err
		}
		defer l.Close()
		s, err := c.read(dir, apps)
		if err != nil {
			return err
		}
		if err := s.Repo.CheckFilter(selection, "--only"); err != nil {
			return usage("%w", err)
		}
		p, err := prepare.Draft(s, l, today, selection)
		if err != nil {
			return err
		}
		data, err := p.Seal()
		if err != nil {
			return err
		}
		file, err := c.writePlan(dir, out, p, data)
		if err != nil {
			return err
		}
		if err := prepare.Record(l, p, file); err != nil {
			return err
		}
		return c.drafted(p, file, exitStatus)
	}
	return cmd
}

// writePlan writes the plan's bytes to where they are wanted and returns how
// the file is spoken of.
func (c *context) writePlan(dir, out string, p *plan.Plan, data []byte) (string, error) {
	switch out {
	case "-":
		_, err := c.Stdout.Write(data)
		return "-", err
	case "":
		file := "plans/" + p.ID + ".json"
		folder := filepath.Join(dir, "plans")
		if err := os.MkdirAll(folder, 0o755); err != nil {
			return "", fmt.Errorf("the plan cannot be written: %w", err)
		}
		return file, source.WriteFile(filepath.Join(dir, file), data, 0o644)
	}
	return out, source.WriteFile(c.path(out), data, 0o644)
}

// drafted says what the plan amounts to and what can be done next.
func (c *context) drafted(p *plan.Plan, file string, exitStatus bool) error {
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
		pr.Linef("  %-12s %d changes, %d accounts", e.App, n, e.Accounts)
	}
	pr.Aside(p)
	if file != "-" {
		pr.Linef("Written to %s", file)
		name := p.ID
		if !strings.HasPrefix(file, "plans/") {
			name = file
		}
		pr.Line(show.Dim("Read it with: pravet show " + name))
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
func (c *context) plan(dir, name string) (*plan.Plan, error) {
	file, err := c.planFile(dir, name)
	if err != nil {
		return nil, err
	}
	data, err := os.ReadFile(file)
	if err != nil {
		return nil, source.Unreadable(name, err)
	}
	p, err := plan.Read(data)
	switch {
	case errors.Is(err, plan.ErrNewer):
		return nil, fail(Failed, "%s: %w; use a newer Pravet", name, err)
	case errors.Is(err, plan.ErrChanged):
		return nil, fail(Failed, "%s: %w; draft it again", name, err)
	case err != nil:
		return nil, fail(Failed, "%s: %w", name, err)
	}
	return p, nil
}

// planHere finds and reads a plan of the repository.
func (c *context) planHere(name string) (dir string, p *plan.Plan, err error) {
	if dir, err = c.dir(); err != nil {
		return "", nil, err
	}
	p, err = c.plan(dir, name)
	return dir, p, err
}

func (c *context) planFile(dir, name string) (string, error) {
	if strings.ContainsAny(name, "/.") {
		return c.path(name), nil
	}
	var found []string
	if dir != "" {
		var err error
		found, err = filepath.Glob(filepath.Join(dir, "plans", globless(name)+"*.json"))
		if err != nil {
			return "", err
		}
	}
	switch len(found) {
	case 1:
		return found[0], nil
	case 0:
		if _, err := os.Stat(c.path(name)); err == nil {
			return c.path(name), nil
		}
		return "", fail(Failed, "there is no plan %q in plans/; list the plans with: pravet log --kind plan", name)
	}
	return "", fail(Failed, "%d plans begin with %q; write more of the id", len(found), name)
}

func globless(s string) string {
	return strings.NewReplacer("*", "", "?", "", "[", "", `\`, "").Replace(s)
}
