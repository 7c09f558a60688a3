package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"pravet/internal/amend"
	"pravet/internal/core/access"
	"pravet/internal/core/day"
	"pravet/internal/core/model"
	"pravet/internal/core/propose"
	"pravet/internal/core/stage"
	"pravet/internal/desired"
	"pravet/internal/edit"
	"pravet/internal/prepare"
	"pravet/internal/say"
	"pravet/internal/show"
)

// mostExceptions is how many people stand in a kit's own file as exceptions; more are listed
// in one beside it.
const mostExceptions = 100

func (c *program) propose() *cobra.Command {
	r := &rewriting{}
	var apps []string
	var sure float64
	var least int
	cmd := &cobra.Command{
		Use:     "propose [KIT ...]",
		Short:   "Find rules in what people hold, and make kits of them",
		GroupID: keeping,
		Long: `Propose looks at what people hold today and finds rules: kits whose SCIM filters over
people's attributes explain most of it with few exceptions. Rules of one condition come
first, of two where one does not say enough. What a rule gives already is not explained
again.

Of each it says how many holdings it explains, who would gain by it, and how sure it is:
the lower end of what the share of those who hold it may be, as little is known of few.
Nobody gains anything: whoever a rule matches and does not hold all of it today becomes an
exception that is named, to be looked at. What is sensitive stands in a kit of its own.

With --write all kits are written to kits/proposed.yaml, or those that are named. People
who held the same by name are taken out of those kits, as a rule says it now.`,
		Example: example("pravet propose", "pravet propose --app tickets --sure 90 --least 5"),
	}
	formatFlag(cmd, &r.format, "table", "json", "csv")
	r.flags(cmd)
	cmd.Flags().StringSliceVar(&apps, "app", nil, "only what is held in this application (may be repeated)")
	cmd.Flags().Float64Var(&sure, "sure", 80, "how many of those whom a rule matches hold it at the least, in "+
		"percent")
	cmd.Flags().IntVar(&least, "least", 3, "of how many people a rule is made at the least")
	offer(cmd, "app", c.completeApps)
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		dir, today, err := c.where("")
		if err != nil {
			return err
		}
		if sure < 50 || sure > 100 {
			return usage(say.BetweenHalfAndAll())
		}
		repo, err := c.rules(dir)
		if err != nil {
			return err
		}
		s, v, missing, err := prepare.Look(c.ctx, repo, apps, today)
		if err := c.told(s, missing, err); err != nil {
			return err
		}
		f := &findings{repo: repo, view: v}
		f.find(sure/100, max(least, 2))
		for _, name := range args {
			if !slices.ContainsFunc(f.list, func(x show.Proposal) bool { return x.Kit == name }) {
				var names []string
				for _, x := range f.list {
					names = append(names, x.Kit)
				}
				return prepare.UnknownName("proposed kit", name, names)
			}
		}
		if len(args) > 0 {
			f.keep(args)
		}
		switch {
		case r.brief:
		case r.format == "table":
			err = c.paged(func(p *show.Printer) error {
				p.Proposals(f.list, f.held, r.full)
				return p.Err()
			})
		default:
			err = show.Output(c.Stdout, c.Environ, r.format, show.ProposalTable(f.list))
		}
		if err != nil || len(f.list) == 0 {
			return err
		}
		if !r.write && !r.commit {
			fmt.Fprintln(c.Stderr, say.NotWrittenYet())
			return nil
		}
		a := amend.New(c.ctx, repo)
		if err := f.write(a, today); err != nil {
			return err
		}
		r.subject, r.quiet = say.ProposedKits(len(f.list)), true
		return c.putDown(dir, repo, a, r, today)
	}
	return cmd
}

// findings are rules that were found, and how they are written.
type findings struct {
	repo *desired.Repo
	view *access.View
	in   propose.Input
	kits []propose.Kit
	list []show.Proposal
	held int // holdings that no rule explains yet

	named func(name string) int
}

// find looks at what people hold and no rule gives them.
func (f *findings) find(sure float64, least int) {
	v := f.view
	f.named = f.repo.People.Names()
	f.in = propose.Input{
		People: f.repo.People, Sure: sure, Least: least,
		Here: func(p int) bool { return v.Stages[p] == stage.Here },
	}
	ruled := f.ruled()
	for a, app := range f.repo.Apps {
		if v.AccountOf[a] == nil {
			continue
		}
		held, by := make([][]int, len(app.Things)), make([][]int, len(app.Things))
		for p := range f.repo.People.Len() {
			if at := v.AccountOf[a][p]; at >= 0 {
				given := ruled[v.Due.Of[p]][a]
				for _, t := range v.Sets[a].Members(v.Accounts[a].Held[at]) {
					if slices.Contains(given, t) {
						by[t] = append(by[t], p)
					} else {
						held[t] = append(held[t], p)
						f.held++
					}
				}
			}
		}
		for t := range app.Things {
			if len(held[t]) > 0 {
				f.in.Things = append(f.in.Things, propose.Thing{
					AppThing: model.AppThing{App: a, Thing: int32(t)}, Sensitive: app.Things[t].Sensitive,
					Holders: held[t], Ruled: by[t],
				})
			}
		}
	}
	f.kits = propose.Find(f.in)
	f.name()
}

