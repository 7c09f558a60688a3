package cli

import (
	"encoding/json"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"pravet/internal/core/day"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/core/table"
	"pravet/internal/core/words"
	"pravet/internal/desired"
	"pravet/internal/gitrepo"
	"pravet/internal/ledger"
	"pravet/internal/plans"
	"pravet/internal/prepare"
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
			id, user, name := repo.People.Get(
				i,
				"id",
			), repo.People.Get(
				i,
				"userName",
			), repo.People.Get(
				i,
				"displayName",
			)
			folded := table.Fold(begin)
			switch {
			case len(out) >= maxCompletions:
			case strings.HasPrefix(id, begin):
				out = append(out, id+"\t"+name)
			case strings.HasPrefix(table.Fold(user), folded):
				out = append(out, user+"\t"+name)
			case strings.HasPrefix(table.Fold(name), folded): // a shell completes what it can begin with
				out = append(out, name+"\t"+id)
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

// modified is when a file was written last.
func modified(file string) time.Time {
	info, err := os.Stat(file)
	if err != nil {
		return time.Time{}
	}
	return info.ModTime()
}

// completeFilter offers the attributes that a filter over changes may name.
func (c *program) completeFilter(_ *cobra.Command, _ []string, begin string) ([]string, cobra.ShellCompDirective) {
	head, last := "", begin
	if i := strings.LastIndexAny(begin, " ("); i >= 0 {
		head, last = begin[:i+1], begin[i+1:]
	}
	names := slices.Clone(changeAttrs)
	if repo := c.here(); repo != nil {
		repo.ReadPeople()
		for _, a := range repo.People.Attributes() {
			names = append(names, "person."+a)
		}
	}
	var out []string
	for _, n := range names {
		if strings.HasPrefix(table.Fold(n), table.Fold(last)) {
			out = append(out, head+n)
		}
	}
	return out, noFiles | cobra.ShellCompDirectiveNoSpace
}

// completeColumns offers the columns of what a list is of.
func (c *program) completeColumns(_ *cobra.Command, args []string, begin string) ([]string, cobra.ShellCompDirective) {
	repo := c.here()
	if repo == nil || len(args) == 0 {
		return nil, noFiles
	}
	head := ""
	if i := strings.LastIndexByte(begin, ','); i >= 0 {
		head = begin[:i+1]
	}
	_, v, _, err := prepare.Look(c.ctx, repo, nil, day.Of(c.Now()))
	if err != nil {
		return nil, noFiles
	}
	rows := v.Rows(args[0])
	if rows == nil {
		return nil, noFiles
	}
	var out []string
	for _, n := range rows.Columns {
		if !slices.Contains(strings.Split(head, ","), n) {
			out = append(out, head+n)
		}
	}
	return out, noFiles | cobra.ShellCompDirectiveNoSpace
}

// plans lists the plans of the repository with their day.
func (c *program) plans() (out []string) {
	dir, err := c.dir()
	if err != nil {
		return nil
	}
	files := plans.Files(dir)
	slices.SortFunc(files, func(x, y string) int { return modified(y).Compare(modified(x)) }) // the newest first
	for _, f := range files {
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
		if ch := &p.Changes[i]; strings.HasPrefix(ch.ID, begin) && !slices.Contains(args, ch.ID) &&
			len(out) < maxCompletions {
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
	var out []string
	for _, r := range gitrepo.Revisions(dir) {
		if name, _, _ := strings.Cut(r, "\t"); !slices.Contains(args, name) {
			out = append(out, r)
		}
	}
	return out, noFiles
}
