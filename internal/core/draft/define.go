package draft

import (
	"maps"
	"slices"

	"pravet/internal/core/diff"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
)

// belong finds, of each redefinition that takes something, the definitions by which those who have it get
// that again: it waits for them, so that the loss and the gain go together or not at all. Such a
// redefinition comes after what widens. O(accounts) for each.
//
//	dock brings view          dock no longer brings view, which waits for: fitter also brings view
//	ann is in dock, has fitter
func (d *drafter) belong(changes []diff.Change) {
	byApp := map[int32][]*diff.Change{}
	for i := range changes {
		if c := &changes[i]; c.Verb.OfThing() && c.Verb != model.Retire {
			byApp[c.App] = append(byApp[c.App], c)
		}
	}
	for a, definitions := range byApp {
		if len(definitions) < 2 {
			continue
		}
		app, accounts := d.in.Apps[a], d.accounts[a]
		was := model.ExportedGraph(app, accounts)
		will := diff.After(app, was, definitions)
		before, after := diff.New(was, accounts.Sets), diff.New(will, accounts.Sets)
		for _, c := range definitions {
			if c.Verb != model.Redefine || c.Def.Field != diff.Brings || c.Sense == diff.More && len(c.Def.Gone) == 0 {
				continue
			}
			taken := slices.Concat(c.Def.Gone, c.Def.Moved)
			if c.Sense == diff.More {
				taken = c.Def.Gone
			}
			alone := diff.New(diff.After(app, was, []*diff.Change{c}), accounts.Sets)
			def, waits, whole := *c.Def, map[int32]bool{}, true
			seen := map[uint32]bool{}
			for _, set := range accounts.Held {
				if seen[set] || !before.Has(set, c.Thing) {
					continue
				}
				seen[set] = true
				for _, t := range accounts.Sets.Members(before.Full(accounts.Sets.Of(taken))) {
					if alone.Has(set, t) {
						continue
					}
					found := false
					for _, o := range definitions {
						if gives(app, o) && o != c && after.Has(set, o.Thing) && !after.Has(movedBy(app, accounts.Sets, o), c.Thing) &&
							after.Has(movedBy(app, accounts.Sets, o), t) {
							waits[o.Thing], found = true, true
						}
					}
					whole = whole && found && after.Has(set, t)
				}
			}
			if !whole {
				continue // somebody loses something, and that comes first
			}
			def.Waits = slices.Sorted(maps.Keys(waits))
			c.Def, c.Late = &def, len(waits) > 0 && c.Sense == diff.Less
		}
		for _, c := range definitions {
			if c.Late {
				exchangeLists(c, definitions)
			}
		}
	}
}

// exchangeLists corrects the lists of a redefinition that gives and of one that takes, of the same thing,
// where what gives comes first.
func exchangeLists(less *diff.Change, definitions []*diff.Change) {
	for _, more := range definitions {
		if more.Verb != model.Redefine || more.Thing != less.Thing || more.Def.Field != diff.Brings || more.Sense != diff.More {
			continue
		}
		def, last := *more.Def, *less.Def
		come, gone := model.Without(def.To, def.From), model.Without(def.From, def.To)
		def.From = last.From
		def.To = append(model.Without(def.From, gone), come...)
		slices.Sort(def.To)
		last.From, last.To = def.To, more.Def.To
		more.Def, less.Def = &def, &last
	}
}

// gives reports whether a change of a definition brings more along.
func gives(app *model.App, c *diff.Change) bool {
	return c.Verb == model.Define || c.Def.Field == diff.Brings && c.Sense == diff.More
}

// movedBy is the set of what a change of a definition brings along from now on.
func movedBy(app *model.App, sets *model.Sets, c *diff.Change) uint32 {
	if c.Verb == model.Define {
		return sets.Of(app.Things[c.Thing].Implies)
	}
	return sets.Of(c.Def.Moved)
}

// reached finds out whom each redefinition, and the beginning of each definition,
// gives something or takes it; its effect follows from that. O(accounts) for each.
func (d *drafter) reached(changes []diff.Change) {
	for i := range changes {
		if c := &changes[i]; c.Verb == model.Redefine || c.Verb == model.Define {
			def := *c.Def // of these changes alone
			def.Through = d.states.Through(c, false)
			c.Def = &def
		}
	}
}

