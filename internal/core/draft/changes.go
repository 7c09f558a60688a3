package draft

import (
	"fmt"
	"hash/maphash"
	"runtime"

	"golang.org/x/sync/errgroup"

	"pravet/internal/core/day"
	"pravet/internal/core/diff"
	"pravet/internal/core/entitle"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/core/words"
)

// changes turns differences into the plan's changes, with ids, reasons and what
// each needs by its nature. Batches are made ready side by side, and joined in
// their order.
func (d *drafter) changes(changes []diff.Change, due *entitle.Result) []plan.Change {
	out := make([]plan.Change, len(changes))
	opened := newOpened(len(d.in.Apps))
	defined := d.newDefined()
	doubles := d.doubles(changes)
	for b := range d.prepare(out, changes, due) {
		<-b.ready
		for i := b.from; i < b.to; i++ {
			c, p := &changes[i], &out[i]
			p.Reasons = d.reasons(c, b.causes[i-b.from])
			switch c.Verb {
			case model.Create, model.Invite, model.Restore:
				if !c.Ahead() {
					opened.note(c, p.ID)
				}
			case model.Update, model.Assign, model.Join, model.Grant:
				if id := opened.by(c); id != "" {
					p.Needs = append(p.Needs, id)
				}
			}
			p.Needs = append(p.Needs, defined.needs(d.in.Apps[c.App], d.retiring(c), c, p.ID)...)
			for _, n := range doubles[i] {
				p.Needs = append(p.Needs, out[n].ID)
			}
		}
	}
	return out
}

// opened is by which change the account of each person is made or opened. Of those
// few whose accounts have one name, only the first stands in slots.
type opened struct {
	slots [][]opening         // application, slot
	more  map[[2]int32]string // application, person → id
}

type opening struct {
	person int32
	id     string
}

func newOpened(apps int) *opened { return &opened{make([][]opening, apps), map[[2]int32]string{}} }

func (o *opened) note(c *diff.Change, id string) {
	of := &o.slots[c.App]
	for len(*of) <= int(c.Slot) {
		*of = append(*of, opening{})
	}
	if (*of)[c.Slot].id != "" {
		o.more[[2]int32{c.App, c.Person}] = id
		return
	}
	(*of)[c.Slot] = opening{c.Person, id}
}

// by is the id of the change by which the account of another is opened, or "".
func (o *opened) by(c *diff.Change) string {
	if of := o.slots[c.App]; int(c.Slot) < len(of) && of[c.Slot].person == c.Person {
		return of[c.Slot].id
	}
	return o.more[[2]int32{c.App, c.Person}]
}

// A batch is some changes that are made ready together.
type batch struct {
	from, to int
	causes   [][]saying // of each
	ready    chan struct{}
}

// size is how many changes a batch has.
const size = 2048

// prepare makes ready what can be made side by side: each change with its id, and
// why it is wanted where not everyone of its class has it for the same reasons. It
// is never more than a few batches ahead.
func (d *drafter) prepare(out []plan.Change, changes []diff.Change, due *entitle.Result) <-chan *batch {
	workers := runtime.GOMAXPROCS(0)
	batches, tellers := make(chan *batch, 4*workers), make(chan *words.Teller, workers)
	for range workers {
		tellers <- d.explainer.Teller()
	}
	var group errgroup.Group // none of it fails
	group.SetLimit(workers)
	go func() {
		defer close(batches)
		for from := 0; from < len(changes); from += size {
			b := &batch{from: from, to: min(from+size, len(changes)), ready: make(chan struct{})}
			batches <- b
			group.Go(func() error {
				teller := <-tellers
				d.make(b, teller, out, changes, due)
				tellers <- teller
				return nil
			})
		}
	}()
	return batches
}

// make makes a batch ready.
func (d *drafter) make(
	b *batch,
	teller *words.Teller,
	out []plan.Change,
	changes []diff.Change,
	due *entitle.Result,
) {
	b.causes = make([][]saying, b.to-b.from)
	for i := b.from; i < b.to; i++ {
		c := &changes[i]
		out[i] = d.change(c, due)
		if c.Why != diff.Gives {
			for _, r := range teller.Reasons(c) {
				b.causes[i-b.from] = append(b.causes[i-b.from], said(r))
			}
		}
	}
	close(b.ready)
}

