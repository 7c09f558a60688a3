// Package entitle computes what each person should hold: which kits a person
// has, by rule or by name, and what follows from them in each application.
//
// People whom no rule can tell apart share a class, and everything is computed
// once for each class; see filter.Classify.
package entitle

import (
	"encoding/binary"
	"slices"

	"golang.org/x/sync/errgroup"

	"pravet/internal/core/day"
	"pravet/internal/core/filter"
	"pravet/internal/core/model"
)

// Input is what entitlements follow from.
type Input struct {
	People *model.People
	Apps   []*model.App
	Graphs []*model.Graph // what brings what along in each application
	Kits   []*model.Kit
	Sets   []*model.Sets // one for each application; grows by what is due
	Only   *filter.Filter
	Today  day.Day

	Was         []Was   // of each kit; nil where nothing lingers
	Clock       day.Day // from which something lingers that begins to now
	Separations []model.Separation
	Exceptions  []model.Exception
}

// Result tells what is due to each person.
type Result struct {
	Of      []uint32 // person → class
	Classes []Class
	Matches []int // kit → how many people its rule matches; 0 without a rule
	Ruled   Ruled
	Linger  []Lingering // what people keep for a while, by person and kit
}

// A Class is what is due to all people of the class.
type Class struct {
	Kits     []Held
	Apps     []Due
	Selected bool // matches Input.Only
}

// Held says that a kit is held: by name where Holder is not nil, along with
// another kit where With is not -1, else by its rule.
type Held struct {
	Kit    int
	Holder *model.Holder
	With   int
	Linger *Lingering // it is kept for a while, as its rule does not match any more
}

// Due is what a class should have in one application.
type Due struct {
	InScope bool
	Given   bool   // some kit gives something here
	Want    uint32 // what to hold directly: no more than what nothing else brings
	Reach   uint32 // Want and all that it brings along
	Set     []Setting
	Usuals  []int32 // the things of Want that are there because no kit gives another of their kind
	Picks   []Pick
}

// A Pick is a thing of a kind of which everybody has one, of which two kits give different ones: the
// first of them, by the kits' names, counts.
type Pick struct {
	Thing      int32
	Kit, Clash int
}

// A Clashing is that two kits give differently what an account can have only one of: an attribute's value, or a thing
// of a kind of which everybody has one. The first of them, by the kits' names, counts.
type Clashing struct {
	What, Value string // the attribute, or the kind; what the first gives
	Thing       int32  // that it gives, -1 for an attribute
	Kit, Other  int
}

// Clashes lists what kits give differently.
func (d *Due) Clashes(app *model.App) (out []Clashing) {
	for _, s := range d.Set {
		if s.Clash >= 0 {
			out = append(out, Clashing{What: s.Attr, Value: s.Value, Thing: -1, Kit: s.Kit, Other: s.Clash})
		}
	}
	for _, p := range d.Picks {
		if t := &app.Things[p.Thing]; p.Clash >= 0 {
			out = append(out, Clashing{What: t.Kind.Plural(), Value: t.Name, Thing: p.Thing, Kit: p.Kit, Other: p.Clash})
		}
	}
	return out
}

// Usual reports whether a thing is due because no kit gives another of its kind.
func (d *Due) Usual(thing int32) bool { return slices.Contains(d.Usuals, thing) }

// Account reports whether an account is due.
func (d *Due) Account() bool { return d.InScope && d.Given }

// A Setting is an attribute that a kit sets. Clash is another kit that sets it
// otherwise, or -1.
type Setting struct {
	model.Setting
	Kit, Clash int
}

// Compute returns what is due. Its cost is that of filter.Classify, and then
// O(classes · kits).
func Compute(in Input) *Result {
	var filters []*filter.Filter
	for _, k := range in.Kits {
		filters = append(filters, k.For)
	}
	for _, a := range in.Apps {
		filters = append(filters, a.Scope)
	}
	filters = append(filters, in.Only)
	classes := filter.Classify(in.People, filters, in.Today)

	out := &Result{Of: classes.Of, Matches: make([]int, len(in.Kits))}
	for k, kit := range in.Kits {
		if kit.HasRule() {
			out.Matches[k] = classes.Count(k)
		}
	}
	c := computer{in: in, numbers: map[string]int{}, classes: classes, out: out}
	c.ruled()
	c.named()
	c.lingers()
	c.finish()
	return out
}