// reachOf names whom a redefinition reaches.
func (d *drafter) reachOf(c *diff.Change) *plan.Reach {
	out := &plan.Reach{Accounts: len(c.Def.Through), People: []string{}}
	before, accounts := d.states.Before(int(c.App)).Giving(c.Thing), d.accounts[c.App]
	for i, set := range accounts.Held {
		if before[set] && accounts.Open(i) {
			out.Holders++
		}
	}
	for _, at := range c.Def.Through {
		name := d.accounts[c.App].Key.At(int(at))
		if p := d.personOf[c.App][at]; p != diff.None {
			name = d.in.People.Get(int(p), "id")
		}
		out.People = append(out.People, name)
	}
	slices.Sort(out.People)
	out.People = out.People[:min(len(out.People), plan.MaxReach)]
	return out
}

// defined follows which changes define things, redefine them, and take them
// away, so that what depends on that can wait for it.
type defined struct {
	before   []*model.Graph      // as the applications are before the plan
	after    []*model.Graph      // and after it
	define   map[[2]int32]string // application, thing → id
	redefine map[[2]int32]map[string]string
	less     map[[2]int32][]string // the redefinitions by which it brings less along
	losses   map[[2]int32][]string // the changes by which accounts lose the thing
}

func (d *drafter) newDefined() *defined {
	var before []*model.Graph
	for a, app := range d.in.Apps {
		g := model.CatalogGraph(app)
		if d.accounts[a] != nil {
			g = model.ExportedGraph(app, d.accounts[a])
		}
		before = append(before, g)
	}
	return &defined{
		before,
		d.graphs,
		map[[2]int32]string{},
		map[[2]int32]map[string]string{},
		map[[2]int32][]string{},
		map[[2]int32][]string{},
	}
}

// needs notes a change and returns the ids of what it has to wait for: what
// gives a thing, for its definition; a redefinition, for the one before it of
// the same list and for the definitions of what it adds; the end of a
// definition, for all that takes the thing away. held is what an account that is
// removed holds that is to be retired.
func (x *defined) needs(app *model.App, held []int32, c *diff.Change, id string) (out []string) {
	if c.Verb == model.Remove {
		for _, t := range held {
			x.losses[[2]int32{c.App, t}] = append(x.losses[[2]int32{c.App, t}], id)
		}
	}
	if c.Thing == diff.None {
		return nil
	}
	key := [2]int32{c.App, c.Thing}
	add := func(things []int32) {
		for _, t := range things {
			if id := x.define[[2]int32{c.App, t}]; id != "" {
				out = append(out, id)
			}
		}
		// What is to bring less along brings that little first.
		for _, t := range slices.Concat(x.before[c.App].Along(things...), x.after[c.App].Along(things...), things) {
			for _, id := range x.less[[2]int32{c.App, t}] {
				if !slices.Contains(out, id) {
					out = append(out, id)
				}
			}
		}
	}
	if c.Def != nil {
		for _, t := range c.Def.Waits {
			at := [2]int32{c.App, t}
			for _, id := range []string{x.define[at], x.redefine[at][diff.Brings]} {
				if id != "" && !slices.Contains(out, id) {
					out = append(out, id)
				}
			}
		}
	}
	switch c.Verb {
	case model.Define:
		add(app.Things[c.Thing].Implies)
		x.define[key] = id
	case model.Redefine:
		if before := x.redefine[key][c.Def.Field]; before != "" {
			out = append(out, before)
		}
		switch {
		case c.Def.Field != diff.Brings:
		case c.Sense == diff.More:
			add(c.Def.Moved)
		default:
			x.less[key] = append(x.less[key], id)
			for _, t := range c.Def.Moved {
				x.losses[[2]int32{c.App, t}] = append(x.losses[[2]int32{c.App, t}], id)
			}
		}
		if x.redefine[key] == nil {
			x.redefine[key] = map[string]string{}
		}
		x.redefine[key][c.Def.Field] = id
	case model.Retire:
		out = append(out, x.losses[key]...)
	case model.Assign, model.Join, model.Grant:
		add([]int32{c.Thing})
	default:
		if app.Things[c.Thing].Retire {
			x.losses[key] = append(x.losses[key], id)
		}
	}
	return out
}

// retiring is what an account that is removed holds and that is to be retired.
func (d *drafter) retiring(c *diff.Change) (out []int32) {
	if c.Verb != model.Remove {
		return nil
	}
	for _, t := range d.sets[c.App].Members(d.accounts[c.App].Held[c.Account]) {
		if d.in.Apps[c.App].Things[t].Retire {
			out = append(out, t)
		}
	}
	return out
}
