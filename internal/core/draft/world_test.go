package draft_test

import (
	"fmt"
	"maps"
	"slices"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"pravet/internal/core/day"
	"pravet/internal/core/draft"
	"pravet/internal/core/filter"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/core/table"
)

// today is the day of every world.
const today = day.Day(20000)

// A world is a desired state and what applications hold, as plain values that
// can be changed and drafted from again.
type world struct {
	people []person
	apps   []*model.App
	kits   []*model.Kit
	state  []map[string]account // application → user name → account
	apart  []model.Separation
	defs   []map[string]*model.Definition // application → the definitions that it has, by kind and name; nil where it shows none
}

type person struct {
	id, name, department, starts, ends, away string
}

type account struct {
	name string
	open bool
	held map[string]bool // kind/name
}

var departments = []string{"Deck", "Desk", "Office"}

// drawWorld draws a world of a few people, one or two applications whose
// things bring each other along, and accounts in any state. seats limits the
// licenses.
func drawWorld(t *rapid.T, seats bool) *world {
	w := &world{}
	for i := range rapid.IntRange(1, 8).Draw(t, "people") {
		p := person{
			id:         fmt.Sprintf("E%d", i),
			name:       fmt.Sprintf("user.%d", i),
			department: rapid.SampledFrom(departments).Draw(t, "department"),
		}
		switch rapid.IntRange(0, 7).Draw(t, "stage") {
		case 0:
			p.starts = (today + 1).String()
		case 1:
			p.ends = (today - 1).String()
		case 2:
			p.away = "true"
		}
		w.people = append(w.people, p)
	}
	for a := range rapid.IntRange(1, 2).Draw(t, "apps") {
		w.apps = append(w.apps, drawApp(t, a, seats))
	}
	for k := range rapid.IntRange(0, 5).Draw(t, "kits") {
		w.kits = append(w.kits, drawKit(t, w, k))
	}
	for a := range w.apps {
		w.defs = append(w.defs, drawDefinitions(t, w, a))
	}
	for a, app := range w.apps {
		state := map[string]account{}
		for i := range 10 { // beyond the people: strays
			if rapid.IntRange(0, 2).Draw(t, "exists") == 0 {
				continue
			}
			acc := account{
				name: rapid.SampledFrom([]string{"right", "wrong"}).Draw(t, "name"),
				open: rapid.Bool().Draw(t, "open"),
				held: map[string]bool{},
			}
			if acc.name == "right" {
				acc.name = fmt.Sprintf("User %d", i)
			}
			for _, th := range app.Things {
				if rapid.IntRange(0, 2).Draw(t, "holds") == 0 &&
					(w.defs[a] == nil || th.Kind == model.License || w.defs[a][key(th)] != nil) {
					acc.held[key(th)] = true
				}
			}
			if app.Effective != [model.Kinds]bool{} {
				acc.held = names(app, w.as(a).Along(numbers(app, acc.held)...), acc.held) // nothing is held twice over
			}
			state[fmt.Sprintf("user.%d", i)] = acc
		}
		w.state = append(w.state, state)
	}
	return w
}

func key(t model.Thing) string { return t.Kind.String() + "/" + t.Name }

// numbers are the things that an account holds, names the keys of those held
// that are not among some others.
func numbers(app *model.App, held map[string]bool) (out []int32) {
	for i, th := range app.Things {
		if held[key(th)] {
			out = append(out, int32(i))
		}
	}
	return out
}

func names(app *model.App, without []int32, held map[string]bool) map[string]bool {
	out := map[string]bool{}
	for _, t := range numbers(app, held) {
		if !slices.Contains(without, t) {
			out[key(app.Things[t])] = true
		}
	}
	return out
}

func drawApp(t *rapid.T, a int, seats bool) *model.App {
	app := &model.App{
		ID:     fmt.Sprintf("app%d", a),
		Match:  "userName",
		Strays: rapid.SampledFrom([]string{"report", "suspend", "remove"}).Draw(t, "strays"),
	}
	app.Attrs = []model.Attr{{Name: "userName", Person: "userName"}, {Name: "displayName", Person: "displayName"}}
	for i := range rapid.IntRange(0, 6).Draw(t, "things") {
		th := model.Thing{
			Kind:  model.Kind(rapid.IntRange(0, 2).Draw(t, "kind")),
			Name:  fmt.Sprintf("t%d", i),
			Seats: -1,
		}
		if seats && th.Kind == model.License {
			th.Seats = rapid.IntRange(0, 6).Draw(t, "seats")
		}
		app.Things = append(app.Things, th)
	}
	app.Index()
	for i := range app.Things { // only onwards, so that there is no circle
		for j := i + 1; j < len(app.Things); j++ {
			if rapid.IntRange(0, 4).Draw(t, "implies") == 0 {
				app.Things[i].Implies = append(app.Things[i].Implies, int32(j))
			}
		}
	}
	all := model.Limit{Percent: 100, IsPct: true, Set: true}
	app.Guards = model.Guards{Removals: all, Suspensions: all, Narrowing: all, ExportShrink: all, WaitSet: true}
	app.Tidy = rapid.Bool().Draw(t, "tidy")
	if rapid.Bool().Draw(t, "effective") {
		app.Effective = [model.Kinds]bool{rapid.Bool().Draw(t, "licenses"), rapid.Bool().Draw(t, "groups"), true}
	}
	if rapid.Bool().Draw(t, "scoped") {
		app.Scope = parse(`department ne "Office"`)
	}
	return app
}

func parse(s string) *filter.Filter {
	f, err := filter.Parse(s)
	if err != nil {
		panic(err)
	}
	return f
}

