// Package review is the second front of a plan: a list of its causes that somebody goes through on a terminal, opens, and
// decides about, with keys or line by line. What is decided lives in desk.Review; here is only what is seen of it.
package review

import (
	"pravet/internal/core/model"
	"pravet/internal/core/outline"
	"pravet/internal/core/plan"
	"pravet/internal/desk"
)

// A rowKind is what a row of the list stands for.
type rowKind uint8

const (
	heading  rowKind = iota
	heldRow          // what one guard holds in one application
	lookRow          // what deserves a look for one reason
	groupRow         // a cause, or another group
	foldRow          // alike changes
	changeRow
)

// A row is one line of the list.
type row struct {
	kind  rowKind
	at    int // number in Outline.Held, Unusual, the groups, or the folds of the group
	group int // of a fold: the number of its group
	depth int
	key   string   // by which it is known when the list is made again
	ids   []string // the changes that it stands for
	open  bool
	says  string // of a heading
}

// A group is a cause, or what else changes are grouped by, with its folds.
type group struct {
	cause *outline.Cause // nil where changes are grouped by something else
	key   string
	folds []outline.Fold
	ids   []string
}

// A list is the changes of a review as they are listed: what is held first, then what deserves a look, then all, by cause.
type list struct {
	r      *desk.Review
	by     string // what they are grouped by
	filter string // "" for all
	attr   string // the attribute of people that they are grouped by, "" for something else

	all    []*plan.Change
	out    *outline.Outline
	groups []group
	opened map[string]bool
	picked map[string]bool // changes that were selected
	rows   []row
	wide   int // of the largest number of changes in a row
}

// newList lists all changes of a review by cause.
func newList(r *desk.Review) *list {
	l := &list{r: r, by: "cause", opened: map[string]bool{}, picked: map[string]bool{}, out: r.Outline, all: outline.All(r.Plan)}
	l.grouped()
	l.build()
	return l
}

// ask is the list of the changes that a filter leaves, grouped by something. The list that it is asked of stays as it is.
func (l *list) ask(by, filter string) (*list, error) {
	out, all := l.r.Outline, outline.All(l.r.Plan)
	if filter != "" {
		sel := *l.r.Selection
		sel.Choice = desk.Choice{Only: filter}
		var err error
		if all, _, err = sel.Changes(); err != nil {
			return nil, err
		}
		out = sel.Outline(all)
	}
	next := &list{r: l.r, by: by, filter: filter, all: all, out: out, opened: l.opened, picked: l.picked}
	if err := next.grouped(); err != nil {
		return nil, err
	}
	next.build()
	return next, nil
}

// grouped makes the groups.
func (l *list) grouped() error {
	l.groups, l.attr = nil, ""
	if l.by == "cause" {
		for n, folds := range l.out.ByCause() {
			c := &l.out.Causes[n]
			l.groups = append(l.groups, group{cause: c, key: c.ID, folds: folds, ids: c.Changes})
		}
		return nil
	}
	key, attr, err := l.r.Key(l.out, l.by)
	if err != nil {
		return err
	}
	l.attr = attr
	for _, g := range l.out.By(key) {
		l.groups = append(l.groups, group{key: g.Key, folds: g.Folds, ids: g.Changes})
	}
	return nil
}

// build makes the rows.
func (l *list) build() {
	l.rows = l.rows[:0]
	if len(l.out.Held) > 0 {
		l.rows = append(l.rows, row{kind: heading, key: "#held", says: sayHeldHeading()})
	}
	for i := range l.out.Held {
		h := &l.out.Held[i]
		l.add(row{kind: heldRow, at: i, key: "held " + h.App + " " + h.Guard, ids: h.Changes})
	}
	if len(l.out.Unusual) > 0 {
		l.rows = append(l.rows, row{kind: heading, key: "#look", says: sayLookHeading()})
	}
	for i := range l.out.Unusual {
		u := &l.out.Unusual[i]
		l.add(row{kind: lookRow, at: i, key: "look " + string(u.Mark), ids: u.Changes})
	}
	l.rows = append(l.rows, row{kind: heading, key: "#all", says: sayGroupHeading(l.by)})
	for i := range l.groups {
		g := &l.groups[i]
		if !l.add(row{kind: groupRow, at: i, key: "group " + g.key, ids: g.ids}) {
			continue
		}
		for k := range g.folds {
			f := &g.folds[k]
			if len(f.Changes) == 1 {
				l.rows = append(l.rows, row{kind: changeRow, depth: 1, key: "group " + g.key + "/" + f.Changes[0], ids: f.Changes})
				continue
			}
			l.add(row{kind: foldRow, group: i, at: k, depth: 1, key: "group " + g.key + "/" + f.ID, ids: f.Changes})
		}
	}
}

