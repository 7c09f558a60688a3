package cli

import (
	"encoding/json"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/core/words"
	"pravet/internal/desired"
	"pravet/internal/gitrepo"
	"pravet/internal/ledger"
	"pravet/internal/plans"
)

// Completion never fails loudly: where something cannot be read, there is
// nothing to offer.

const noFiles = cobra.ShellCompDirectiveNoFileComp

// maxCompletions bounds what a shell is offered at once.
const maxCompletions = 500

// here is the repository that the program is called in, or nil.
func (c *program) here() *desired.Repo {
	dir, err := c.dir()
	if err != nil {
		return nil
	}
	repo, err := c.rules(dir)
	if err != nil {
		return nil
	}
	return repo
}

func (c *program) completeApps(_ *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
	var out []string
	if repo := c.here(); repo != nil {
		for _, a := range repo.Apps {
			out = append(out, a.ID+"\t"+a.Title)
		}
	}
	return out, noFiles
}

func (c *program) completePeople(_ *cobra.Command, _ []string, begin string) ([]string, cobra.ShellCompDirective) {
	var out []string
	if repo := c.here(); repo != nil {
		repo.ReadPeople()
		for i := range repo.People.Len() {
			id := repo.People.Get(i, "id")
			if strings.HasPrefix(id, begin) && len(out) < maxCompletions {
				out = append(out, id+"\t"+repo.People.Get(i, "displayName"))
			}
		}
	}
	return out, noFiles
}

func (c *program) completeThings(_ *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
	var out []string
	if repo := c.here(); repo != nil {
		for _, a := range repo.Apps {
			for _, t := range a.Things {
				out = append(out, model.Address{App: a.ID, Kind: t.Kind.String(), Name: t.Name}.String()+"\t"+t.Title)
			}
		}
	}
	return out, noFiles
}

// plans lists the plans of the repository with their day.
func (c *program) plans() (out []string) {
	dir, err := c.dir()
	if err != nil {
		return nil
	}
	for _, f := range plans.Files(dir) {
		data, err := os.ReadFile(f)
		var p struct {
			ID, AsOf string
			Totals   plan.Totals
		}
		if err == nil && json.Unmarshal(data, &p) == nil {
			out = append(out, p.ID+"\t"+p.AsOf+", "+model.Count(p.Totals.Changes, "change", "changes"))
		}
	}
	return out
}

func (c *program) completePlans(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	if len(args) > 0 {
		return nil, noFiles
	}
	return c.plans(), cobra.ShellCompDirectiveDefault
}

func (c *program) completeChanges(
	cmd *cobra.Command,
	args []string,
	begin string,
) ([]string, cobra.ShellCompDirective) {
	if len(args) == 0 {
		return c.completePlans(cmd, args, begin)
	}
	dir, err := c.dir()
	if err != nil {
		return nil, noFiles
	}
	p, err := c.plan(dir, args[0])
	if err != nil {
		return nil, noFiles
	}
	var out []string
	for i := range p.Changes {
		if ch := &p.Changes[i]; strings.HasPrefix(ch.ID, begin) && len(out) < maxCompletions {
			out = append(out, ch.ID+"\t"+words.Sentence(p, ch))
		}
	}
	return out, noFiles
}

func (c *program) completeLog(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	if len(args) > 0 {
		return nil, noFiles
	}
	out := c.plans()
	if l, err := c.existingLedger(); err == nil {
		defer l.Close()
		_ = l.Scan(ledger.Query{Kinds: []ledger.Kind{ledger.RunStarted}}, func(e *ledger.Entry) error {
			out = append(out, e.Subject+"\t"+e.At)
			return nil
		})
	}
	return out, noFiles
}

// completeRevisions offers branches, tags and the last commits.
func (c *program) completeRevisions(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	dir, err := c.dir()
	if err != nil || len(args) > 1 {
		return nil, noFiles
	}
	return gitrepo.Revisions(dir), noFiles
}
