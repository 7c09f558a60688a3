// An explanation finds the lines of the files that cause a change and says
// in words how they do.

package words

import (
	"slices"
	"sync"

	"pravet/internal/core/day"
	"pravet/internal/core/diff"
	"pravet/internal/core/entitle"
	"pravet/internal/core/fact"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
)

// An Explainer explains the changes of one draft. It may be asked by several
// goroutines at a time.
type Explainer struct {
	People *model.People
	Apps   []*model.App
	Graphs []*model.Graph // what should bring what along in each application
	Kits   []*model.Kit
	Sets   []*model.Sets // of each application
	// Accounts of each application, nil where its export was not read.
	Accounts []*model.Accounts
	Due      *entitle.Result
	Today    day.Day
	Leaving  *entitle.Leaving           // nil where there are no paths
	Own      map[[2]int32]int32         // application, person → the account that they registered by themselves
	Stands   []map[int32]*entitle.Stand // of each application, by account
	Undoes   struct{ Run, Plan string } // of a back-out: the run, and the plan that it has carried out

	once    sync.Once
	giving  map[[2]int32][]Giver // application, thing → kits that give it by themselves
	known   map[[2]int32][]Giver // likewise, with those that they come with, as far as that was asked
	upwards [][]int32            // kit → those that it comes with
	mu      sync.Mutex

	naming sync.Once
	names  map[*model.Kit]map[string]naming // kit → id of a person
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

// A Giver is a kit that gives a thing, by itself or along with another one.
type Giver struct {
	Kit int
	Via int32 // the thing that brings it along, or diff.None
}

// Givers lists the kits that give a thing, by themselves or with kits that come with them. The kits are walked once for
// each thing that is asked for.
func (e *Explainer) Givers(app, thing int32) []Giver {
	e.once.Do(func() {
		e.giving, e.known, e.upwards = map[[2]int32][]Giver{}, map[[2]int32][]Giver{}, model.Upwards(e.Kits)
		for k, kit := range e.Kits {
			for _, g := range kit.Gives {
				e.noteGive(k, g)
			}
		}
	})
	key := [2]int32{app, thing}
	e.mu.Lock()
	defer e.mu.Unlock()
	if out, ok := e.known[key]; ok {
		return out
	}
	own := e.giving[key]
	out := slices.Clone(own)
	listed, passed := map[int32]bool{}, map[int32]bool{}
	for _, g := range own {
		listed[int32(g.Kit)] = true
	}
	for _, g := range own { // the first kit that comes with another says by which way
		for queue := []int32{int32(g.Kit)}; len(queue) > 0; queue = queue[1:] {
			for _, k := range e.upwards[queue[0]] {
				if passed[k] {
					continue
				}
				passed[k] = true
				queue = append(queue, k)
				if !listed[k] {
					listed[k] = true
					out = append(out, Giver{int(k), g.Via})
				}
			}
		}
	}
	slices.SortFunc(out, func(x, y Giver) int { return x.Kit - y.Kit })
	e.known[key] = out
	return out
}

// noteGive notes what a kit gives in one application by itself.
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
	return plan.Reason{Facts: &f, File: p.File, Line: p.Line, Says: Of(&f)}
}

// Said is a reason at a place.
func (e *Explainer) Said(p model.Pos, f fact.Fact) plan.Reason { return at(p, f) }

// Name is how a person is called.
func (e *Explainer) Name(p int32) string { return e.People.Called(int(p)) }

// Get asks for the attributes of a person, for a filter.
func (e *Explainer) Get(p int32) func(string) string {
	return func(attr string) string { return e.People.Get(int(p), attr) }
}

// ValueOf says which value a person has of an attribute.
func (e *Explainer) ValueOf(p int32, attr string) string {
	return Value(attr, e.People.Get(int(p), attr))
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
	if h.Linger != nil {
		return []plan.Reason{at(kit.LingerPos, fact.Fact{
			Kind: fact.KitLingers, Kit: kit.Name, Rule: kit.Rule(), On: h.Linger.Since.String(), Until: h.Linger.Until.String(),
		})}
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

// Lacks says why a person does not have a kit that gives something, via what
// brings it along.
func (e *Explainer) Lacks(kit *model.Kit, p int32, via string) plan.Reason {
	pos, f := e.lack(kit, p, via)
	return at(pos, f)
}

// lack is why a person does not have a kit, and where that is said.
func (e *Explainer) lack(kit *model.Kit, p int32, via string) (model.Pos, fact.Fact) {
	named := e.named(kit, e.People.Get(int(p), "id"))
	switch {
	case named.except != nil:
		x := named.except
		return x.Pos, fact.Fact{Kind: fact.KitExcepts, Kit: kit.Name, Because: x.Because}
	case named.was != nil:
		x := named.was
		return x.Pos, fact.Fact{Kind: fact.KitWasHeld, Kit: kit.Name, Until: x.Until.String()}
	case kit.For == nil:
		return kit.Pos, fact.Fact{Kind: fact.KitByName, Kit: kit.Name, Via: via}
	}
	f := fact.Fact{Kind: fact.KitLacks, Kit: kit.Name, Via: via, Rule: kit.For.String()}
	if cl, ok := kit.For.Fails(e.Get(p), e.Today); ok {
		f.Attribute, f.Value = cl.Attr, e.People.Get(int(p), cl.Attr)
	}
	return kit.ForPos, f
}

// A naming is what a kit says of one person by name: that its rule leaves them out
// today, or that they held it once.
type naming struct{ except, was *model.Holder }

// named tells what a kit says of a person. All of it is gathered once, for there
// may be many names.
func (e *Explainer) named(kit *model.Kit, id string) naming {
	e.naming.Do(func() {
		e.names = map[*model.Kit]map[string]naming{}
		for _, k := range e.Kits {
			of := map[string]naming{}
			for i := range k.Except {
				if x, n := &k.Except[i], of[k.Except[i].Person]; n.except == nil && x.On(e.Today) {
					n.except = x
					of[x.Person] = n
				}
			}
			for i := range k.Holders {
				if x, n := &k.Holders[i], of[k.Holders[i].Person]; n.was == nil && !x.On(e.Today) {
					n.was = x
					of[x.Person] = n
				}
			}
			if len(of) > 0 {
				e.names[k] = of
			}
		}
	})
	return e.names[kit][id]
}
