package draft

import (
	"fmt"
	"runtime"

	"golang.org/x/sync/errgroup"

	"pravet/internal/core/diff"
	"pravet/internal/core/entitle"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
)

// changes turns differences into the plan's changes, with ids, reasons and what
// each needs by its nature.
func (d *drafter) changes(changes []diff.Change, due *entitle.Result) []plan.Change {
	out := make([]plan.Change, 0, len(changes))
	opened := map[[2]int32]string{} // application, person → id of the create or restore
	defined := d.newDefined()
	doubles := d.doubles(changes)
	for i := range changes {
		if i%batch == 0 {
			d.prepare(changes[i:min(i+batch, len(changes))], due)
		}
		c, app := &changes[i], d.in.Apps[changes[i].App]
		p := d.ready[i%batch]
		p.Reasons = d.reasons(c, d.causes[i%batch])
		key := [2]int32{c.App, c.Person}
		switch c.Verb {
		case model.Create, model.Restore:
			opened[key] = p.ID
		case model.Update, model.Assign, model.Join, model.Grant:
			if id := opened[key]; id != "" {
				p.Needs = append(p.Needs, id)
			}
		}
		p.Needs = append(p.Needs, defined.needs(app, d.retiring(c), c, p.ID)...)
		for _, n := range doubles[i] {
			p.Needs = append(p.Needs, out[n].ID)
		}
		out = append(out, p)
	}
	return out
}

// batch is how many changes are made ready together.
const batch = 8192

// prepare makes ready what of a batch can be made side by side: each change with
// its id, and why it is wanted.
func (d *drafter) prepare(changes []diff.Change, due *entitle.Result) {
	if d.ready == nil {
		d.ready, d.causes = make([]plan.Change, batch), make([][]plan.Reason, batch)
	}
	var group errgroup.Group
	const part = 512
	group.SetLimit(runtime.GOMAXPROCS(0))
	for from := 0; from < len(changes); from += part {
		group.Go(func() error {
			for i := from; i < min(from+part, len(changes)); i++ {
				c := &changes[i]
				d.ready[i], d.causes[i] = d.change(c, due), nil
				if _, known := d.given[d.gift(c)]; c.Why != diff.Gives || !known {
					d.causes[i] = d.explainer.Reasons(c)
				}
			}
			return nil
		})
	}
	_ = group.Wait() // none of it fails
}

// change is a difference as a change of the plan, without what it needs and why.
func (d *drafter) change(c *diff.Change, due *entitle.Result) plan.Change {
	app := d.in.Apps[c.App]
	p := plan.Change{
		App: app.ID, Verb: c.Verb, Account: c.Key, Effect: c.Effect(), ForGood: c.Verb.ForGood(),
	}
	if c.Verb == model.Redefine || c.Verb == model.Define && len(c.Def.Through) > 0 {
		p.Reach = d.reachOf(c)
	}
	if c.Person != diff.None {
		p.Person = d.ids.At(int(c.Person))
	}
	if c.Thing != diff.None {
		t := app.Things[c.Thing]
		p.Thing = &plan.Thing{Kind: t.Kind, Name: t.Name}
	}
	switch c.Verb {
	case model.Update:
		p.Attribute, p.Before, p.After = app.Attrs[c.Attr].Name, value(c.Before), value(c.After)
	case model.Create:
		p.After = d.attributes(c, due)
	case model.Define:
		p.After = definition(app.Defined(c.Thing))
	case model.Redefine:
		p.Attribute, p.Before, p.After = c.Def.Field, value(c.Before), value(c.After)
		if c.Sense != diff.Same {
			p.Before, p.After = texts(c.Def.From), texts(c.Def.To)
		}
	}
	p.ID = plan.ChangeID(&p)
	return p
}

func value(s string) any {
	if s == "" {
		return nil
	}
	return s
}

// attributes are those of an account that is to be created.
func (d *drafter) attributes(c *diff.Change, due *entitle.Result) map[string]string {
	app := d.in.Apps[c.App]
	out := map[string]string{app.Match: c.Key}
	for n := range app.Attrs {
		follows := d.in.People.Column(app.Attrs[n].Person)
		v, _, managed := diff.Wanted(app, n, follows, int(c.Person), &due.Classes[due.Of[c.Person]].Apps[c.App])
		if managed && v != "" {
			out[app.Attrs[n].Name] = v
		}
	}
	return out
}

// A saying tells reasons apart.
type saying struct {
	file, says string
	line       int
}

// A gift is what people of a class, whom no rule tells apart, are given for the
// same reasons.
type gift struct {
	class      uint32
	app, thing int32
}

func (d *drafter) gift(c *diff.Change) gift {
	if c.Person == diff.None {
		return gift{app: c.App, thing: diff.None}
	}
	return gift{d.explainer.Due.Of[c.Person], c.App, c.Thing}
}

// reasons are the numbers of a change's reasons among all that were said; those
// that are new are noted.
func (d *drafter) reasons(c *diff.Change, causes []plan.Reason) []int {
	if c.Why == diff.Gives {
		if out, ok := d.given[d.gift(c)]; ok {
			return out
		}
	}
	out := make([]int, 0, len(causes))
	for _, r := range causes {
		key := saying{r.File, r.Says, r.Line}
		n, ok := d.numbers[key]
		if !ok {
			n = len(d.said)
			d.numbers[key] = n
			d.said = append(d.said, r)
		}
		out = append(out, n)
	}
	if c.Why == diff.Gives {
		d.given[d.gift(c)] = out
	}
	return out
}

// unique makes sure that no two changes share an id, so that a decision about
// one can never be taken for another's.
func unique(changes []plan.Change) error {
	seen := make(map[string]int, len(changes))
	for i := range changes {
		if first, ok := seen[changes[i].ID]; ok {
			a, b := &changes[first], &changes[i]
			return fmt.Errorf(
				"two changes would have the id %s: %s %s and %s %s",
				a.ID,
				a.Verb,
				a.Address(),
				b.Verb,
				b.Address(),
			)
		}
		seen[changes[i].ID] = i
	}
	return nil
}