// A computer gathers the classes, and which combinations of kits there are, and
// then what is due by each.
type computer struct {
	in      Input
	classes *filter.Classes
	out     *Result
	bases   []uint32 // class → the one of classes that its people belong to
	combos  []int    // class → the combination of kits that its people hold
	numbers map[string]int
	kits    [][]Held // of each combination, for each of its classes the same
	key     []byte
}

// ruled adds a class of people for each class of the filters: they hold what their
// rules give, which is put together once for each combination of rules.
func (c *computer) ruled() {
	n := len(c.classes.Matches)
	c.bases, c.combos = slices.Grow(c.bases, n), slices.Grow(c.combos, n)
	c.out.Classes = slices.Grow(c.out.Classes, n)
	known := map[string]int{} // kits that match → a class of people whom the same kits match
	var key []byte
	for base, matches := range c.classes.Matches {
		ruling := 0
		key = key[:0]
		for _, k := range matches {
			if int(k) < len(c.in.Kits) && c.in.Kits[k].HasRule() {
				key = binary.AppendUvarint(key, uint64(k))
				ruling++
			}
		}
		if like, ok := known[string(key)]; ok {
			c.add(c.out.Classes[like].Kits, c.combos[like], uint32(base))
			continue
		}
		known[string(key)] = base
		held := make([]Held, 0, ruling)
		for _, k := range matches {
			if int(k) < len(c.in.Kits) && c.in.Kits[k].HasRule() {
				held = append(held, Held{Kit: int(k), With: -1})
			}
		}
		c.class(held, uint32(base))
	}
}

// class adds a class of people who hold some kits; the filters that match are
// those of a class of the filters.
func (c *computer) class(held []Held, base uint32) {
	held = c.along(held)
	c.key = c.key[:0]
	for _, h := range held {
		c.key = binary.AppendUvarint(c.key, uint64(h.Kit))
	}
	n, ok := c.numbers[string(c.key)]
	if !ok {
		n = len(c.kits)
		c.numbers[string(c.key)] = n
		c.kits = append(c.kits, held)
	}
	c.add(held, n, base)
}

// add adds a class of people who hold a combination of kits.
func (c *computer) add(held []Held, combo int, base uint32) {
	c.bases, c.combos = append(c.bases, base), append(c.combos, combo)
	c.out.Classes = append(c.out.Classes, Class{Kits: held})
}

// finish reckons what is due to all classes, in all applications side by side.
func (c *computer) finish() {
	apps := len(c.in.Apps)
	dues := make([]Due, len(c.out.Classes)*apps)
	var group errgroup.Group // none of it fails
	for a := range apps {
		group.Go(func() error {
			by := make([]Due, len(c.kits))
			for n, held := range c.kits {
				by[n] = c.due(a, held)
			}
			for class := range c.out.Classes {
				due := &dues[class*apps+a]
				*due = by[c.combos[class]]
				due.InScope = c.match(c.bases[class], a)
			}
			return nil
		})
	}
	_ = group.Wait()
	for class := range c.out.Classes {
		c.out.Classes[class].Apps = dues[class*apps : (class+1)*apps : (class+1)*apps]
		c.out.Classes[class].Selected = c.match(c.bases[class], apps)
	}
}

// match reports whether a filter matches a class of the filters: after those of
// kits come the scopes, then Only.
func (c *computer) match(base uint32, f int) bool { return c.classes.Match(base, len(c.in.Kits)+f) }

// more adds the kits that come with others, each once.
func (c *computer) more(held []Held) []Held {
	has := map[int]bool{}
	for _, h := range held {
		has[h.Kit] = true
	}
	for i := 0; i < len(held); i++ { // held grows by what comes along
		for _, k := range c.in.Kits[held[i].Kit].Along {
			if !has[int(k)] {
				has[int(k)] = true
				held = append(held, Held{Kit: int(k), With: held[i].Kit})
			}
		}
	}
	return held
}

