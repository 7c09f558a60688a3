package cli

import (
	"encoding/json"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"pravet/internal/core/guard"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/core/table"
	"pravet/internal/core/words"
	"pravet/internal/desired"
	"pravet/internal/desk"
	"pravet/internal/gitrepo"
	"pravet/internal/prepare"
	"pravet/internal/source"
)

// Completion never fails loudly: where something cannot be read, there is
// nothing to offer.

const noFiles = cobra.ShellCompDirectiveNoFileComp

// maxCompletions bounds what a shell is offered at once.
const maxCompletions = 500

// completion is how Cobra asks what may stand at a place of the line.
type completion = func(cmd *cobra.Command, args []string, begin string) ([]string, cobra.ShellCompDirective)

// offer lets the shell offer values of a flag: those that do not stand on the line yet,
// as the flag's or as words.
func offer(cmd *cobra.Command, flag string, values completion) {
	// It fails only for a flag that there is not.
	_ = cmd.RegisterFlagCompletionFunc(
		flag,
		func(cmd *cobra.Command, args []string, begin string) ([]string, cobra.ShellCompDirective) {
			out, directive := values(cmd, args, begin)
			given, err := cmd.Flags().GetStringSlice(flag)
			if err != nil {
				given = nil // it takes one value
			}
			return slices.DeleteFunc(slices.Clone(out), func(text string) bool {
				name, _, _ := strings.Cut(text, "\t")
				return slices.Contains(given, name) || slices.Contains(args, name)
			}), directive
		},
	)
}

// of lets a selection's flag offer what is in the plan on the line, or the newest: only
// what is left by the flags that are there already. say tells of a change what to offer,
// each with a tab and what it is.
func (s *selection) of(c *program, flag string, say func(p *plan.Plan, ch *plan.Change) []string) completion {
	return func(_ *cobra.Command, args []string, begin string) (out []string, _ cobra.ShellCompDirective) {
		d, err := c.desk()
		if err != nil {
			return nil, noFiles
		}
		p, _, err := d.Named(args)
		if err != nil {
			return nil, noFiles
		}
		rest := desk.Choice{Apps: s.Apps, Persons: s.Persons, Things: s.Things}
		switch flag {
		case "app":
			rest.Apps = nil
		case "person":
			rest.Persons = nil
		case "thing":
			rest.Things = nil
		}
		_, changes, err := d.Chosen(p, rest)
		if err != nil {
			return nil, noFiles
		}
		seen := map[string]bool{}
		for _, ch := range changes {
			for _, text := range say(p, ch) {
				if name, _, _ := strings.Cut(text, "\t"); !seen[name] && begins(name, begin) &&
					len(out) < maxCompletions {
					seen[name] = true
					out = append(out, text)
				}
			}
		}
		return out, noFiles
	}
}

func begins(name, begin string) bool { return strings.HasPrefix(table.Fold(name), table.Fold(begin)) }

// appOf, personOf, addressOf and guardsOf are what the flags of a selection are about.
func appOf(p *plan.Plan, ch *plan.Change) []string {
	for i := range p.Exports {
		if e := &p.Exports[i]; e.App == ch.App {
			return []string{e.App + "\t" + e.Title}
		}
	}
	return nil
}

func personOf(p *plan.Plan, ch *plan.Change) []string {
	if ch.Person == "" {
		return []string{ch.Account + "\tof nobody"}
	}
	name := p.People[ch.Person]
	return []string{ch.Person + "\t" + name, ch.Account + "\t" + name}
}

func addressOf(_ *plan.Plan, ch *plan.Change) []string {
	if ch.Thing == nil {
		return nil
	}
	return []string{ch.Address().String()}
}

func guardsOf(_ *plan.Plan, ch *plan.Change) (out []string) {
	for i := range ch.Holds {
		if slices.Contains(guard.Names(guard.ForChange), ch.Holds[i].Guard) {
			out = append(out, ch.Holds[i].Guard)
		}
	}
	return out
}

// here is the repository that the program is called in, or nil.
func (c *program) here() *desired.Repo {
	d, err := c.desk()
	if err != nil {
		return nil
	}
	repo, err := d.Repo()
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
			get := func(attr string) string { return repo.People.Get(i, attr) }
			id, user, name := get("id"), get("userName"), get("displayName")
			switch {
			case len(out) >= maxCompletions:
			case strings.HasPrefix(id, begin):
				out = append(out, id+"\t"+name)
			case begins(user, begin):
				out = append(out, user+"\t"+name)
			case begins(name, begin): // a shell completes what it can begin with
				out = append(out, name+"\t"+id)
			}
		}
	}
	return out, noFiles
}

// completeKits offers kits.
func (c *program) completeKits(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	repo := c.here()
	if repo == nil || len(args) > 0 {
		return nil, noFiles
	}
	var out []string
	for _, k := range repo.Kits {
		out = append(out, k.Name+"\t"+k.Title)
	}
	return out, noFiles
}

// completeThings offers things, of the applications on the line where there are some.
func (c *program) completeThings(cmd *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
	var out, apps []string
	if f := cmd.Flags().Lookup("app"); f != nil && f.Changed {
		apps = strings.Split(strings.Trim(f.Value.String(), "[]"), ",")
	}
	if repo := c.here(); repo != nil {
		for _, a := range repo.Apps {
			if apps != nil && !slices.Contains(apps, a.ID) {
				continue
			}
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
	names := slices.Clone(plan.Attributes)
	if repo := c.here(); repo != nil {
		repo.ReadPeople()
		for _, a := range repo.People.Attributes() {
			names = append(names, "person."+a)
		}
	}
	var out []string
	for _, n := range names {
		if begins(n, last) {
			out = append(out, head+n)
		}
	}
	return out, noFiles | cobra.ShellCompDirectiveNoSpace
}

// completeColumns offers the columns of what a list is of.
func (c *program) completeColumns(_ *cobra.Command, args []string, begin string) ([]string, cobra.ShellCompDirective) {
	d, err := c.desk()
	if err != nil || len(args) == 0 {
		return nil, noFiles
	}
	head := ""
	if i := strings.LastIndexByte(begin, ','); i >= 0 {
		head = begin[:i+1]
	}
	x, err := d.Listed(nil, d.Today(), "")
	if err != nil {
		return nil, noFiles
	}
	rows := x.Rows(args[0])
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
	files := prepare.PlanFiles(dir)
	slices.SortFunc(files, func(x, y string) int { return modified(y).Compare(modified(x)) }) // the newest first
	for _, f := range files {
		data, err := source.ReadFile(f, f, prepare.MaxPlan)
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
	d, err := c.desk()
	if err != nil {
		return nil, noFiles
	}
	p, err := d.Plan(args[0])
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
	return append(c.plans(), c.runs()...), noFiles
}

// runs offers the runs of the ledger.
func (c *program) runs() (out []string) {
	d, err := c.desk()
	if err != nil {
		return nil
	}
	runs, err := d.Runs()
	if err != nil {
		return nil
	}
	for _, r := range runs {
		out = append(out, r[0]+"\t"+r[1])
	}
	return out
}

func (c *program) completeRuns(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	if len(args) > 0 {
		return nil, noFiles
	}
	return c.runs(), noFiles
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