// add adds a row, with the changes of an open one below it; it reports whether it is open.
func (l *list) add(x row) bool {
	x.open = l.opened[x.key]
	l.wide = max(l.wide, len(model.Thousands(len(x.ids))))
	l.rows = append(l.rows, x)
	if !x.open || x.kind == groupRow {
		return x.open
	}
	for _, id := range x.ids {
		l.rows = append(l.rows, row{kind: changeRow, depth: x.depth + 1, key: x.key + "/" + id, ids: []string{id}})
	}
	return true
}

// turn opens or closes a row.
func (l *list) turn(at int, open bool) {
	if at < 0 || at >= len(l.rows) || l.rows[at].kind == heading || l.rows[at].kind == changeRow {
		return
	}
	l.opened[l.rows[at].key] = open
	l.build()
}

// above is the row that a row belongs to: the nearest above that is less deep.
func (l *list) above(at int) int {
	for i := at - 1; i >= 0; i-- {
		if l.rows[i].kind != heading && l.rows[i].depth < l.rows[at].depth {
			return i
		}
	}
	return at
}

// find is the number of the row with a key, -1 where there is none.
func (l *list) find(key string) int {
	for i := range l.rows {
		if l.rows[i].key == key {
			return i
		}
	}
	return -1
}

// pick selects the changes of a row or, where all of them are selected, leaves them out again.
func (l *list) pick(at int) {
	ids := l.rows[at].ids
	all := len(ids) > 0
	for _, id := range ids {
		all = all && l.picked[id]
	}
	for _, id := range ids {
		if all {
			delete(l.picked, id)
		} else {
			l.picked[id] = true
		}
	}
}

// chosen are the changes that a decision is about: those that are selected, else those of a row. They stand in the plan's order.
func (l *list) chosen(at int) (ids []string) {
	if len(l.picked) == 0 {
		if at < 0 || at >= len(l.rows) {
			return nil
		}
		return l.rows[at].ids
	}
	for i := range l.r.Plan.Changes {
		if id := l.r.Plan.Changes[i].ID; l.picked[id] {
			ids = append(ids, id)
		}
	}
	return ids
}

// next is the next row below that has something undecided or held, and is as deep as can be seen; at where there is none.
func (l *list) next(at int) int {
	for n := 1; n <= len(l.rows); n++ {
		i := (at + n) % len(l.rows)
		x := &l.rows[i]
		if x.kind == heading || x.open {
			continue
		}
		for _, id := range x.ids {
			if state, _ := l.r.State(id); state == "undecided" || state == "held" {
				return i
			}
		}
	}
	return at
}

// states counts the changes of a row by what is decided about them, with those that this review decides apart.
func (l *list) states(ids []string) (on, fresh map[string]int) {
	on, fresh = map[string]int{}, map[string]int{}
	for _, id := range ids {
		if state, by := l.r.State(id); by {
			fresh[state]++
		} else {
			on[state]++
		}
	}
	return on, fresh
}

// sums is what is decided about all changes of the plan.
func (l *list) sums() string {
	ids := make([]string, len(l.r.Plan.Changes))
	for i := range l.r.Plan.Changes {
		ids[i] = l.r.Plan.Changes[i].ID
	}
	return sayStates(l.states(ids))
}

// allPicked reports whether all of some changes are selected.
func (l *list) allPicked(ids []string) bool {
	for _, id := range ids {
		if !l.picked[id] {
			return false
		}
	}
	return len(ids) > 0
}

// effect is that of a row's changes, where it is the same for all.
func (l *list) effect(x *row) (model.Effect, bool) {
	switch x.kind {
	case foldRow:
		return l.groups[x.group].folds[x.at].Effect, true
	case changeRow:
		return l.r.Change(x.ids[0]).Effect, true
	}
	return 0, false
}

// text is what a row says, what that follows from where it is a cause, and what is decided about its changes.
func (l *list) text(x *row) (text, because, tail string) {
	switch x.kind {
	case heldRow:
		text = sayHeld(&l.out.Held[x.at])
	case lookRow:
		u := &l.out.Unusual[x.at]
		text = sayLook(l.r.Plan, u, l.r.Change(u.Changes[0]))
	case groupRow:
		if g := &l.groups[x.at]; g.cause != nil {
			text, because = sayCauseOf(g.cause, g.folds)
		} else {
			text = sayGroup(l.by, l.attr, g.key)
		}
	case foldRow:
		text = sayFold(&l.groups[x.group].folds[x.at])
	case changeRow:
		c := l.r.Change(x.ids[0])
		return sayChange(l.r, c), "", sayState(l.r.State(c.ID))
	}
	if len(x.ids) == 1 {
		return text, because, sayState(l.r.State(x.ids[0]))
	}
	return text, because, sayStates(l.states(x.ids))
}