// change is a difference as a change of the plan, without what it needs and why.
func (d *drafter) change(c *diff.Change, due *entitle.Result) plan.Change {
	app := d.in.Apps[c.App]
	p := plan.Change{
		App: app.ID, Verb: c.Verb, Account: c.Key, Effect: c.Effect(), ForGood: c.Verb.ForGood(),
		Blocked: c.Ahead(),
	}
	if c.Verb == model.Redefine || c.Verb == model.Define && len(c.Def.Through) > 0 {
		p.Reach = d.reachOf(c)
	}
	if c.Person != diff.None {
		p.Person = d.ids.At(int(c.Person))
		p.Second = c.Account != diff.None && d.accountOf[c.App][c.Person] != c.Account
	}
	if c.Thing != diff.None {
		t := app.Things[c.Thing]
		p.Thing = &plan.Thing{Kind: t.Kind, Name: t.Name, Sensitive: t.Sensitive}
	}
	if p.Thing != nil && !c.Verb.OfThing() && c.Before != "" {
		p.Before = plan.Text(c.Before) // the thing that goes for it, or the terms on which it was held
	}
	if p.Thing != nil && !c.Verb.OfThing() && c.After != "" {
		p.After = plan.Text(c.After) // the terms on which it is held
	}
	switch c.Verb {
	case model.Update:
		p.Attribute, p.Before, p.After = app.Attrs[c.Attr].Name, plan.Text(c.Before), plan.Text(c.After)
	case model.Create:
		p.After = plan.Fields(d.attributes(c, due))
	case model.Invite:
		if c.Account == diff.None {
			p.After = plan.Fields(d.invitation(c, d.attributes(c, due)))
			break
		}
		p.Attribute, p.Before, p.After = model.Sent, plan.Text(c.Before), plan.Text(c.After)
	case model.HandOver:
		p.Attribute, p.After = model.Owned, plan.Text(c.After)
		p.Before = plan.List(model.OwnedNames(c.Before, app.OwnedSplit))
	case model.Remove:
		if app.Restores != (day.Duration{}) {
			p.Until = d.in.Today.Add(app.Restores).String()
		}
	case model.Define:
		p.After = plan.Defined(app.Defined(c.Thing))
	case model.Redefine:
		p.Attribute, p.Before, p.After = c.Def.Field, plan.Text(c.Before), plan.Text(c.After)
		if c.Sense != diff.Same {
			p.Before, p.After = plan.List(c.Def.From), plan.List(c.Def.To)
		}
	}
	p.ID = plan.ChangeID(&p)
	return p
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

// invitation adds to the attributes of somebody who is to be invited what the invitation
// says, as far as the application shows that: its text, and from where the person comes.
func (d *drafter) invitation(c *diff.Change, out map[string]string) map[string]string {
	app := d.in.Apps[c.App]
	get := func(attr string) string { return d.in.People.Get(int(c.Person), attr) }
	if app.Attr(model.Sent) >= 0 {
		out[model.Sent] = "1"
	}
	if app.Attr(model.Member) >= 0 {
		out[model.Member] = model.Inside
		if d.in.Outsiders.Are(get, d.in.Today) {
			out[model.Member] = model.Outside
		}
	}
	if text := app.Invites.Text(app, c.Key, get); text != "" {
		out[model.Message] = text
	}
	return out
}

// A saying is a reason, with a number that hardly any other has.
type saying struct {
	reason plan.Reason
	sum    uint64
}

// seed is that of all sums.
var seed = maphash.MakeSeed()

func said(r plan.Reason) saying {
	var h maphash.Hash
	h.SetSeed(seed)
	_, _ = h.WriteString(r.Says) // a hash never fails
	_, _ = h.WriteString(r.File)
	return saying{r, h.Sum64() + uint64(r.Line)}
}

func (s *saying) same(r *plan.Reason) bool {
	return s.reason.Says == r.Says && s.reason.Line == r.Line && s.reason.File == r.File
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
func (d *drafter) reasons(c *diff.Change, causes []saying) []int {
	if c.Why != diff.Gives {
		return d.numbered(causes)
	}
	out, ok := d.given[d.gift(c)]
	if !ok {
		for _, r := range d.teller.Reasons(c) {
			causes = append(causes, said(r))
		}
		out = d.numbered(causes)
		d.given[d.gift(c)] = out
	}
	return out
}

func (d *drafter) numbered(causes []saying) []int {
	out := make([]int, 0, len(causes))
	for i := range causes {
		s := &causes[i]
		// Where another reason has the same sum, the next number is free.
		n, known := d.numbers[s.sum]
		for known && !s.same(&d.said[n]) {
			s.sum++
			n, known = d.numbers[s.sum]
		}
		if !known {
			n = int32(len(d.said))
			d.numbers[s.sum] = n
			d.said = append(d.said, s.reason)
		}
		out = append(out, int(n))
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
