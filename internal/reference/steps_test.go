package reference

import (
	"slices"
	"strings"
)

// after is the world once some changes are carried out.
func (w *world) after(changes []*change) *world { return w.with(changes, (*app).holdings) }

// shown is what exports show of it: one of effective holdings is not reckoned anew
// by a file.
func (w *world) shown(changes []*change) *world {
	return w.with(changes, func(_ *app, r row) []string { return r.held })
}

func (w *world) with(changes []*change, held func(*app, row) []string) *world {
	n := *w
	n.apps = nil
	for _, a := range w.apps {
		var rows []row
		for _, r := range a.rows {
			r.held = slices.Clone(held(&a, r))
			rows = append(rows, r)
		}
		a.rows = rows
		n.apps = append(n.apps, a)
	}
	names := map[string]string{}
	for _, c := range changes {
		a := n.app(c.app)
		if c.ofThing() {
			a.apply(c)
			continue
		}
		if c.verb == "create" {
			r := row{user: c.account, open: true}
			for _, p := range w.people {
				if p.id == c.person {
					r.user, r.name, r.email = p.user, p.name, p.email
					r.title, _ = w.sets(&p, a)
				}
			}
			a.rows = append(a.rows, r)
			continue
		}
		spelled := slices.ContainsFunc(a.rows, func(r row) bool { return a.account(r) == c.account })
		for i := range a.rows {
			r := &a.rows[i]
			if spelled && a.account(*r) != c.account || !strings.EqualFold(a.account(*r), c.account) {
				continue // one that was renamed is found by its new spelling
			}
			switch {
			case c.verb == "suspend":
				r.open = false
			case c.verb == "restore":
				r.open = true
			case c.verb == "remove":
				a.rows = slices.Delete(a.rows, i, i+1)
			case c.attribute == a.by:
				names[c.app+" "+c.account] = c.after
			case c.attribute == "userName":
				r.user = c.after
			case c.attribute == "displayName":
				r.name = c.after
			case c.attribute == "email":
				r.email = c.after
			case c.attribute == "title":
				r.title = c.after
			case slices.Contains(r.held, c.thing) && c.gives():
			case c.gives():
				r.held = slices.DeleteFunc(r.held, func(k string) bool { return lone(k) && lone(c.thing) })
				r.held = append(r.held, c.thing)
				slices.Sort(r.held)
			default:
				r.held = slices.DeleteFunc(r.held, func(k string) bool { return k == c.thing })
			}
			break
		}
	}
	for i := range n.apps { // names last, so that the changes find their accounts
		for j := range n.apps[i].rows {
			r := &n.apps[i].rows[j]
			to, ok := names[n.apps[i].id+" "+n.apps[i].account(*r)]
			switch {
			case !ok:
			case n.apps[i].by == "email":
				r.email = to
			default:
				r.user = to
			}
		}
	}
	return &n
}

// has reports whether an account has a thing in the end.
func (a *app) has(r row, key string) bool {
	return slices.Contains(a.along(r.held), key)
}

// active counts the open accounts that have a thing, holders all of them.
func (a *app) active(key string) (n int) {
	for _, r := range a.rows {
		if r.open && a.has(r, key) {
			n++
		}
	}
	return n
}

func (a *app) holders(key string) (n int) {
	for _, r := range a.rows {
		if a.has(r, key) {
			n++
		}
	}
	return n
}

func (a *app) row(user string) (row, bool) {
	for _, r := range a.rows {
		if a.account(r) == user {
			return r, true
		}
	}
	return row{}, false
}

func (a *app) isActive(user, key string) bool {
	r, ok := a.row(user)
	return ok && r.open && a.has(r, key)
}

// sides are which of two things that are kept apart a person has.
func (w *world) sides(pair []string, id string) (out []string) {
	for _, x := range pair {
		appID, key, _ := strings.Cut(x, "/")
		a := w.app(appID)
		for _, r := range a.rows {
			if p := w.owner(a, r); p != nil && p.id == id && a.has(r, key) && !slices.Contains(out, x) {
				out = append(out, x)
			}
		}
	}
	return out
}

func (w *world) allowed(pair int, id string) bool { return pair == 0 && slices.Contains(w.may, id) }

// isDue reports whether an account has a thing once definitions are as the plan
// leaves them.
func (a *app) isDue(user, key string) bool {
	r, ok := a.row(user)
	return ok && slices.Contains(a.planned(r.held), key)
}

// broken says which guard a step of one change of an application would break, or
// "". What a decision has lifted breaks nothing.
func (w *world) broken(then *world, app string) string {
	for i := range w.apps {
		was, is := &w.apps[i], &then.apps[i]
		for _, t := range was.things {
			if t.seats >= 0 && !w.lifted("seats", app) && is.holders(t.key) > was.holders(t.key) && is.holders(t.key) > t.seats {
				return "seats"
			}
			if t.atLeast > 0 && !w.lifted("at-least", app) && is.active(t.key) < was.active(t.key) && is.active(t.key) < t.atLeast {
				return "at-least"
			}
		}
	}
	for n, pair := range w.apart {
		if w.lifted("separation", app) {
			break
		}
		for _, p := range w.people {
			if is := then.sides(pair, p.id); len(is) > 1 && len(is) > len(w.sides(pair, p.id)) && !w.allowed(n, p.id) {
				return "separation"
			}
		}
	}
	return ""
}

// phase is when a change has its turn among those that could have it.
func phase(c *change, before []*change) int {
	if !c.narrows() {
		return 1
	}
	for _, o := range before {
		if o.app == c.app && o.effect == "widens" {
			return 2
		}
	}
	return 0
}

// carry carries out what is chosen of a plan, in the order in which a run does,
// and leaves what would break something at that moment.
//
// Where it is carried out, the files tell at each step what accounts hold; of one
// whose export shows what comes along as well, what the run itself gave is known to
// be held by itself.
func (w *world) carry(plan, chosen []*change, thought bool) (done []*change, refused map[*change]string) {
	start := w // of the step
	refused = map[*change]string{}
	for {
		var step []*change
		best := 3
		for i, c := range plan {
			waits := slices.ContainsFunc(c.needs, func(o *change) bool { return !slices.Contains(done, o) })
			if !slices.Contains(chosen, c) || slices.Contains(done, c) || refused[c] != "" || waits {
				continue
			}
			f := phase(c, plan[:i])
			if f < best {
				best, step = f, nil
			}
			if f == best && (len(step) == 0 || step[0].app == c.app) {
				step = append(step, c)
			}
		}
		if len(step) == 0 {
			return done, refused
		}
		now, taken := start, []*change{}
		for _, c := range step {
			then := start.with(append(slices.Clone(taken), c), func(a *app, r row) []string {
				return append(a.holdings(r), less(w.given(done, a, r), a.holdings(r))...)
			})
			if thought {
				then = w.after(append(slices.Concat(done, taken), c))
			}
			if guard := now.broken(then, c.app); guard != "" {
				refused[c] = guard
				continue
			}
			now, taken = then, append(taken, c)
		}
		if done = append(done, taken...); len(taken) > 0 {
			clear(refused)
		}
		if start = now; !thought {
			start = w.shown(done)
		}
	}
}

// given is what some changes have given an account that its export shows still.
func (w *world) given(done []*change, a *app, r row) (out []string) {
	for _, c := range done {
		if c.app == a.id && c.gives() && w.name(done, a.id, c.account) == a.account(r) && slices.Contains(r.held, c.thing) {
			out = append(out, c.thing)
		}
	}
	return out
}