func drawKit(t *rapid.T, w *world, n int) *model.Kit {
	kit := &model.Kit{Name: fmt.Sprintf("kit%d", n), Pos: model.Pos{File: "kits.yaml", Line: n + 1}}
	switch rapid.IntRange(0, 2).Draw(t, "rule") {
	case 0:
		kit.Everyone = true
	case 1:
		kit.For = parse(fmt.Sprintf("department eq %q", rapid.SampledFrom(departments).Draw(t, "for")))
		kit.Except = []model.Holder{{Person: "E0", Until: day.None, Because: "said so"}}
	case 2:
		kit.Holders = []model.Holder{
			{Person: "E1", Until: today, Because: "said so"},
			{Person: "E2", Until: today - 1, Because: "said so"},
		}
	}
	for a, app := range w.apps {
		if !rapid.Bool().Draw(t, "gives") {
			continue
		}
		g := model.Give{App: a}
		for i := range app.Things {
			if rapid.Bool().Draw(t, "thing") {
				g.Things = append(g.Things, int32(i))
				g.Pos = append(g.Pos, kit.Pos)
			}
		}
		kit.Gives = append(kit.Gives, g)
	}
	return kit
}

// draft drafts a plan; shuffle, if it is not nil, orders rows anew.
func (w *world) draft(t require.TestingT, shuffle func(n int) []int) *plan.Plan {
	order := straight
	if shuffle != nil {
		order = shuffle
	}
	in := draft.Input{
		Organization: "A world",
		Today:        today,
		Clock:        today,
		People:       w.roster(t, order),
		Apps:         w.apps,
		Kits:         w.kits,
		Separations:  w.apart,
		PeopleBefore: -1,
	}
	for a, app := range w.apps {
		in.Exports = append(
			in.Exports,
			&draft.Export{Accounts: w.accountsIn(a, order), Day: today, Before: -1, Digest: "sha256:" + app.ID},
		)
	}
	p, err := draft.Draft(in)
	require.NoError(t, err)
	return p
}

// roster is the people of a world, in an order.
func (w *world) roster(t require.TestingT, order func(n int) []int) *model.People {
	if order == nil {
		order = straight
	}
	people := model.NewPeople()
	var attrs []int
	for _, a := range []string{"id", "userName", "displayName", "department", "starts", "ends", "away"} {
		attrs = append(attrs, people.Attribute(a))
	}
	file := people.File("people.csv")
	for _, i := range order(len(w.people)) {
		p := w.people[i]
		require.True(
			t,
			people.Add(
				file,
				i+2,
				attrs,
				[]string{p.id, p.name, "User " + p.id[1:], p.department, p.starts, p.ends, p.away},
			),
		)
	}
	people.Close()
	return people
}

// straight is the order in which things stand.
func straight(n int) []int {
	out := make([]int, n)
	for i := range out {
		out[i] = i
	}
	return out
}

// accounts is what an export of an application shows.
func (w *world) accounts(a int) *model.Accounts {
	return w.accountsIn(a, straight)
}

func (w *world) accountsIn(a int, order func(n int) []int) *model.Accounts {
	acc := &model.Accounts{
		Attrs:       []*table.Column{{}, {}},
		Sets:        model.NewSets(),
		File:        w.apps[a].ID,
		Definitions: w.definitions(a),
	}
	acc.Key = acc.Attrs[0]
	names := slices.Sorted(maps.Keys(w.state[a]))
	for _, i := range order(len(names)) {
		s := w.state[a][names[i]]
		acc.Attrs[0].Append(names[i])
		acc.Attrs[1].Append(s.name)
		acc.States = append(acc.States, model.StateOf(s.open))
		held := numbers(w.apps[a], s.held)
		for _, t := range w.as(a).Along(held...) {
			if w.apps[a].Effective[w.apps[a].Things[t].Kind] {
				held = append(held, t)
			}
		}
		acc.Held = append(acc.Held, w.as(a).Direct(w.apps[a], acc.Sets, acc.Sets.Of(held)))
	}
	return acc
}

// apply carries one change out, and fails where an application would.
func (w *world) apply(t require.TestingT, c *plan.Change) {
	a := slices.IndexFunc(w.apps, func(a *model.App) bool { return a.ID == c.App })
	if c.Verb.OfThing() {
		w.define(t, a, c)
		return
	}
	state := w.state[a]
	acc, exists := state[c.Account]
	require.Equal(t, c.Verb != model.Create, exists, "%s %s", c.Verb, c.Account)
	switch c.Verb {
	case model.Create:
		acc = account{name: c.After.Fields()["displayName"], open: true, held: map[string]bool{}}
	case model.Remove:
		delete(state, c.Account)
		return
	case model.Suspend, model.Restore:
		acc.open = c.Verb == model.Restore
	case model.Update:
		require.Equal(t, "displayName", c.Attribute)
		require.Equal(t, c.Before.Text(), acc.name)
		acc.name = c.After.Text()
	default:
		thing := c.Thing.Kind.String() + "/" + c.Thing.Name
		gains := c.Verb == model.Gaining(c.Thing.Kind)
		if !gains ||
			w.apps[slices.IndexFunc(w.apps, func(a *model.App) bool { return a.ID == c.App })].Effective == [model.Kinds]bool{} {
			require.NotEqual(t, gains, acc.held[thing])
		}
		acc.held = maps.Clone(acc.held)
		acc.held[thing] = gains
	}
	state[c.Account] = acc
}

func ids(changes []plan.Change) []string {
	out := []string{}
	for i := range changes {
		out = append(out, changes[i].ID)
	}
	slices.Sort(out)
	return out
}
