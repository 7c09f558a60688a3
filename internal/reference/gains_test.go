package reference

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
)

// Limits are those of an application of what gives access, "" for none.
type limits struct{ widening, holders, sensitive, first string }

// said are the limits as files have them.
func (l limits) said() (text string) {
	if l.widening != "" && l.holders != "" {
		text += fmt.Sprintf(", widening: {accounts: %s, holders: %s}", l.widening, l.holders)
	} else if l.widening != "" {
		text += ", widening: " + l.widening
	} else if l.holders != "" {
		text += ", widening: {holders: " + l.holders + "}"
	}
	for key, of := range map[string]string{"sensitive": l.sensitive, "firstHolder": l.first} {
		if of != "" {
			text += ", " + key + ": " + of
		}
	}
	return text
}

// guarded draws limits of what gives access, things that are sensitive or for insiders only, and outsiders.
func (w *world) guarded(r *rand.Rand) {
	one := func(of ...string) string { return of[r.IntN(len(of))] }
	w.outsiders = r.IntN(3) > 0
	for i := range w.people {
		p := &w.people[i]
		if p.outsider = r.IntN(2) == 0; !p.outsider {
			p.service = r.IntN(5) == 0
			continue
		}
		if p.ends == "" {
			p.ends = one("", "2027-01-31", "2027-05-24", "2027-05-25")
		}
		if r.IntN(4) > 0 {
			p.sponsor = w.people[r.IntN(len(w.people))].id
		}
	}
	for i := range w.apps {
		a := &w.apps[i]
		a.limits = limits{
			widening: one("", "", "0", "1", "34%"), holders: one("", "", "0", "1", "50%"),
			sensitive: one("", "0", "1", "25%"), first: one("", "0", "1"),
		}
		for j := range a.things {
			t := &a.things[j]
			t.sensitive = t.sensitive || r.IntN(3) == 0
			t.insiders = r.IntN(4) == 0
		}
	}
}

// gives are the things that an account has by a change and had not before, one way or another.
func (w *world) gives(c *change) []string {
	a := w.app(c.app)
	if !c.gives() {
		return nil
	}
	r, _ := a.row(c.account)
	return less(a.planned([]string{c.thing}), a.along(r.held))
}

// gaining lists who comes to have what by a change: account and thing.
func (w *world) gaining(c *change, changes []*change) (out [][2]string) {
	a := w.app(c.app)
	if !c.ofThing() {
		for _, t := range w.gives(c) {
			out = append(out, [2]string{c.account, t})
		}
		return out
	}
	if c.sense <= 0 || !c.bringing() {
		return nil
	}
	for _, r := range w.through(c, changes, false) {
		for _, t := range less(a.planned(c.moved), a.along(r.held)) {
			out = append(out, [2]string{a.account(r), t})
		}
	}
	return out
}

// limited holds what gives access beyond the limits of an application.
func (w *world) limited(a *app, changes []*change) {
	of := func(c *change) bool { return c.app == a.id }
	widens := func(c *change) bool {
		return c.verb == "create" || c.verb == "restore" || c.gives() && !(c.gone != "" && c.narrows()) ||
			c.ofThing() && c.effect == "widens"
	}
	accounts := map[string]bool{}
	for _, c := range changes {
		switch {
		case !of(c) || !widens(c):
		case c.ofThing():
			for _, r := range w.through(c, changes, false) {
				accounts[a.account(r)] = true
			}
		default:
			accounts[c.account] = true
		}
	}
	come, sensitive, first := map[string]map[string]bool{}, map[[2]string]bool{}, map[[2]string]bool{}
	for _, c := range changes {
		if !of(c) {
			continue
		}
		for _, g := range w.gaining(c, changes) {
			if come[g[1]] == nil {
				come[g[1]] = map[string]bool{}
			}
			come[g[1]][g[0]] = true
			if a.thing(g[1]).sensitive {
				sensitive[g] = true
			}
			if a.holders(g[1]) == 0 {
				first[g] = true
			}
		}
	}
	beyond := func(limited string, n, whole int) bool { return limited != "" && n > limit(limited, whole) }
	for _, c := range changes {
		if !of(c) {
			continue
		}
		if widens(c) && beyond(a.limits.widening, len(accounts), len(a.rows)) {
			w.hold(c, "widening")
		}
		for _, g := range w.gaining(c, changes) {
			if beyond(a.limits.holders, len(come[g[1]]), a.holders(g[1])) {
				w.hold(c, "widening")
			}
			if a.thing(g[1]).sensitive && beyond(a.limits.sensitive, len(sensitive), len(a.rows)) {
				w.hold(c, "sensitive")
			}
			if a.holders(g[1]) == 0 && beyond(a.limits.first, len(first), len(a.rows)) {
				w.hold(c, "first-holder")
			}
		}
	}
}

// foreign holds what gives something to an outsider with whom something is not as it must be, and what is for insiders.
func (w *world) foreign(a *app, changes []*change) {
	if !w.outsiders {
		return
	}
	for _, c := range changes {
		if c.app != a.id {
			continue
		}
		var whom []*person
		switch {
		case c.ofThing() && c.sense > 0:
			for _, r := range w.through(c, changes, true) {
				if p := w.owner(a, r); p != nil {
					whom = append(whom, p)
				}
			}
		case c.verb == "create" || c.verb == "restore" || c.gives():
			if p := w.byID(c.person); p != nil {
				whom = append(whom, p)
			}
		}
		for _, p := range whom {
			if !p.outsider {
				continue
			}
			if w.unanswered(p) {
				w.hold(c, "outsiders")
			}
			given := w.gives(c)
			if c.ofThing() && c.bringing() {
				given = a.planned(c.moved)
			}
			if slices.ContainsFunc(given, func(k string) bool { return a.thing(k).insiders }) {
				w.hold(c, "insiders")
			}
		}
	}
}

func (w *world) byID(id string) *person {
	for i := range w.people {
		if w.people[i].id == id {
			return &w.people[i]
		}
	}
	return nil
}

// unanswered reports whether an outsider has no last day within six months, or nobody who answers for them: somebody
// else who is with the organization, no outsider, and no service account.
func (w *world) unanswered(p *person) bool {
	if p.ends == "" || p.ends > w.ago(-181) {
		return true
	}
	s := w.byID(p.sponsor)
	return s == nil || s.id == p.id || s.outsider || s.service || s.starts > w.today || s.ends != "" && s.ends < w.today
}

// giving compares drafts of worlds with such limits, as they are drawn and after somebody has worked by hand.
func giving(t *testing.T, seed uint64) string {
	r := rand.New(rand.NewPCG(seed, 13))
	b := open(t, seed, func(w *world) { w.guarded(r) })
	defer b.close()
	for range 3 {
		if _, _, d := b.agreed(t, nil); d != "" {
			return d + strings.Join(b.rows(), "\n")
		}
		b.byHand(t, r)
	}
	return ""
}

// TestWhatGivesAccess is held beyond limits, for outsiders with whom something is wrong, and where it is for insiders.
func TestWhatGivesAccess(t *testing.T) {
	each(t, 40, giving)
}
