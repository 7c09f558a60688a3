package adopt

import (
	"fmt"
	"slices"
	"strings"

	"pravet/internal/core/access"
	"pravet/internal/core/entitle"
	"pravet/internal/core/model"
	"pravet/internal/edit"
	"pravet/internal/prepare"
)

// kits finds by which kits people hold what they hold: existing ones whose rule says the same,
// else new ones that are held by name.
func (a *Application) kits() {
	a.Kits = nil
	view := prepare.Of(a.repo).View(a.today)
	ruled := a.ruled(view)
	holders := map[int][]int{} // thing → people
	var bare []int             // people with an account that holds nothing
	app := catalogOf(a.Things)
	at := a.repo.App(a.ID)
	a.counted(func(i, p int) {
		set := a.Accounts.Sets.Members(a.Accounts.Held[i])
		due, account := uint32(0), false
		if a.Kept != nil { // what a kit gives already needs none of its own
			due, account = view.Should(p, at)
		}
		if len(set) == 0 && !account {
			bare = append(bare, p)
		}
		for _, t := range set {
			switch {
			case a.Kept == nil:
				holders[app[t]] = append(holders[app[t]], p)
			case !account || !view.Sets[at].Has(due, t):
				holders[int(t)] = append(holders[int(t)], p)
			}
		}
	})
	used := map[string]bool{}
	for _, k := range a.repo.Kits {
		used[k.Name] = true
	}
	for t := range a.Things {
		people := holders[t]
		if len(people) == 0 {
			continue
		}
		slices.Sort(people)
		k := Kit{Thing: &a.Things[t], Holders: people}
		for _, r := range ruled {
			if len(people) >= leastRuled && slices.Equal(r.people, people) {
				k.Into, k.Rule = r.kit.Name, r.kit.Rule()
				break
			}
		}
		k.Name = free(used, a.ID+"-"+edit.Slug(k.Thing.Name), strings.TrimSuffix(k.Thing.Kind, "s"))
		a.Kits = append(a.Kits, k)
	}
	if len(bare) > 0 {
		slices.Sort(bare)
		a.Kits = append(a.Kits, Kit{Name: free(used, a.ID+"-account", "only"), Holders: bare})
	}
}

// catalogOf is the number of each thing of the application in the order of its catalog, which
// is by kind and name.
func catalogOf(things []Thing) []int {
	out := make([]int, len(things))
	for i := range out {
		out[i] = i
	}
	rank := map[string]int{"licenses": int(model.License), "groups": int(model.Group), "roles": int(model.Role)}
	slices.SortStableFunc(out, func(x, y int) int {
		if d := rank[things[x].Kind] - rank[things[y].Kind]; d != 0 {
			return d
		}
		return strings.Compare(things[x].Name, things[y].Name)
	})
	return out
}

// leastRuled is of how many people a rule says at the least that it means the same.
const leastRuled = 3

type ruledKit struct {
	kit    *model.Kit
	people []int // who are here
}

// ruled are the kits with a rule and the people who are here and have them.
func (a *Application) ruled(view *access.View) []ruledKit {
	var out []ruledKit
	at := map[int]int{}
	for n, k := range a.repo.Kits {
		if k.HasRule() && len(k.Holders) == 0 {
			at[n] = len(out)
			out = append(out, ruledKit{kit: k})
		}
	}
	for p := range a.repo.People.Len() {
		if view.Stages[p] != entitle.Here {
			continue
		}
		for _, h := range view.Due.Classes[view.Due.Of[p]].Kits {
			if i, ok := at[h.Kit]; ok {
				out[i].people = append(out[i].people, p)
			}
		}
	}
	return out
}

// free is a name that is not taken yet, with an ending where it is, and takes it.
func free(used map[string]bool, name, ending string) string {
	if used[name] {
		name += "-" + ending
	}
	for n, base := 2, name; used[name]; n++ {
		name = fmt.Sprint(base, "-", n)
	}
	used[name] = true
	return name
}
