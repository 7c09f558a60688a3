package reference

import (
	"slices"
)

// shows reports whether an application's export shows a group that it once did not
// have: somebody is in it.
func (w *world) shows(a *app, key string) bool {
	return slices.ContainsFunc(a.rows, func(r row) bool { return slices.Contains(r.held, key) })
}

// cells holds what a cell of one role cannot hold, and lets what comes wait for
// what goes.
func (w *world) cells(a *app, changes []*change) {
	whole := w.after(changes).app(a.id)
	for at, c := range changes {
		if c.app != a.id || c.verb != "grant" {
			continue
		}
		roles := 0
		for _, r := range whole.rows {
			for _, key := range r.held {
				if w.renamed(changes, c) == a.account(r) && kind(key) == "role" {
					roles++
				}
			}
		}
		if roles > 1 {
			w.hold(c, "impossible")
			continue
		}
		for later, o := range changes {
			switch {
			case o.app != c.app || o.account != c.account || !o.narrows() || kind(o.thing) != "role":
			case later < at:
				c.needs = append(c.needs, o)
			default:
				w.hold(c, "impossible") // the cell is not free by then
			}
		}
	}
}