// ruled is what rules give to each class, by application: what kits that are held by name
// give is not among it.
func (f *findings) ruled() [][][]int32 {
	out := make([][][]int32, len(f.view.Due.Classes))
	for c := range out {
		out[c] = make([][]int32, len(f.repo.Apps))
		for _, h := range f.view.Due.Classes[c].Kits {
			if h.Holder != nil || h.With >= 0 || h.Linger != nil {
				continue
			}
			for _, g := range f.repo.Kits[h.Kit].Gives {
				out[c][g.App] = append(out[c][g.App], g.Things...)
			}
		}
	}
	return out
}

// name makes of each kit something to show, under a name of its own.
func (f *findings) name() {
	used := map[string]bool{}
	for _, k := range f.repo.Kits {
		used[k.Name] = true
	}
	for i := range f.kits {
		k := &f.kits[i]
		var parts []string
		for _, c := range k.For {
			parts = append(parts, c.Value)
		}
		base := edit.Slug(strings.Join(parts, " "))
		if len(parts) == 0 {
			base = "everyone"
		}
		if k.Sensitive {
			base += "-sensitive"
		}
		name := base
		for n := 2; used[name]; n++ {
			name = fmt.Sprint(base, "-", n)
		}
		used[name] = true
		p := show.Proposal{
			Kit: name, For: k.Filter(), Explains: k.Explains, People: len(k.Holders), Sure: int(100 * k.Sure), Sensitive: k.Sensitive,
			Gives: []string{}, Exceptions: []string{},
		}
		for _, t := range k.Things {
			x := f.in.Things[t].AppThing
			p.Gives = append(p.Gives, f.repo.Apps[x.App].Address(x.Thing).String())
		}
		for _, person := range k.Lacking {
			p.Exceptions = append(p.Exceptions, f.repo.People.Get(person, "id"))
		}
		f.list = append(f.list, p)
	}
}

// keep leaves only the kits that are named.
func (f *findings) keep(names []string) {
	var kits []propose.Kit
	var list []show.Proposal
	for i := range f.list {
		if slices.Contains(names, f.list[i].Kit) {
			kits, list = append(kits, f.kits[i]), append(list, f.list[i])
		}
	}
	f.kits, f.list = kits, list
}

// write puts the kits into an amendment, and takes those out of kits held by name whom a rule
// gives the same now.
func (f *findings) write(a *amend.Amendment, today day.Day) error {
	covered := map[[2]int]map[int32]bool{} // person and application → things
	for i := range f.kits {
		k, name := &f.kits[i], f.list[i].Kit
		lines := []string{
			name + ":",
			"  title: " + edit.Scalar(say.FoundOn(today)),
			"  for: " + edit.Scalar(k.Filter()),
		}
		if len(k.For) == 0 {
			lines[2] = "  everyone: true"
		}
		lines = append(lines, "  gives:")
		lines = append(lines, f.gives(k)...)
		for _, p := range k.Holders {
			for _, t := range k.Things {
				x := f.in.Things[t].AppThing
				key := [2]int{p, x.App}
				if covered[key] == nil {
					covered[key] = map[int32]bool{}
				}
				covered[key][x.Thing] = true
			}
		}
		because := say.LacksToday(today)
		switch ids := f.list[i].Exceptions; {
		case len(ids) > mostExceptions:
			file := "lists/" + name + ".csv"
			text := edit.Row(',', "person", "because") + "\n"
			for _, id := range ids {
				text += edit.Row(',', id, because) + "\n"
			}
			if err := a.Create(file, text); err != nil {
				return err
			}
			lines = append(lines, "  except: {listed: "+file+"}")
		case len(ids) > 0:
			lines = append(lines, "  except:")
			for _, id := range ids {
				lines = append(lines, "    - {person: "+edit.Inline(id)+", because: "+edit.Inline(because)+"}")
			}
		}
		a.AddKit("kits/proposed.yaml", append(lines, "")...)
	}
	for _, k := range f.repo.Kits {
		if k.HasRule() || len(k.With) > 0 {
			continue
		}
		for _, h := range k.Holders {
			if f.gets(covered, k, h.Person) {
				a.Drop(k, h.Person)
			}
		}
	}
	return nil
}

func (f *findings) gives(k *propose.Kit) []string {
	var lines []string
	for app := range f.repo.Apps {
		var parts []string
		for _, kind := range f.repo.Apps[app].Kinds() {
			var names []string
			for _, t := range k.Things {
				x := f.in.Things[t].AppThing
				if thing := &f.repo.Apps[x.App].Things[x.Thing]; x.App == app && thing.Kind == kind {
					names = append(names, edit.Inline(thing.Name))
				}
			}
			if len(names) > 0 {
				parts = append(parts, kind.Plural()+": ["+strings.Join(names, ", ")+"]")
			}
		}
		if len(parts) > 0 {
			lines = append(lines, "    "+f.repo.Apps[app].ID+": {"+strings.Join(parts, ", ")+"}")
		}
	}
	return lines
}

// gets reports whether rules that were found give somebody all that a kit gives.
func (f *findings) gets(covered map[[2]int]map[int32]bool, k *model.Kit, id string) bool {
	p := f.named(id)
	if p < 0 || len(k.Gives) == 0 {
		return false
	}
	for _, g := range k.Gives {
		if len(g.Set) > 0 || len(g.Things) == 0 {
			return false
		}
		for _, t := range g.Things {
			if !covered[[2]int{p, g.App}][t] {
				return false
			}
		}
	}
	return true
}
