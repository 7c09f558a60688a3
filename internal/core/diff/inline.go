package diff

import (
	"slices"

	"pravet/internal/core/entitle"
	"pravet/internal/core/model"
	"pravet/internal/core/table"
)

// bringInLine compares attributes and holdings of an account, or of one that is to
// be created.
func (w *walker) bringInLine(c Change, due *entitle.Due) {
	held := uint32(0)
	invited := c.Account == None && w.app.AreInvited(w.of(c.Person), w.in.Today)
	c.Why = Gives
	if c.Account != None {
		held = w.accounts.Has(int(c.Account))
		invited = w.accounts.States[c.Account] == model.Invited
		w.attributes(c, due)
		w.key(c)
	}
	if c.Account != None {
		w.insiders(c, due, held)
	}
	if held == due.Want && !invited { // most have what they should
		return
	}
	d := w.delta(due, held)
	var waits []int32
	for _, t := range d.add {
		if invited && w.app.Invites != nil && !w.app.Invites.With[w.app.Things[t].Kind] {
			waits = append(waits, t)
			continue
		}
		c := c
		c.Thing = t
		w.exchange(&c, held, t)
		if due.Usual(t) {
			c.Why = IsUsual
		}
		w.add(c, model.Gaining(w.app.Things[t].Kind))
	}
	if invited && c.Account != None {
		w.out.Pending = append(w.out.Pending, Pending{w.a, c.Account, c.Person, waits})
	}
	for _, t := range d.drop {
		c := c
		c.Why = NotGiven
		w.lose(c, t)
	}
	for _, t := range d.doubles {
		c := c
		switch {
		case w.crowded(d, t):
			c.Why = MakesRoom
			w.lose(c, t)
		case w.app.Tidy:
			c.Why = IsDouble
			w.lose(c, t)
		default:
			w.out.Doubles = append(w.out.Doubles, Double{w.a, c.Account, t})
		}
	}
}

// crowded reports whether a thing that something else brings along takes the one
// place there is from another of its kind that is to come.
func (w *walker) crowded(d *delta, t int32) bool {
	kind := w.app.Things[t].Kind
	return w.accounts.Single[kind] &&
		slices.ContainsFunc(d.add, func(other int32) bool { return w.app.Things[other].Kind == kind })
}

func (w *walker) attributes(c Change, due *entitle.Due) {
	for n := range w.app.Attrs {
		want, why, managed := Wanted(w.app, n, w.follows[n], int(c.Person), due)
		if !managed || w.accounts.Attrs[n] == nil {
			continue
		}
		if w.app.Attrs[n].Fixed && w.app.Attrs[n].Name == w.app.Match && w.others[c.Account] {
			continue // it keeps the name by which nobody else could know it
		}
		if w.app.Attrs[n].Name == w.app.Match && w.app.Folds &&
			table.Fold(w.accounts.Key.At(int(c.Account))) == table.Fold(want) {
			continue // the application writes names as it likes
		}
		if is := w.accounts.Attrs[n].At(int(c.Account)); !w.accounts.Shows(n, int(c.Account), want) {
			c := c
			c.Attr, c.Before, c.After, c.Why = int32(n), is, want, why
			w.add(c, model.Update)
		}
	}
}

// insiders takes from an outsider what is for insiders only, and what brings that along, although a kit
// gives it: that was never theirs, or is theirs no longer.
func (w *walker) insiders(c Change, due *entitle.Due, held uint32) {
	if !w.looked {
		w.looked = true
		if o := w.in.Outsiders; o != nil && o.For != nil {
			for t := range w.app.Things {
				if w.app.ForInsiders(w.wanted(), int32(t)) {
					w.inner = append(w.inner, int32(t))
				}
			}
		}
	}
	outsider := false
	for _, t := range w.inner {
		if !w.accounts.Sets.Has(held, t) || !w.accounts.Sets.Has(due.Want, t) {
			continue
		}
		if !outsider && !w.in.Outsiders.Are(func(attr string) string { return w.in.People.Get(int(c.Person), attr) }, w.in.Today) {
			return
		}
		outsider = true
		c := c
		c.Why = ForInsiders
		if other := w.app.Instead(t); other >= 0 {
			c.Thing = other
			w.exchange(&c, held, other)
			w.add(c, model.Gaining(w.app.Things[other].Kind))
			continue
		}
		w.lose(c, t)
	}
}

// exchange notes which thing goes when another comes of which everybody has one. To get one that is not
// sensitive for one that is narrows access; any other exchange may give what was not there.
func (w *walker) exchange(c *Change, held uint32, t int32) {
	c.Before, c.Sense = Exchanged(w.app, w.accounts.Sets, held, t)
}

// Exchanged is which thing of a set goes when another comes, "" for none, and in which sense.
func Exchanged(app *model.App, sets *model.Sets, held uint32, t int32) (gone string, sense Sense) {
	rivals := app.Rivals(sets, held, t)
	if len(rivals) == 0 {
		return "", Same
	}
	was, is := &app.Things[rivals[0]], &app.Things[t]
	if was.Sensitive && !is.Sensitive {
		sense = Less
	}
	return was.Name, sense
}

// key makes the key of an account anew, in its time.
func (w *walker) key(c Change) {
	n := w.app.Attr(model.KeySince)
	if w.app.Keys == nil && w.app.Passwords == (model.Pos{}) || n < 0 || w.accounts.Attrs[n] == nil || c.Person == None ||
		!w.accounts.Open(int(c.Account)) {
		return
	}
	since := w.accounts.Attrs[n].At(int(c.Account))
	get := func(attr string) string { return w.in.People.Get(int(c.Person), attr) }
	c.Why = KeyIsOld
	if w.app.Keys == nil || !w.app.Keys.Due(get, since, w.in.Today) {
		_, due := w.app.Asked(get, since, w.in.Today)
		if !due {
			return
		}
		c.Why = IsAsked
	}
	c.Attr, c.Before, c.After = int32(n), since, w.in.Today.String()
	w.add(c, model.Update)
}

// Wanted returns the value that account attribute n should have: what a kit
// sets, else what it follows of the person. managed is false for an attribute
// that only kits set when none of the person's kits sets it.
func Wanted(
	app *model.App,
	n int,
	follows *table.Column,
	person int,
	due *entitle.Due,
) (value string, why Why, managed bool) {
	at := &app.Attrs[n]
	for i := range due.Set {
		if due.Set[i].Attr == at.Name {
			return due.Set[i].Value, KitSets, true
		}
	}
	if at.Person == "" {
		return "", Follows, false
	}
	if follows != nil {
		value = follows.At(person)
	}
	return value, Follows, true
}

// delta is how to come from one set to another.
type delta struct{ add, drop, doubles []int32 }

func (w *walker) delta(due *entitle.Due, held uint32) *delta {
	key := uint64(due.Want)<<32 | uint64(held)
	if d, ok := w.deltas[key]; ok {
		return d
	}
	d := &delta{}
	sets := w.accounts.Sets
	for _, t := range sets.Members(due.Want) {
		if !sets.Has(held, t) {
			d.add = append(d.add, t)
		}
	}
	for _, t := range sets.Members(held) {
		switch {
		case sets.Has(due.Want, t), w.app.Lone(t): // that one is exchanged, or stays
		case sets.Has(due.Reach, t):
			d.doubles = append(d.doubles, t)
		default:
			d.drop = append(d.drop, t)
		}
	}
	w.deltas[key] = d
	return d
}
