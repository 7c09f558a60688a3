// Package explain finds the lines of the files that cause a change and says
// in words how they do.
package explain

import (
	"fmt"
	"slices"
	"strings"

	"pravet/internal/core/day"
	"pravet/internal/core/diff"
	"pravet/internal/core/entitle"
	"pravet/internal/core/graph"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
)

// An Explainer explains the changes of one draft.
type Explainer struct {
	People *model.People
	Apps   []*model.App
	Graphs []*graph.Graph // what should bring what along in each application
	Kits   []*model.Kit
	Sets   []*model.Sets // of each application
	// Accounts of each application, nil where its export was not read.
	Accounts []*model.Accounts
	Due      *entitle.Result
	Today    day.Day

	giving map[[2]int32][]Giver // application, thing → kits
}

// maxKits is how many kits a change names that would give a thing, but not to
// this person.
const maxKits = 3

// Reasons returns why a change is wanted, nearest cause first.
func (e *Explainer) Reasons(c *diff.Change) []plan.Reason {
	app := e.Apps[c.App]
	switch c.Why {
	case diff.Gives:
		return e.gives(c)
	case diff.NotGiven:
		return e.notGiven(c)
	case diff.NothingDue:
		if c.Thing != diff.None {
			return e.notGiven(c)
		}
		return []plan.Reason{e.person(c.Person, fmt.Sprintf("%s has no kit that gives anything in %s", e.Name(c.Person), app.ID))}
	case diff.OutOfScope:
		return []plan.Reason{e.OutOfScope("scope", c.Person, app)}
	case diff.IsAway:
		attr := "away"
		for _, a := range []string{"away.from", "away.to"} {
			if e.People.Get(int(c.Person), a) != "" {
				attr = a
			}
		}
		return []plan.Reason{e.said(c.Person, attr, e.Name(c.Person)+" is away")}
	case diff.IsNotYet:
		return []plan.Reason{e.said(c.Person, "starts", fmt.Sprintf("%s starts on %s", e.Name(c.Person), e.People.Get(int(c.Person), "starts")))}
	case diff.IsGone:
		return []plan.Reason{e.said(c.Person, "ends", fmt.Sprintf("%s ended on %s", e.Name(c.Person), e.People.Get(int(c.Person), "ends")))}
	case diff.KitSets:
		for _, s := range e.due(c).Set {
			if s.Attr == app.Attrs[c.Attr].Name {
				return []plan.Reason{at(s.Pos, fmt.Sprintf("kit %s sets %s to %q", e.Kits[s.Kit].Name, s.Attr, s.Value))}
			}
		}
	case diff.Follows:
		a := app.Attrs[c.Attr]
		return []plan.Reason{
			e.said(c.Person, a.Person, e.ValueOf(c.Person, a.Person)),
			at(a.Pos, fmt.Sprintf("%s follows the person's %s", a.Name, a.Person)),
		}
	case diff.IsDouble:
		return e.double(c)
	case diff.IsDefined:
		return e.defined(c)
	case diff.IsStray:
		return []plan.Reason{at(app.StraysPos, fmt.Sprintf("strays: %s; nobody's %s is %q", app.Strays, app.MatchPerson(), c.Key))}
	}
	return nil
}

// defined says how a definition differs from the catalog.
func (e *Explainer) defined(c *diff.Change) []plan.Reason {
	app := e.Apps[c.App]
	t := app.Things[c.Thing]
	defs := e.Accounts[c.App].Definitions
	if c.Verb == model.Define {
		return []plan.Reason{at(t.Pos, fmt.Sprintf("%s %s is Pravet's own (define: true), and %s has none of that name", t.Kind, t.Name, app.ID))}
	}
	is := defs.Of[c.Thing]
	there := plan.Reason{File: defs.File, Line: is.Line}
	if c.Verb == model.Retire {
		there.Says = app.ID + " still has it"
		return []plan.Reason{at(t.Pos, fmt.Sprintf("%s %s is to go (retire: true)", t.Kind, t.Name)), there}
	}
	want := app.Defined(c.Thing)
	list := func(names []string) string {
		if len(names) == 0 {
			return "none"
		}
		return strings.Join(names, ", ")
	}
	says := map[string][2]string{
		diff.Title: {fmt.Sprintf("%q", want.Title), fmt.Sprintf("%q", is.Title)}, diff.Permissions: {list(want.Permissions), list(is.Permissions)},
		diff.Brings: {list(want.Brings), list(is.Brings)},
	}[c.Field]
	there.Says = fmt.Sprintf("in %s: %s %s", app.ID, c.Field, says[1])
	return []plan.Reason{at(t.Pos, fmt.Sprintf("in the catalog: %s %s", c.Field, says[0])), there}
}

