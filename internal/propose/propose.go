// Package propose finds rules in what people hold, filters over their attributes that explain most
// holdings of a thing with few exceptions, and writes them as kits. It gives nobody anything:
// whoever a rule matches and does not hold all of it today is an exception that is named.
//
//	f := propose.Look(repo, view, 0.8, 3)
//	err := f.Write(amendment, title, because)
package propose

import (
	"fmt"
	"slices"
	"strings"

	"pravet/internal/amend"
	"pravet/internal/core/access"
	"pravet/internal/core/entitle"
	"pravet/internal/core/filter"
	"pravet/internal/core/model"
	"pravet/internal/desired"
	"pravet/internal/edit"
)

// mostExceptions is how many people stand in a kit's own file as exceptions; more are listed
// in one beside it.
const mostExceptions = 100

// A Proposal is a kit that was found in what people hold.
type Proposal struct {
	Kit        string   `json:"kit"`
	For        string   `json:"for"` // "" for everyone
	Gives      []string `json:"gives"`
	Explains   int      `json:"explains"` // holdings
	People     int      `json:"people"`
	Sure       int      `json:"sure"` // in percent
	Sensitive  bool     `json:"sensitive"`
	Exceptions []string `json:"exceptions"`        // whom it matches and who lack some of it
	Wider      string   `json:"wider,omitempty"`   // the rule without what makes it narrower, "" where nothing does
	Spared     int      `json:"spared,omitempty"`  // people whom only the wider rule matches, and who lack some of it
	Common     string   `json:"common,omitempty"`  // what those, or most of the exceptions, have in common, as a filter
	Sharing    int      `json:"sharing,omitempty"` // how many of the exceptions
}

// Findings are rules that were found, and how they are written.
type Findings struct {
	repo *desired.Repo
	view *access.View
	in   Input
	kits []Kit

	List []Proposal // in the order of what they explain, the most first
	Held int        // holdings that no rule explains yet

	named func(name string) int
}

// Look looks at what people hold and no rule gives them, of open accounts. sure is how many of
// those whom a rule matches hold it at the least, from 0 to 1, and least of how many people a
// rule is made.
func Look(repo *desired.Repo, v *access.View, sure float64, least int) *Findings {
	f := &Findings{repo: repo, view: v}
	f.named = f.repo.People.Names()
	f.in = Input{
		People: f.repo.People, Sure: sure, Least: least,
		Here: func(p int) bool { return v.Stages[p] == entitle.Here },
	}
	ruled := f.ruled()
	for a, app := range f.repo.Apps {
		if v.AccountOf[a] == nil {
			continue
		}
		held, by := make([][]int, len(app.Things)), make([][]int, len(app.Things))
		for p := range f.repo.People.Len() {
			if at := v.AccountOf[a][p]; at >= 0 && v.Accounts[a].Open(int(at)) {
				given := ruled[v.Due.Of[p]][a]
				for _, t := range v.Sets[a].Members(v.Accounts[a].Held[at]) {
					if slices.Contains(given, t) {
						by[t] = append(by[t], p)
					} else {
						held[t] = append(held[t], p)
						f.Held++
					}
				}
			}
		}
		for t := range app.Things {
			if len(held[t]) > 0 {
				f.in.Things = append(f.in.Things, Thing{
					AppThing: model.AppThing{App: a, Thing: int32(t)}, Sensitive: app.Things[t].Sensitive,
					Holders: held[t], Ruled: by[t],
				})
			}
		}
	}
	f.kits = Find(f.in)
	f.name()
	return f
}

// ruled is what rules give to each class, by application: what kits that are held by name
// give is not among it.
func (f *Findings) ruled() [][][]int32 {
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
func (f *Findings) name() {
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
		p := Proposal{
			Kit: name, For: k.Filter(), Explains: k.Explains, People: len(k.Holders), Sure: int(100 * k.Sure),
			Sensitive: k.Sensitive, Gives: []string{}, Exceptions: []string{},
		}
		if k.Not != nil {
			p.Wider, p.Spared, p.Common = k.Wider(), k.Spared, k.Not.Attr+" eq "+filter.Quote(k.Not.Value)
		} else if k.Shared != nil {
			p.Sharing, p.Common = k.Sharing, k.Shared.Attr+" eq "+filter.Quote(k.Shared.Value)
		}
		for _, t := range k.Things {
			x := f.in.Things[t].AppThing
			p.Gives = append(p.Gives, f.repo.Apps[x.App].Address(x.Thing).String())
		}
		for _, person := range k.Lacking {
			p.Exceptions = append(p.Exceptions, f.repo.People.Get(person, "id"))
		}
		f.List = append(f.List, p)
	}
}

// Keep leaves only the kits that are named.
func (f *Findings) Keep(names []string) {
	var kits []Kit
	var list []Proposal
	for i := range f.List {
		if slices.Contains(names, f.List[i].Kit) {
			kits, list = append(kits, f.kits[i]), append(list, f.List[i])
		}
	}
	f.kits, f.List = kits, list
}

// Write puts the kits into an amendment, and takes those out of kits held by name whom a rule
// gives the same now.
func (f *Findings) Write(a *amend.Amendment, title, because string) error {
	covered := map[[2]int]map[int32]bool{} // person and application → things
	for i := range f.kits {
		k, name := &f.kits[i], f.List[i].Kit
		lines := []string{name + ":", "  title: " + edit.Scalar(title), "  for: " + edit.Scalar(k.Filter())}
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
		switch ids := f.List[i].Exceptions; {
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
		left := len(k.Holders)
		for _, h := range k.Holders {
			if f.gets(covered, k, h.Person) {
				a.Drop(k, h.Person)
				left--
			}
		}
		if left == 0 && len(k.Holders) > 0 && !f.along(k) {
			if err := a.RemoveKit(k); err != nil {
				return err
			}
		}
	}
	return nil
}

// along reports whether a kit comes with another one.
func (f *Findings) along(k *model.Kit) bool {
	return slices.ContainsFunc(f.repo.Kits, func(other *model.Kit) bool {
		return slices.ContainsFunc(other.With, func(w model.Name) bool { return w.Text == k.Name })
	})
}

// gives are the lines of what a kit gives, by application.
func (f *Findings) gives(k *Kit) []string {
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
func (f *Findings) gets(covered map[[2]int]map[int32]bool, k *model.Kit, id string) bool {
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
