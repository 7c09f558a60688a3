package reference

import (
	"slices"
	"strings"
)

// kept holds what would bring together two things that are kept apart, and lets
// what comes wait for what goes.
func (w *world) kept(n int, pair []string, changes []*change) {
	whole := w.settled(changes)
	w.together(n, pair, changes)
	for _, p := range w.people {
		before, after := w.sides(pair, p.id), whole.sides(pair, p.id)
		for _, x := range pair {
			other := pair[0]
			if x == other {
				other = pair[1]
			}
			appID, key, _ := strings.Cut(x, "/")
			for at, c := range changes {
				reaches := c.ofThing() && c.sense > 0 && slices.ContainsFunc(w.through(c, changes, true), func(r row) bool {
					o := w.owner(w.app(c.app), r)
					return o != nil && o.id == p.id
				})
				if !reaches && (c.person != p.id || !c.gives()) || !w.brings(c, appID, key) {
					continue
				}
				if len(after) > 1 {
					if !slices.Contains(before, x) && !w.allowed(n, p.id) {
						w.hold(c, "separation")
					}
					continue
				}
				if slices.Contains(before, x) || !slices.Contains(before, other) {
					continue
				}
				otherApp, otherKey, _ := strings.Cut(other, "/")
				for later, o := range changes {
					if o.app != otherApp || o.person != p.id && !(o.verb == "redefine" && o.sense < 0) {
						continue
					}
					if o.verb != "remove" && !w.takes(o, otherApp, otherKey) && !(o.ofThing() && w.brings(o, otherApp, otherKey)) {
						continue
					}
					if later > at {
						w.hold(c, "separation")
					} else {
						c.needs = append(c.needs, o)
					}
				}
			}
		}
	}
}

// together holds redefinitions that let somebody hold, as things are, two things
// that are kept apart, whatever else the plan takes away.
func (w *world) together(n int, pair []string, changes []*change) {
	for _, c := range changes {
		side := func(x string) bool { app, key, _ := strings.Cut(x, "/"); return w.brings(c, app, key) }
		if !c.ofThing() || c.sense <= 0 || !slices.ContainsFunc(pair, side) {
			continue
		}
		for _, p := range w.people {
			has := func(r row) bool {
				o := w.owner(w.app(c.app), r)
				return o != nil && o.id == p.id && slices.Contains(w.app(c.app).along(r.held), c.thing)
			}
			if !slices.ContainsFunc(w.app(c.app).rows, has) || w.allowed(n, p.id) {
				continue
			}
			was, will := 0, 0
			for _, x := range pair {
				app, key, _ := strings.Cut(x, "/")
				a := w.app(app)
				rows := w.rowsOf(a, &p)
				if len(rows) == 0 {
					continue
				}
				is := slices.Contains(a.along(rows[0].held), key)
				was += one(is)
				will += one(is || slices.Contains(a.planned(rows[0].held), key))
			}
			if will > max(was, 1) {
				w.hold(c, "separation")
			}
		}
	}
}