// OutOfScope says that the scope of an application, as it is called here, leaves
// a person out, and by which value.
func (e *Explainer) OutOfScope(scope string, person int32, app *model.App) plan.Reason {
	says := scope + " leaves this person out: " + app.Scope.String()
	if cl, ok := app.Scope.Fails(e.Get(person), e.Today); ok {
		says += "; " + e.ValueOf(person, cl.Attr)
	}
	return at(app.ScopePos, says)
}

// A Path is a way in which a person is due a thing: a kit gives the first of a
// chain of things, each of which brings the next along, and the last is it.
type Path struct {
	Held  entitle.Held
	Pos   model.Pos // where the kit gives the first
	Chain []int32
}

// Paths lists the ways in which a person is due a thing, in the order of the
// kits' names; of the things of one kit that bring it, each is a way.
func (e *Explainer) Paths(person int32, app int, thing int32) (out []Path) {
	for _, h := range e.Due.Classes[e.Due.Of[person]].Kits {
		for _, g := range e.Kits[h.Kit].Gives {
			if g.App != app {
				continue
			}
			for i, t := range g.Things {
				if chain := e.Graphs[app].Chain(t, thing); chain != nil {
					out = append(out, Path{h, g.Pos[i], chain})
				}
			}
		}
	}
	return out
}

// double says what brings along that which is taken away as a double.
func (e *Explainer) double(c *diff.Change) []plan.Reason {
	app := e.Apps[c.App]
	t := app.Things[c.Thing]
	out := []plan.Reason{at(app.TidyPos, fmt.Sprintf("tidy: doubles; %s %s stays, as something else brings it along", t.Kind, t.Name))}
	for _, due := range e.Sets[c.App].Members(e.due(c).Want) {
		if slices.Contains(e.Graphs[c.App].Along(due), c.Thing) {
			by := app.Things[due]
			out = append(out, at(by.Pos, fmt.Sprintf("%s %s brings %s %s along", by.Kind, by.Name, t.Kind, t.Name)))
		}
	}
	return out
}

// A Giver is a kit that gives a thing, by itself or along with another one.
type Giver struct {
	Kit int
	Via int32 // the thing that brings it along, or diff.None
}

// Givers lists the kits that give a thing.
func (e *Explainer) Givers(app, thing int32) []Giver {
	if e.giving == nil {
		e.giving = map[[2]int32][]Giver{}
		for k, kit := range e.Kits {
			for _, g := range kit.Gives {
				e.noteGive(k, g)
			}
			for _, w := range kit.All {
				for _, g := range e.Kits[w].Gives {
					e.noteGive(k, g)
				}
			}
		}
	}
	return e.giving[[2]int32{app, thing}]
}

// noteGive notes what a kit gives in one application, by itself or with a kit
// that comes with it.
func (e *Explainer) noteGive(kit int, g model.Give) {
	for _, t := range g.Things {
		e.giver(g.App, t, Giver{kit, diff.None})
		for _, also := range e.Graphs[g.App].Along(t) {
			e.giver(g.App, also, Giver{kit, t})
		}
	}
}

func (e *Explainer) giver(app int, thing int32, g Giver) {
	key := [2]int32{int32(app), thing}
	for _, known := range e.giving[key] {
		if known.Kit == g.Kit {
			return // one way is enough to say
		}
	}
	e.giving[key] = append(e.giving[key], g)
}

func at(p model.Pos, says string) plan.Reason {
	return plan.Reason{File: p.File, Line: p.Line, Says: says}
}

// Said is a reason at a place.
func (e *Explainer) Said(p model.Pos, says string) plan.Reason { return at(p, says) }

// said is a reason at the line that gives an attribute of a person.
func (e *Explainer) said(p int32, attr, says string) plan.Reason {
	return at(e.People.Place(int(p), attr), says)
}

func (e *Explainer) person(p int32, says string) plan.Reason {
	return at(e.People.Pos(int(p)), says)
}

// Name is how a person is called.
func (e *Explainer) Name(p int32) string {
	if n := e.People.Get(int(p), "displayName"); n != "" {
		return n
	}
	return e.People.Get(int(p), "userName")
}

// Get asks for the attributes of a person, for a filter.
func (e *Explainer) Get(p int32) func(string) string {
	return func(attr string) string { return e.People.Get(int(p), attr) }
}

// ValueOf says which value a person has of an attribute.
func (e *Explainer) ValueOf(p int32, attr string) string {
	if v := e.People.Get(int(p), attr); v != "" {
		return fmt.Sprintf("%s is %q", attr, v)
	}
	return attr + " has no value"
}

