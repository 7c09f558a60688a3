// Package explain finds the lines of the files that cause a change and says
// in words how they do.
package explain

import (
	"slices"
	"sync"

	"pravet/internal/core/day"
	"pravet/internal/core/diff"
	"pravet/internal/core/entitle"
	"pravet/internal/core/fact"
	"pravet/internal/core/graph"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/core/words"
)

// An Explainer explains the changes of one draft. It may be asked by several
// goroutines at a time.
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

	once   sync.Once
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
		return []plan.Reason{e.person(c.Person, fact.Fact{Kind: fact.NoKit, Person: e.Name(c.Person), App: app.ID})}
	case diff.OutOfScope:
		return []plan.Reason{e.OutOfScope("scope", c.Person, app)}
	case diff.IsAway:
		attr := "away"
		for _, a := range []string{"away.from", "away.to"} {
			if e.People.Get(int(c.Person), a) != "" {
				attr = a
			}
		}
		return []plan.Reason{e.said(c.Person, attr, fact.Fact{Kind: fact.Away, Person: e.Name(c.Person)})}
	case diff.IsNotYet:
		return []plan.Reason{
			e.said(
				c.Person,
				"starts",
				fact.Fact{Kind: fact.NotYet, Person: e.Name(c.Person), On: e.People.Get(int(c.Person), "starts")},
			),
		}
	case diff.IsGone:
		return []plan.Reason{
			e.said(
				c.Person,
				"ends",
				fact.Fact{Kind: fact.Ended, Person: e.Name(c.Person), On: e.People.Get(int(c.Person), "ends")},
			),
		}
	case diff.KitSets:
		for _, s := range e.due(c).Set {
			if s.Attr == app.Attrs[c.Attr].Name {
				return []plan.Reason{
					at(
						s.Pos,
						fact.Fact{Kind: fact.KitSets, Kit: e.Kits[s.Kit].Name, Attribute: s.Attr, Value: s.Value},
					),
				}
			}
		}
	case diff.Follows:
		a := app.Attrs[c.Attr]
		return []plan.Reason{
			e.said(
				c.Person,
				a.Person,
				fact.Fact{Kind: fact.HasValue, Attribute: a.Person, Value: e.People.Get(int(c.Person), a.Person)},
			),
			at(a.Pos, fact.Fact{Kind: fact.Follows, Attribute: a.Name, Other: a.Person}),
		}
	case diff.IsDouble:
		return e.double(c)
	case diff.IsDefined:
		return e.defined(c)
	case diff.IsStray:
		return []plan.Reason{
			at(
				app.StraysPos,
				fact.Fact{Kind: fact.Stray, Value: app.Strays, Attribute: app.MatchPerson(), Account: c.Key},
			),
		}
	}
	return nil
}

// defined says how a definition differs from the catalog.
func (e *Explainer) defined(c *diff.Change) []plan.Reason {
	app := e.Apps[c.App]
	t := &app.Things[c.Thing]
	defs := e.Accounts[c.App].Definitions
	if c.Verb == model.Define {
		return []plan.Reason{at(t.Pos, fact.Fact{Kind: fact.Undefined, Thing: t.String(), App: app.ID})}
	}
	is := defs.Of[c.Thing]
	there := model.Pos{File: defs.File, Line: is.Line}
	if c.Verb == model.Retire {
		return []plan.Reason{
			at(t.Pos, fact.Fact{Kind: fact.Retired, Thing: t.String()}),
			at(there, fact.Fact{Kind: fact.StillThere, App: app.ID}),
		}
	}
	want := app.Defined(c.Thing)
	in := func(kind fact.Kind, d *model.Definition) fact.Fact {
		f := fact.Fact{Kind: kind, App: app.ID, Attribute: c.Def.Field}
		switch c.Def.Field {
		case diff.Title:
			f.Other, f.Value = "text", d.Title
		case diff.Permissions:
			f.Names = d.Permissions
		default:
			f.Names = d.Brings
		}
		return f
	}
	return []plan.Reason{at(t.Pos, in(fact.InCatalog, want)), at(there, in(fact.InApp, is))}
}

