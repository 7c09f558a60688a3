package reference

import (
	"slices"
)

// waiting lets those wait who go while too few would hold what some must.
func (w *world) waiting(changes []*change) {
	var narrowing []*change
	for _, c := range changes {
		if c.narrows() && !c.ofThing() {
			narrowing = append(narrowing, c)
		}
	}
	then := w.after(narrowing)
	late := map[string][]string{} // account → things whose loss waits
	for i := range w.apps {
		a := &w.apps[i]
		for _, t := range a.things {
			var dips []string
			for _, r := range a.rows {
				less, _ := then.apps[i].row(a.account(r))
				touched := slices.ContainsFunc(
					narrowing, func(c *change) bool { return c.app == a.id && c.account == a.account(r) },
				)
				stays := less.open && slices.Contains(a.meanwhile(less.held), t.key)
				if touched && a.isActive(a.account(r), t.key) && !stays {
					dips = append(dips, a.account(r))
				}
			}
			before := a.active(t.key)
			if t.atLeast == 0 || before-len(dips) >= min(t.atLeast, before) {
				continue
			}
			for _, user := range dips {
				late[a.id+" "+user] = append(late[a.id+" "+user], t.key)
			}
		}
	}
	for _, c := range changes {
		for _, key := range late[c.app+" "+c.account] {
			a := w.app(c.app)
			c.late = c.late || c.narrows() && (c.thing == "" || slices.Contains(a.along([]string{c.thing}), key))
		}
	}
}

// stay holds those who go where too few would stay.
func (w *world) stay(rest *world, a *app, t thing, changes []*change) {
	then := rest.app(a.id)
	if then.active(t.key) >= t.atLeast {
		w.dip(rest, a, t, changes)
		return
	}
	may := free(changes)
	for _, c := range changes {
		if c.app == a.id && c.verb == "redefine" {
			active := slices.ContainsFunc(a.rows, func(r row) bool { return a.isActive(a.account(r), c.thing) })
			if c.sense < 0 && w.brings(c, a.id, t.key) && active {
				w.hold(c, "at-least")
			}
			continue
		}
		if c.app != a.id || !w.takes(c, a.id, t.key) && !(c.narrows() && c.thing == "") {
			continue
		}
		touched := slices.ContainsFunc(may, func(o *change) bool { return o.app == a.id && o.account == c.account })
		if touched && a.isActive(c.account, t.key) && !then.isActive(w.name(may, a.id, c.account), t.key) {
			w.hold(c, "at-least")
		}
	}
}

// dip holds redefinitions that take a thing from so many that, until others give it
// back, too few would hold it.
func (w *world) dip(rest *world, a *app, t thing, changes []*change) {
	n := 0
	for _, r := range a.rows {
		late := slices.ContainsFunc(
			changes, func(c *change) bool { return c.app == a.id && c.account == a.account(r) && c.late },
		)
		touched := slices.ContainsFunc(
			free(changes), func(c *change) bool { return c.app == a.id && c.account == a.account(r) },
		)
		stays := r.open && slices.Contains(a.meanwhile(r.held), t.key)
		if touched && !late {
			stays = stays && rest.app(a.id).isActive(w.name(free(changes), a.id, a.account(r)), t.key)
		}
		n += one(stays)
	}
	for _, c := range changes {
		if n < t.atLeast && c.app == a.id && c.verb == "redefine" && c.sense < 0 && w.brings(c, a.id, t.key) {
			w.hold(c, "at-least")
		}
	}
}
