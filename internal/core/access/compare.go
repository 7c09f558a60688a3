package access

import (
	"cmp"
	"fmt"
	"slices"

	"pravet/internal/core/entitle"
	"pravet/internal/core/fact"
	"pravet/internal/core/model"
	"pravet/internal/core/words"
)

// A Difference is what one person gains or loses of one thing, or of an account
// (Kind "account"), between two desired states.
type Difference struct {
	Person  string       `json:"person"` // id
	Name    string       `json:"name"`
	App     string       `json:"app"`
	Kind    string       `json:"kind"` // account, license, group or role
	Thing   string       `json:"thing"`
	Effect  model.Effect `json:"effect"`  // widens or narrows
	Through string       `json:"through"` // what brings it along; "" where it is given by itself
	// Detail says what differs of a definition, or of an account's name; "" where
	// it is whether there is one at all.
	Detail  string `json:"detail,omitempty"`
	Because Reason `json:"because"`
	// Whom are the people who have what a definition of is another, by id; People is how many.
	Whom   []string `json:"-"`
	People int      `json:"people,omitempty"`
	// Sensitive says that somebody gains what the catalog marks so.
	Sensitive bool `json:"sensitive,omitempty"`
}

// Compare says what access differs between two desired states, of one day:
// who may sign in to what, and what they have there in the end. Applications
// are not looked at. Differences come by person and application, what narrows
// first. O(people + differences · log differences).
func Compare(before, after *View) []Difference {
	c := &comparison{before: before, after: after, deltas: map[[4]uint32][2][]thing{}, out: []Difference{}}
	ids := before.People.Column("id")
	old := map[string]int{}
	if ids != nil {
		for p := range before.People.Len() {
			old[ids.At(p)] = p
		}
	}
	for q := range after.People.Len() {
		id := after.People.Get(q, "id")
		p, ok := old[id]
		if !ok {
			p = -1
		}
		delete(old, id)
		c.person(p, q)
	}
	for _, p := range old {
		c.person(p, -1)
	}
	c.definitions()
	for i := range c.out {
		d := &c.out[i]
		kind, ok := model.ParseKind(d.Kind)
		if b := after.app(d.App); ok && b >= 0 && d.Effect == model.Widens {
			t := after.Apps[b].Thing(kind, d.Thing)
			d.Sensitive = t >= 0 && after.Apps[b].Things[t].Sensitive
		}
	}
	slices.SortFunc(c.out, func(x, y Difference) int {
		return cmp.Or(
			cmp.Compare(x.Person, y.Person),
			cmp.Compare(x.App, y.App),
			cmp.Compare(x.Effect, y.Effect),
			cmp.Compare(rank(x.Kind), rank(y.Kind)),
			cmp.Compare(x.Thing, y.Thing),
		)
	})
	return c.out
}

// whoShould lists the people who are here and should have a thing, by id. O(people).
func (v *View) whoShould(app string, t *model.Thing) (out []string) {
	a := v.app(app)
	n := v.Apps[a].Thing(t.Kind, t.Name)
	for p := range v.People.Len() {
		if due := v.due(p, a); v.Stages[p] == entitle.Here && due.Account() && v.Sets[a].Has(due.Reach, n) {
			out = append(out, v.People.Get(p, "id"))
		}
	}
	return out
}

// definitions compares the permissions of the groups and roles that are Pravet's
// own: they change for everyone who has them.
func (c *comparison) definitions() {
	for _, app := range c.before.Apps {
		b := c.after.app(app.ID)
		if b < 0 {
			continue
		}
		other := c.after.Apps[b]
		for t := range app.Things {
			was := &app.Things[t]
			n := other.Thing(was.Kind, was.Name)
			if n < 0 || !was.Define || !other.Things[n].Define {
				continue
			}
			is := &other.Things[n]
			d := Difference{
				App:   app.ID,
				Kind:  was.Kind.String(),
				Thing: was.Name,
				Because: reason(
					c.after.Explain.Said(
						is.Pos,
						fact.Fact{Kind: fact.InCatalog, Attribute: "permissions", Names: is.Permissions},
					),
				),
			}
			if gone := model.Without(was.Permissions, is.Permissions); len(gone) > 0 {
				d.Whom = c.before.whoShould(app.ID, was)
				d.People = len(d.Whom)
				d.Effect, d.Detail = model.Narrows, fmt.Sprintf(
					"%s %s loses %s",
					was.Kind,
					was.Name,
					model.Named(gone, "permission", "permissions"),
				)
				c.out = append(c.out, d)
			}
			if come := model.Without(is.Permissions, was.Permissions); len(come) > 0 {
				d.Whom = c.after.whoShould(app.ID, is)
				d.People = len(d.Whom)
				d.Effect, d.Detail = model.Widens, fmt.Sprintf(
					"%s %s gains %s",
					was.Kind,
					was.Name,
					model.Named(come, "permission", "permissions"),
				)
				c.out = append(c.out, d)
			}
		}
	}
}

