package reference

import (
	"cmp"
	"slices"
)

// seated gives the seats of a license to those who come first.
func (w *world) seated(a *app, t thing, changes []*change) {
	type taker struct {
		c *change // the first that brings the license
		n int
	}
	var takers []taker
	var freed [][]*change // each all that frees one seat together
	var freedAt []int
	now := w
	for n, c := range changes {
		if c.app != a.id || c.thing == "" && c.verb != "remove" || c.ofThing() {
			if c.verb == "create" {
				now = now.after([]*change{c})
			}
			continue
		}
		if c.gives() && len(c.holds) > 0 {
			continue // what another guard holds takes no seat
		}
		then := now.after([]*change{c})
		is, will := now.app(a.id).isDue(c.account, t.key), then.app(a.id).isDue(c.account, t.key)
		now = then
		if !is && will {
			takers = append(takers, taker{c, n})
		}
		if is && !will {
			var all []*change
			for _, o := range changes[:n+1] {
				if o.app == a.id && o.account == c.account && o.narrows() &&
					(o.verb == "remove" || w.brings(o, a.id, t.key)) {
					all = append(all, o)
				}
			}
			freed, freedAt = append(freed, all), append(freedAt, n)
		}
	}
	for i := len(freed) - 1; i >= 0; i-- {
		if len(takers) > 0 && freedAt[i] > takers[0].n || len(free(freed[i])) < len(freed[i]) {
			freed, freedAt = slices.Delete(freed, i, i+1), slices.Delete(freedAt, i, i+1)
		}
	}
	used := 0
	for _, r := range a.rows {
		used += one(slices.Contains(a.planned(r.held), t.key))
	}
	left := t.seats - used
	for _, c := range changes {
		if left < 0 && c.app == a.id && c.ofThing() && c.sense > 0 && w.brings(c, a.id, t.key) {
			w.hold(c, "seats")
		}
	}
	var beyond [][]*change
	for left < 0 && len(freed) > 0 {
		left, beyond, freed = left+1, append(beyond, freed[0]), freed[1:]
	}
	served := left + len(freed)
	if left < 0 {
		left, served = 0, 0
	}
	rank := func(c *change) (best int, starts string) {
		best = 1 << 30
		for i := range w.people {
			p := &w.people[i]
			if p.id != c.person {
				continue
			}
			starts = p.starts
			for _, k := range w.kits {
				if k.holds(p, w.today) && k.rank > 0 && slices.Contains(a.planned(k.gives[a.id]), t.key) {
					best = min(best, k.rank)
				}
			}
		}
		return best, starts
	}
	if served < len(takers) {
		slices.SortFunc(takers, func(x, y taker) int {
			xr, xs := rank(x.c)
			yr, ys := rank(y.c)
			return cmp.Or(cmp.Compare(xr, yr), cmp.Compare(xs, ys), cmp.Compare(x.c.person, y.c.person))
		})
	}
	for n, x := range takers {
		for _, c := range changes {
			if c.app != a.id || c.account != x.c.account || !c.gives() ||
				!slices.Contains(a.planned([]string{c.thing}), t.key) {
				continue
			}
			if n >= served {
				w.hold(c, "seats")
				continue
			}
			for _, all := range beyond {
				c.needs = append(c.needs, all...)
			}
			if n >= left {
				c.needs = append(c.needs, freed[n-left]...)
			}
		}
	}
}