// OutOfScope says that the scope of an application, as it is called here, leaves
// a person out, and by which value.
func (e *Explainer) OutOfScope(scope string, person int32, app *model.App) plan.Reason {
	f := fact.Fact{Kind: fact.OutOfScope, Other: scope, App: app.ID, Rule: app.Scope.String()}
	if cl, ok := app.Scope.Fails(e.Get(person), e.Today); ok {
		f.Attribute, f.Value = cl.Attr, e.People.Get(int(person), cl.Attr)
	}
	return at(app.ScopePos, f)
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
	t := &app.Things[c.Thing]
	out := []plan.Reason{at(app.TidyPos, fact.Fact{Kind: fact.Tidy, Thing: t.String()})}
	for _, due := range e.Sets[c.App].Members(e.due(c).Want) {
		if slices.Contains(e.Graphs[c.App].Along(due), c.Thing) {
			by := &app.Things[due]
			out = append(out, at(by.Pos, fact.Fact{Kind: fact.BringsAlong, Via: by.String(), Thing: t.String()}))
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
	e.once.Do(func() {
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
	})
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

// at is a fact at the line that causes it, in words as well.
func at(p model.Pos, f fact.Fact) plan.Reason {
	return plan.Reason{Facts: &f, File: p.File, Line: p.Line, Says: words.Of(&f)}
}

// same reports whether two reasons say the same.
func same(x plan.Reason) func(plan.Reason) bool {
	return func(y plan.Reason) bool { return x.File == y.File && x.Line == y.Line && x.Says == y.Says }
}

// Said is a reason at a place.
func (e *Explainer) Said(p model.Pos, f fact.Fact) plan.Reason { return at(p, f) }

// said is a reason at the line that gives an attribute of a person.
func (e *Explainer) said(p int32, attr string, f fact.Fact) plan.Reason {
	return at(e.People.Place(int(p), attr), f)
}

func (e *Explainer) person(p int32, f fact.Fact) plan.Reason {
	return at(e.People.Pos(int(p)), f)
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
	return words.Value(attr, e.People.Get(int(p), attr))
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
					if !slices.ContainsFunc(out, same(r)) {
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
		out := []plan.Reason{at(pos, fact.Fact{Kind: fact.KitWith, Kit: kit.Name, Other: with.Name})}
		for _, of := range held {
			if of.Kit == h.With {
				out = append(out, e.Has(of, held)...)
			}
		}
		return out
	}
	if h.Holder == nil {
		return []plan.Reason{at(kit.ForPos, fact.Fact{Kind: fact.KitRule, Kit: kit.Name, Rule: kit.Rule()})}
	}
	return []plan.Reason{
		at(
			h.Holder.Pos,
			fact.Fact{Kind: fact.KitHolder, Kit: kit.Name, Until: h.Holder.Until.String(), Because: h.Holder.Because},
		),
	}
}

// notGiven says that no kit of the person gives the thing, and what keeps the
// person from the kits that do.
func (e *Explainer) notGiven(c *diff.Change) []plan.Reason {
	t := &e.Apps[c.App].Things[c.Thing]
	out := []plan.Reason{e.person(c.Person, fact.Fact{Kind: fact.NoKit, Person: e.Name(c.Person), Thing: t.String()})}
	kits := e.Givers(c.App, c.Thing)
	// A kit that nobody can hold by itself explains nothing where those that
	// it comes with are named.
	if own := slices.DeleteFunc(slices.Clone(kits), func(g Giver) bool { return !e.Kits[g.Kit].HasRule() && len(e.Kits[g.Kit].Holders) == 0 }); len(
		own,
	) > 0 {
		kits = own
	}
	if len(kits) == 0 {
		return append(out, at(t.Pos, fact.Fact{Kind: fact.NobodyGets, Thing: t.String()}))
	}
	for i, g := range kits {
		if i == maxKits {
			out = append(out, at(model.Pos{}, fact.Fact{Kind: fact.KitsMore, Count: len(kits) - i}))
			break
		}
		via := ""
		if g.Via != diff.None {
			via = e.Apps[c.App].Things[g.Via].String()
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
			return at(x.Pos, fact.Fact{Kind: fact.KitExcepts, Kit: kit.Name, Because: x.Because})
		}
	}
	for i := range kit.Holders {
		if x := &kit.Holders[i]; x.Person == id && !x.On(e.Today) {
			return at(x.Pos, fact.Fact{Kind: fact.KitWasHeld, Kit: kit.Name, Until: x.Until.String()})
		}
	}
	if kit.For == nil {
		return at(kit.Pos, fact.Fact{Kind: fact.KitByName, Kit: kit.Name, Via: via})
	}
	f := fact.Fact{Kind: fact.KitLacks, Kit: kit.Name, Via: via, Rule: kit.For.String()}
	if cl, ok := kit.For.Fails(e.Get(p), e.Today); ok {
		f.Attribute, f.Value = cl.Attr, e.People.Get(int(p), cl.Attr)
	}
	return at(kit.ForPos, f)
}