func (e *Explainer) due(c *diff.Change) *entitle.Due {
	return &e.Due.Classes[e.Due.Of[c.Person]].Apps[c.App]
}

// gives names the kits that the person has and that give the thing, or
// anything at all in the application when the change is about the account.
func (e *Explainer) gives(c *diff.Change) []plan.Reason {
	var out []plan.Reason
	held := e.Due.Classes[e.Due.Of[c.Person]].Kits
	for _, h := range held {
		kit := e.Kits[h.Kit]
		for _, g := range kit.Gives {
			if int32(g.App) != c.App {
				continue
			}
			found := c.Thing == diff.None
			for _, t := range g.Things {
				found = found || t == c.Thing
			}
			if found {
				for _, r := range e.Has(h, held) {
					if !slices.Contains(out, r) {
						out = append(out, r)
					}
				}
				break
			}
		}
	}
	return out
}

// Has says why a kit is held, of all that a person holds: by its rule, by name,
// or because it comes with one that is.
func (e *Explainer) Has(h entitle.Held, held []entitle.Held) []plan.Reason {
	kit := e.Kits[h.Kit]
	if h.With >= 0 {
		with := e.Kits[h.With]
		pos := with.Pos
		for _, w := range with.With {
			if w.Text == kit.Name {
				pos = w.Pos
			}
		}
		out := []plan.Reason{at(pos, fmt.Sprintf("kit %s comes with kit %s", kit.Name, with.Name))}
		for _, of := range held {
			if of.Kit == h.With {
				out = append(out, e.Has(of, held)...)
			}
		}
		return out
	}
	if h.Holder == nil {
		return []plan.Reason{at(kit.ForPos, fmt.Sprintf("kit %s: %s", kit.Name, kit.Rule()))}
	}
	says := fmt.Sprintf("kit %s, held by name", kit.Name)
	if h.Holder.Until != day.None {
		says += fmt.Sprintf(" until %s", h.Holder.Until)
	}
	return []plan.Reason{at(h.Holder.Pos, says+": "+h.Holder.Because)}
}

// notGiven says that no kit of the person gives the thing, and what keeps the
// person from the kits that do.
func (e *Explainer) notGiven(c *diff.Change) []plan.Reason {
	t := e.Apps[c.App].Things[c.Thing]
	out := []plan.Reason{e.person(c.Person, fmt.Sprintf("%s has no kit that gives %s %s", e.Name(c.Person), t.Kind, t.Name))}
	kits := e.Givers(c.App, c.Thing)
	// A kit that nobody can hold by itself explains nothing where those that
	// it comes with are named.
	if own := slices.DeleteFunc(slices.Clone(kits), func(g Giver) bool { return !e.Kits[g.Kit].HasRule() && len(e.Kits[g.Kit].Holders) == 0 }); len(own) > 0 {
		kits = own
	}
	if len(kits) == 0 {
		return append(out, at(t.Pos, fmt.Sprintf("no kit gives %s %s to anyone", t.Kind, t.Name)))
	}
	for i, g := range kits {
		if i == maxKits {
			out = append(out, plan.Reason{Says: fmt.Sprintf("%s more give it, to others", model.Count(len(kits)-i, "kit", "kits"))})
			break
		}
		via := ""
		if g.Via != diff.None {
			brings := e.Apps[c.App].Things[g.Via]
			via = fmt.Sprintf(" along with %s %s", brings.Kind, brings.Name)
		}
		out = append(out, e.Lacks(e.Kits[g.Kit], c.Person, via))
	}
	return out
}

// Lacks says why a person does not have a kit that gives something, via what
// brings it along.
func (e *Explainer) Lacks(kit *model.Kit, p int32, via string) plan.Reason {
	id := e.People.Get(int(p), "id")
	for i := range kit.Except {
		if x := &kit.Except[i]; x.Person == id && x.On(e.Today) {
			return at(x.Pos, fmt.Sprintf("kit %s excepts this person: %s", kit.Name, x.Because))
		}
	}
	for i := range kit.Holders {
		if x := &kit.Holders[i]; x.Person == id && !x.On(e.Today) {
			return at(x.Pos, fmt.Sprintf("kit %s was held by name until %s", kit.Name, x.Until))
		}
	}
	if kit.For == nil {
		return at(kit.Pos, fmt.Sprintf("kit %s gives it%s, by name only", kit.Name, via))
	}
	says := fmt.Sprintf("kit %s gives it%s for: %s", kit.Name, via, kit.For)
	if cl, ok := kit.For.Fails(e.Get(p), e.Today); ok {
		says += "; " + e.ValueOf(p, strings.TrimSpace(cl.Attr))
	}
	return at(kit.ForPos, says)
}