// along adds the kits that come with others, and sorts.
func (c *computer) along(held []Held) []Held {
	if slices.ContainsFunc(held, func(h Held) bool { return len(c.in.Kits[h.Kit].Along) > 0 }) {
		held = c.more(held)
	}
	slices.SortFunc(held, func(x, y Held) int { return x.Kit - y.Kit })
	return held
}

func (c *computer) due(a int, held []Held) Due {
	var d Due
	var things []int32
	for _, h := range held {
		for _, g := range c.in.Kits[h.Kit].Gives {
			if g.App != a {
				continue
			}
			d.Given = true
			for _, t := range g.Things {
				if kind := c.in.Apps[a].Things[t].Kind; !c.in.Apps[a].One[kind] || d.pick(c.in.Apps[a], t, h.Kit) {
					things = append(things, t)
				}
			}
			for _, s := range g.Set {
				d.set(s, h.Kit)
			}
		}
	}
	if d.Given {
		d.Usuals = usual(c.in.Apps[a], things)
		things = append(things, d.Usuals...)
	}
	g, sets := c.in.Graphs[a], c.in.Sets[a]
	if g.Flat() {
		d.Want = sets.Of(things)
		d.Reach = d.Want
		return d
	}
	implied := g.Along(things...)
	var direct []int32
	for _, t := range things {
		if _, also := slices.BinarySearch(implied, t); !also {
			direct = append(direct, t)
		}
	}
	d.Want = sets.Of(direct)
	d.Reach = sets.Of(append(implied, direct...))
	return d
}

// pick reports whether a kit is the first that gives a thing of a kind of which everybody has one.
func (d *Due) pick(app *model.App, thing int32, kit int) bool {
	for i := range d.Picks {
		p := &d.Picks[i]
		if app.Things[p.Thing].Kind != app.Things[thing].Kind {
			continue
		}
		if p.Thing != thing && p.Clash < 0 {
			p.Clash = kit
		}
		return false
	}
	d.Picks = append(d.Picks, Pick{Thing: thing, Kit: kit, Clash: -1})
	return true
}

// usual are the defaults of the kinds of which everybody has one and no kit gives any.
func usual(app *model.App, things []int32) (out []int32) {
	for k := range app.Usual {
		kind := model.Kind(k)
		if slices.ContainsFunc(things, func(t int32) bool { return app.Things[t].Kind == kind }) {
			continue
		}
		if t := app.UsualThing(kind); t >= 0 {
			out = append(out, t)
		}
	}
	return out
}

func (d *Due) set(s model.Setting, kit int) {
	for i := range d.Set {
		if d.Set[i].Attr == s.Attr {
			if d.Set[i].Value != s.Value && d.Set[i].Clash < 0 {
				d.Set[i].Clash = kit
			}
			return
		}
	}
	d.Set = append(d.Set, Setting{s, kit, -1})
}

// named gives the people who hold a kit by name, or are excepted from its
// rule, a class of their own. O(people) to find them, once.
func (c *computer) named() {
	out := c.out
	type entry struct {
		kit    int
		holder *model.Holder
		except bool
	}
	byID := map[string][]entry{}
	for k, kit := range c.in.Kits {
		for i := range kit.Holders {
			if h := &kit.Holders[i]; h.On(c.in.Today) {
				byID[h.Person] = append(byID[h.Person], entry{k, h, false})
			}
		}
		for i := range kit.Except {
			if h := &kit.Except[i]; h.On(c.in.Today) {
				byID[h.Person] = append(byID[h.Person], entry{k, h, true})
			}
		}
	}
	ids := c.in.People.Column("id")
	if len(byID) == 0 || ids == nil {
		return
	}
	for p := range out.Of {
		entries, ok := byID[ids.At(p)]
		if !ok {
			continue
		}
		base := out.Of[p]
		var held []Held
		for _, h := range out.Classes[base].Kits {
			if h.With < 0 && !slices.ContainsFunc(entries, func(e entry) bool { return e.kit == h.Kit && e.except }) {
				held = append(held, h)
			}
		}
		for _, e := range entries {
			if !e.except && !slices.ContainsFunc(held, func(h Held) bool { return h.Kit == e.kit }) {
				held = append(held, Held{Kit: e.kit, Holder: e.holder, With: -1})
			}
		}
		out.Of[p] = uint32(len(out.Classes))
		c.class(held, c.bases[base])
	}
}