// renamed tells of an account that stays and is to have another name.
func (c *comparison) renamed(p, q, a, b int) {
	app := c.after.Apps[b]
	attr := app.MatchPerson()
	was, is := c.before.People.Get(p, c.before.Apps[a].MatchPerson()), c.after.People.Get(q, attr)
	if was != is && app.Attr(app.Match) >= 0 {
		c.add(
			Difference{
				App:     app.ID,
				Kind:    "account",
				Effect:  model.Keeps,
				Detail:  fmt.Sprintf("the account %s is to be called %s", was, is),
				Because: Reason{fmt.Sprintf("%s is %q", attr, is), place(c.after.People.Place(q, attr))},
			},
			p,
			q,
		)
	}
}

func rank(kind string) int {
	return slices.Index([]string{"account", "group", "role", "license"}, kind)
}

type thing struct {
	number int32 // in the catalog that has it
	kind   model.Kind
	name   string
}

type comparison struct {
	before, after *View
	deltas        map[[4]uint32][2][]thing // applications and sets → gone, come
	out           []Difference
}

// person compares one person, numbered p before and q after; -1 is nobody.
func (c *comparison) person(p, q int) {
	for a, app := range c.before.Apps {
		c.app(p, q, a, c.after.app(app.ID))
	}
	for b, app := range c.after.Apps {
		if c.before.app(app.ID) < 0 {
			c.app(p, q, -1, b)
		}
	}
}

// app and kit find an application and a kit by name; -1 where there is none.
func (v *View) app(id string) int {
	return slices.IndexFunc(v.Apps, func(x *model.App) bool { return x.ID == id })
}

func (v *View) kit(name string) int {
	return slices.IndexFunc(v.Kits, func(x *model.Kit) bool { return x.Name == name })
}

func should(v *View, p, app int) (set uint32, account bool) {
	if p < 0 || app < 0 {
		return 0, false
	}
	return v.Should(p, app)
}

func (c *comparison) app(p, q, a, b int) {
	was, had := should(c.before, p, a)
	is, has := should(c.after, q, b)
	if had && !has {
		c.add(
			Difference{App: c.before.Apps[a].ID, Kind: "account", Effect: model.Narrows, Because: c.closed(p, q, a, b)},
			p,
			q,
		)
	}
	if had && has {
		c.renamed(p, q, a, b)
	}
	delta := c.delta(a, b, was, is)
	for _, t := range delta[0] {
		c.add(
			Difference{
				App:     c.before.Apps[a].ID,
				Kind:    t.kind.String(),
				Thing:   t.name,
				Effect:  model.Narrows,
				Through: through(c.before, p, a, t.number),
				Because: c.lost(p, q, a, b, t),
			},
			p,
			q,
		)
	}
	if has && !had {
		c.add(
			Difference{App: c.after.Apps[b].ID, Kind: "account", Effect: model.Widens, Because: c.opened(p, q, b)},
			p,
			q,
		)
	}
	for _, t := range delta[1] {
		c.add(
			Difference{
				App:     c.after.Apps[b].ID,
				Kind:    t.kind.String(),
				Thing:   t.name,
				Effect:  model.Widens,
				Through: through(c.after, q, b, t.number),
				Because: c.given(p, q, b, t.number),
			},
			p,
			q,
		)
	}
}

func (c *comparison) add(d Difference, p, q int) {
	v := c.after
	if q < 0 {
		v, q = c.before, p
	}
	d.Person, d.Name = v.People.Get(q, "id"), v.name(q)
	c.out = append(c.out, d)
}

// delta compares two sets of two applications' catalogs by name, once.
func (c *comparison) delta(a, b int, was, is uint32) [2][]thing {
	key := [4]uint32{uint32(a + 1), uint32(b + 1), was, is}
	out, ok := c.deltas[key]
	if ok {
		return out
	}
	list := func(v *View, app int, set uint32) (things []thing) {
		if app >= 0 {
			for _, t := range v.Sets[app].Members(set) {
				x := &v.Apps[app].Things[t]
				things = append(things, thing{t, x.Kind, x.Name})
			}
		}
		return things
	}
	without := func(list, others []thing) (left []thing) {
		for _, t := range list {
			if !slices.ContainsFunc(others, func(o thing) bool { return o.kind == t.kind && o.name == t.name }) {
				left = append(left, t)
			}
		}
		return left
	}
	old, now := list(c.before, a, was), list(c.after, b, is)
	out = [2][]thing{without(old, now), without(now, old)}
	c.deltas[key] = out
	return out
}

// through names what brings a thing along to a person who is given no more than
// that.
func through(v *View, p, app int, t int32) string {
	paths := v.Explain.Paths(int32(p), app, t)
	if len(paths) == 0 || slices.ContainsFunc(paths, func(path words.Path) bool { return len(path.Chain) == 1 }) {
		return ""
	}
	return v.Apps[app].Things[paths[0].Chain[0]].String()
}
