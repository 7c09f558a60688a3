// Package outline is a plan as it is read: what its changes are caused by, which of
// them are alike and fold into one, how they are counted and grouped, what holds
// them, and what is unusual. It holds values only; package show writes them as
// tables, Markdown, CSV and JSON.
//
// A fold is alike changes of one cause: 41 people join the same group, by the same
// line. Each change is in exactly one fold of each grouping.
package outline

import (
	"cmp"
	"slices"

	"pravet/internal/core/model"
	"pravet/internal/core/plan"
)

// Input is what an outline is of.
type Input struct {
	Plan    *plan.Plan
	Changes []*plan.Change    // the part that is looked at, in the plan's order
	States  map[string]string // change → what was decided about it, in a word; may be nil
	History History           // nil where it is not known how the files were before
}

// An Outline is a plan, or a part of it, as it is read. Changes are named by their
// ids; they and folds stand in the plan's order, causes with the most changes first.
type Outline struct {
	Counts  []Count   `json:"counts"`
	Held    []Held    `json:"held"`
	Unusual []Unusual `json:"unusual"`
	Causes  []Cause   `json:"causes"`
	Folds   []Fold    `json:"folds"` // of all causes, in their order

	numbers map[string]int
	in      Input
	causeOf map[string]int // change → number in Causes
}

// A Count is how many changes there are in one application, by verb and by effect.
type Count struct {
	App     string      `json:"app"`
	Title   string      `json:"title"`
	Verbs   []VerbCount `json:"verbs"` // those that there are, in the order of verbs
	Totals  plan.Totals `json:"totals"`
	Decided int         `json:"decided"` // accepted, rejected or done
}

// A VerbCount is how many changes there are with a verb.
type VerbCount struct {
	Verb    model.Verb `json:"verb"`
	Changes int        `json:"changes"`
}

// Held is what one guard holds in one application, and its words of the first.
type Held struct {
	App     string   `json:"app"`
	Guard   string   `json:"guard"`
	Says    string   `json:"says"`
	Shared  bool     `json:"shared"` // all are held in the same words
	Changes []string `json:"changes"`
}

// A Fold is alike changes: the same is done with the same thing or attribute of one
// application.
type Fold struct {
	ID        string         `json:"id"`
	Cause     int            `json:"cause"` // number in Causes, or -1 where they may have several
	App       string         `json:"app"`
	Verb      model.Verb     `json:"verb"`
	Thing     *plan.Thing    `json:"thing,omitempty"`
	Attribute string         `json:"attribute,omitempty"`
	Effect    model.Effect   `json:"effect"`
	ForGood   bool           `json:"forGood,omitempty"`
	People    []string       `json:"people"` // names of the first, or accounts of nobody
	Persons   int            `json:"persons"`
	Held      int            `json:"held"`
	States    map[string]int `json:"states,omitempty"` // what was decided → how many
	Changes   []string       `json:"changes"`
}

// maxNamed is how many people a fold names.
const maxNamed = 3

// Make outlines a plan. O(changes · log changes).
func Make(in Input) *Outline {
	o := &Outline{in: in, Counts: []Count{}, Held: []Held{}, Unusual: []Unusual{}, causeOf: map[string]int{}}
	o.number()
	o.count()
	o.held()
	o.causes()
	o.unusual()
	return o
}

// Number is the place of a change in the whole plan as it is listed, from 1; 0 for
// one that is not shown. It is the same whatever part is shown.
func (o *Outline) Number(id string) int { return o.numbers[id] }

// CauseOf is the cause of a change.
func (o *Outline) CauseOf(id string) *Cause {
	if n, ok := o.causeOf[id]; ok {
		return &o.Causes[n]
	}
	return nil
}

// Listed returns the changes of a plan in the order in which people read them:
// application by application and person by person, each in the plan's order.
func Listed(p *plan.Plan, changes []*plan.Change) []*plan.Change {
	apps := appsOf(p)
	order := make([]place, len(changes))
	for i, c := range changes {
		order[i] = place{apps[c.App], Who(c), i}
	}
	slices.SortFunc(order, place.compare)
	out := make([]*plan.Change, len(changes))
	for i := range order {
		out[i] = changes[order[i].at]
	}
	return out
}

// A place is where a change stands in the list of a plan.
type place struct {
	app int
	who string
	at  int
}

func (x place) compare(y place) int {
	return cmp.Or(cmp.Compare(x.app, y.app), cmp.Compare(x.who, y.who), cmp.Compare(x.at, y.at))
}

// appsOf numbers the applications of a plan.
func appsOf(p *plan.Plan) map[string]int {
	out := make(map[string]int, len(p.Exports))
	for i := range p.Exports {
		out[p.Exports[i].App] = i
	}
	return out
}

// Who tells the people of changes apart: definitions come first, then accounts of
// nobody, then people by id.
func Who(c *plan.Change) string {
	if c.Person == "" && c.Account != "" {
		return "\x00" + c.Account
	}
	return c.Person
}

// All lists the changes of a plan.
func All(p *plan.Plan) []*plan.Change {
	out := make([]*plan.Change, len(p.Changes))
	for i := range p.Changes {
		out[i] = &p.Changes[i]
	}
	return out
}

// number finds the places of the changes that are shown: each is behind those that are
// listed before it. O(changes · log shown).
func (o *Outline) number() {
	p := o.in.Plan
	o.numbers = make(map[string]int, len(o.in.Changes))
	for _, c := range o.in.Changes {
		o.numbers[c.ID] = 0
	}
	apps := appsOf(p)
	var shown []place
	for i := range p.Changes {
		if _, ok := o.numbers[p.Changes[i].ID]; ok {
			shown = append(shown, place{apps[p.Changes[i].App], Who(&p.Changes[i]), i})
		}
	}
	slices.SortFunc(shown, place.compare)
	before := make([]int, len(shown)+1) // those that are listed before each and not before the one before
	for i := range p.Changes {
		at, _ := slices.BinarySearchFunc(shown, place{apps[p.Changes[i].App], Who(&p.Changes[i]), i}, place.compare)
		before[at]++
	}
	n := 0
	for i := range shown {
		n += before[i]
		o.numbers[p.Changes[shown[i].at].ID] = n
	}
}

func (o *Outline) count() {
	at := map[string]int{}
	verbs := map[string]map[model.Verb]int{}
	for i := range o.in.Plan.Exports {
		e := &o.in.Plan.Exports[i]
		at[e.App] = len(o.Counts)
		verbs[e.App] = map[model.Verb]int{}
		o.Counts = append(o.Counts, Count{App: e.App, Title: e.Title, Verbs: []VerbCount{}})
	}
	for _, c := range o.in.Changes {
		n, ok := at[c.App]
		if !ok {
			continue
		}
		o.Counts[n].Totals.Changes++
		o.Counts[n].Totals.Add(c)
		if o.in.States[c.ID] != "" {
			o.Counts[n].Decided++
		}
		verbs[c.App][c.Verb]++
	}
	for n := range o.Counts {
		for _, v := range model.Verbs() {
			if k := verbs[o.Counts[n].App][v]; k > 0 {
				o.Counts[n].Verbs = append(o.Counts[n].Verbs, VerbCount{v, k})
			}
		}
	}
	o.Counts = slices.DeleteFunc(o.Counts, func(c Count) bool { return c.Totals.Changes == 0 })
}

func (o *Outline) held() {
	at := map[[2]string]int{}
	for _, c := range o.in.Changes {
		for _, h := range c.Holds {
			key := [2]string{c.App, h.Guard}
			n, ok := at[key]
			if !ok {
				n = len(o.Held)
				at[key] = n
				o.Held = append(o.Held, Held{App: c.App, Guard: h.Guard, Says: h.Says, Shared: true})
			}
			x := &o.Held[n]
			x.Shared = x.Shared && x.Says == h.Says
			if last := len(x.Changes) - 1; last < 0 || x.Changes[last] != c.ID {
				x.Changes = append(x.Changes, c.ID)
			}
		}
	}
	slices.SortStableFunc(o.Held, func(x, y Held) int { return cmp.Compare(len(y.Changes), len(x.Changes)) })
}

// folded folds changes into alike ones; cause gives the number of a change's cause.
func (o *Outline) folded(changes []*plan.Change, key string, cause func(*plan.Change) int) []Fold {
	type kind struct {
		cause          int
		app, attribute string
		verb           model.Verb
		effect         model.Effect
		thing          plan.Thing
	}
	at := map[kind]int{}
	var out []Fold
	persons := map[int]map[string]bool{}
	for _, c := range changes {
		k := kind{cause: cause(c), app: c.App, attribute: c.Attribute, verb: c.Verb, effect: c.Effect}
		if c.Thing != nil {
			k.thing = *c.Thing
		}
		n, ok := at[k]
		if !ok {
			n = len(out)
			at[k] = n
			out = append(out, Fold{Cause: k.cause, App: c.App, Verb: c.Verb, Thing: c.Thing, Attribute: c.Attribute,
				Effect: c.Effect, ForGood: c.ForGood, People: []string{},
				ID: plan.Name(
					"fold",
					key,
					c.App,
					c.Verb.String(),
					c.Effect.String(),
					c.Address().String(),
					c.Attribute,
				)})
			if c.Thing == nil { // the same for all accounts
				out[n].ID = plan.Name("fold", key, c.App, c.Verb.String(), c.Effect.String(), c.Attribute)
			}
			persons[n] = map[string]bool{}
		}
		f := &out[n]
		f.Changes = append(f.Changes, c.ID)
		if len(c.Holds) > 0 {
			f.Held++
		}
		if state := o.in.States[c.ID]; state != "" {
			if f.States == nil {
				f.States = map[string]int{}
			}
			f.States[state]++
		}
		if who := Who(c); who != "" && !persons[n][who] {
			persons[n][who] = true
			f.Persons++
			if len(f.People) < maxNamed {
				f.People = append(f.People, cmp.Or(o.in.Plan.People[c.Person], c.Person, c.Account))
			}
		}
	}
	return out
}

// A Group is the changes that have one value of what they are grouped by.
type Group struct {
	Key     string   `json:"key"`
	Folds   []Fold   `json:"folds"`
	Changes []string `json:"changes"`
}

// By groups the changes by a key, those with the most changes first.
func (o *Outline) By(key func(*plan.Change) string) []Group {
	at := map[string]int{}
	var of [][]*plan.Change
	out := []Group{}
	for _, c := range o.in.Changes {
		k := key(c)
		n, ok := at[k]
		if !ok {
			n = len(out)
			at[k] = n
			out, of = append(out, Group{Key: k}), append(of, nil)
		}
		of[n] = append(of[n], c)
		out[n].Changes = append(out[n].Changes, c.ID)
	}
	for n := range out {
		out[n].Folds = o.folded(of[n], out[n].Key, func(*plan.Change) int { return -1 })
	}
	slices.SortStableFunc(out, func(x, y Group) int {
		return cmp.Or(cmp.Compare(len(y.Changes), len(x.Changes)), cmp.Compare(x.Key, y.Key))
	})
	return out
}
