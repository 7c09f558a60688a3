package reference

import (
	"cmp"
	"slices"
	"strconv"
	"strings"
	"time"
)

// The order of verbs in a plan. What is doubled comes after all of them.
var verbs = []string{
	"define",
	"redefine",
	"suspend",
	"release",
	"leave",
	"revoke",
	"remove",
	"more", // by a redefinition
	"create",
	"restore",
	"update",
	"assign",
	"join",
	"grant",
	"doubled",
	"retire",
}

// attributes are those of accounts, in their order.
var attributes = []string{"userName", "displayName", "email", "title"}

func (c *change) narrows() bool { return c.effect == "narrows" }

// gives reports whether a change gives a thing to an account.
func (c *change) gives() bool { return slices.Contains([]string{"assign", "join", "grant"}, c.verb) }

func (c *change) doubled() bool { return c.effect == "keeps" && loses[kind(c.thing)] == c.verb }

// brings reports whether a thing is what a change gives or takes, or comes along
// with it, as definitions are or are to be.
func (w *world) brings(c *change, app, key string) bool {
	if c.app != app || c.thing == "" || c.ofThing() && !(c.bringing() && c.sense != 0) {
		return false
	}
	moved := []string{c.thing}
	if c.ofThing() {
		moved = c.moved
	}
	a := w.app(app)
	return slices.Contains(a.along(moved), key) || slices.Contains(a.planned(moved), key)
}

// takes reports whether a change takes a thing from an account, or what brings it along.
func (w *world) takes(c *change, app, key string) bool {
	if c.gone == "" {
		return c.narrows() && w.brings(c, app, key)
	}
	a := w.app(c.app)
	return c.app == app && (slices.Contains(a.along([]string{c.gone}), key) || slices.Contains(a.planned([]string{c.gone}), key))
}

// ago is the day so many days before today.
func (w *world) ago(days int) string {
	today, _ := time.Parse(time.DateOnly, w.today)
	return today.AddDate(0, 0, -days).Format(time.DateOnly)
}

func one(is bool) int {
	if is {
		return 1
	}
	return 0
}

func (w *world) hold(c *change, guard string) {
	if !slices.Contains(c.holds, guard) && !w.lifted(guard, c.app) {
		c.holds = append(c.holds, guard)
		slices.Sort(c.holds)
	}
}

// order sorts changes as a plan has them.
func (w *world) order(changes []*change) {
	place := func(c *change) int {
		switch {
		case c.doubled() || c.late || len(c.waits) > 0 && c.sense < 0:
			return slices.Index(verbs, "doubled")
		case c.verb == "redefine" && c.sense > 0:
			return slices.Index(verbs, "more")
		}
		return slices.Index(verbs, c.verb)
	}
	at := func(c *change) int {
		for i, t := range w.app(c.app).things {
			if t.key == c.thing {
				return 100*slices.Index([]string{"license", "group", "role", "place", "policy"}, kind(t.key)) + i
			}
		}
		return -1
	}
	slices.SortFunc(changes, func(x, y *change) int {
		return cmp.Or(
			cmp.Compare(place(x), place(y)),
			cmp.Compare(x.app, y.app),
			cmp.Compare(x.person, y.person),
			cmp.Compare(x.account, y.account),
			w.byDefinition(x, y),
			cmp.Compare(at(x), at(y)),
			cmp.Compare(x.attribute, y.attribute)*one(x.ofThing()),
			cmp.Compare(slices.Index(attributes, x.attribute), slices.Index(attributes, y.attribute)),
			cmp.Compare(slices.Index(verbs, x.verb), slices.Index(verbs, y.verb)),
		)
	})
}

// limit is a number or a percentage, of which a part counts as none unless it is
// the only one.
func limit(s string, whole int) int {
	n, _ := strconv.Atoi(strings.TrimSuffix(s, "%"))
	if !strings.HasSuffix(s, "%") {
		return n
	}
	of := n * whole / 100
	if n > 0 && of == 0 {
		return 1
	}
	return of
}

// free is a plan's changes that nothing holds.
func free(changes []*change) (out []*change) {
	for _, c := range changes {
		if len(c.holds) == 0 {
			out = append(out, c)
		}
	}
	return out
}

// judge puts changes in their order, finds what each needs, and holds what the
// guards hold.
func (w *world) judge(changes []*change) {
	w.order(changes)
	whole := w.settled(changes)
	for i := range w.apps {
		w.apps[i].after = &whole.apps[i]
	}
	w.belong(changes)
	w.reached(changes)
	w.order(changes)
	w.waiting(changes)
	w.order(changes)
	w.known(changes)
	w.along(changes)
	for _, c := range changes {
		for _, o := range changes {
			if w.follows(c, o) {
				c.needs = append(c.needs, o)
			}
		}
	}
	for i := range w.apps {
		w.simple(&w.apps[i], changes)
		w.used(&w.apps[i], changes)
		w.limited(&w.apps[i], changes)
		w.foreign(&w.apps[i], changes)
		if w.apps[i].single {
			w.cells(&w.apps[i], changes)
		}
	}
	for n, pair := range w.apart {
		w.kept(n, pair, changes)
	}
	rest := w.settled(free(changes))
	for i := range w.apps {
		for _, t := range w.apps[i].things {
			if t.atLeast > 0 {
				w.stay(rest, &w.apps[i], t, changes)
			}
		}
		for _, t := range w.apps[i].things {
			if t.seats >= 0 {
				w.seated(&w.apps[i], t, changes)
			}
		}
	}
	for _, c := range changes {
		comes := func(o *change) bool { return o.app == c.app && o.account == c.account && o.verb == "grant" }
		if c.room && !slices.ContainsFunc(free(changes), comes) {
			w.hold(c, "impossible")
		}
	}
	for {
		_, refused := w.carry(changes, free(changes), true)
		if len(refused) == 0 {
			return
		}
		for c, guard := range refused {
			w.hold(c, guard)
		}
	}
}

// along finds what comes or goes with each change, besides the thing itself.
func (w *world) along(changes []*change) {
	for n, c := range changes {
		c.also = nil
		if c.ofThing() || c.verb == "create" || c.verb == "update" {
			continue
		}
		a := w.app(c.app)
		first, _ := a.row(c.account)
		held := a.holdings(first) // before all
		step := func(is []string, o *change) []string {
			switch {
			case o.app != c.app || o.account != c.account || o.ofThing():
			case o.verb == "remove":
				return nil
			case o.gives():
				return append(less(is, []string{o.gone, o.thing}), o.thing)
			case o.thing != "":
				return less(is, []string{o.thing})
			}
			return is
		}
		was := slices.Clone(held)
		for _, o := range changes[:n] {
			was = step(was, o)
		}
		is := step(slices.Clone(was), c)
		end := is
		for _, o := range changes[n+1:] {
			end = step(slices.Clone(end), o)
		}
		between := func(keys []string) []string { return a.reach(keys, a.between) }
		switch {
		case c.verb == "suspend", c.verb == "remove":
			c.also = between(was)
		case c.verb == "restore":
			c.also = a.planned(is)
		case c.gives():
			c.also = less(less(a.planned(is), a.planned(was)), a.along(held))
		default:
			c.also = less(less(between(was), between(is)), a.planned(end))
		}
		c.also = slices.Sorted(slices.Values(less(c.also, []string{c.thing})))
	}
}

// known finds what is given though it was there before, brought along by something
// else: such a change keeps access.
func (w *world) known(changes []*change) {
	for n, c := range changes {
		if !c.gives() {
			continue
		}
		a := w.app(c.app)
		first, _ := a.row(c.account)
		held := a.holdings(first)
		is := slices.Clone(held) // before this change
		for _, o := range changes[:n] {
			switch {
			case o.app != c.app || o.account != c.account:
			case o.gives():
				is = append(is, o.thing)
			case o.thing != "":
				is = less(is, []string{o.thing})
			}
		}
		gained := less(a.planned(append(slices.Clone(is), c.thing)), a.planned(is))
		if len(less(gained, a.along(held))) == 0 {
			c.effect = "keeps"
		}
	}
}

// simple holds by the guards that look at one change, or count.
func (w *world) simple(a *app, changes []*change) {
	removed, suspended, open := 0, 0, 0
	narrowed := map[string]bool{}
	for _, r := range a.rows {
		if r.open {
			open++
		}
	}
	for _, c := range changes {
		if c.app != a.id {
			continue
		}
		if c.verb == "remove" {
			removed++
		}
		if c.verb == "suspend" {
			suspended++
		}
		switch {
		case c.narrows() && c.ofThing():
			for _, r := range w.through(c, changes, false) {
				narrowed[a.account(r)] = true
			}
		case c.narrows():
			narrowed[c.account] = true
		}
	}
	for _, c := range changes {
		if c.app != a.id {
			continue
		}
		if c.verb == "remove" && removed > limit(a.removals, len(a.rows)) {
			w.hold(c, "removals")
		}
		if c.verb == "suspend" && suspended > limit(a.suspensions, open) {
			w.hold(c, "suspensions")
		}
		if c.narrows() && len(narrowed) > limit(a.narrowing, len(a.rows)) {
			w.hold(c, "narrowing")
		}
		if before := w.before[a.id]; len(a.rows) > 0 && before-len(a.rows) > limit(a.shrink, before) {
			w.hold(c, "export-shrink")
		}
		if a.old {
			w.hold(c, "export-age")
		}
		if before := w.before[""]; c.narrows() && before-len(w.people) > limit(w.rosterShrink, before) {
			w.hold(c, "roster-shrink")
		}
		if len(a.rows) == 0 {
			w.hold(c, "export-empty")
		}
		if a.protect != "" && c.account != "" && strings.EqualFold(c.account, a.protect) {
			w.hold(c, "protected")
		}
		if r, ok := a.row(c.account); ok && r.lost && a.format == "scim" {
			w.hold(c, "impossible") // nothing finds it again
		}
		if a.fixed && c.attribute == "userName" {
			w.hold(c, "fixed")
		}
		if last := w.tried[c.touches()]; w.tried != nil && (last.does != w.does(c) || last.on < w.ago(7)) {
			w.hold(c, "promotion")
		}
		if w.backing && c.effect == "widens" && c.person == "" && !c.ofThing() {
			w.hold(c, "not-here") // it is nobody's
		}
		for i := range w.people {
			p := &w.people[i]
			if p.id != c.person {
				continue
			}
			if _, clash := w.sets(p, a); clash && (c.verb == "create" || c.attribute == "title") {
				w.hold(c, "clash")
			}
			if c.gives() && lone(c.thing) && w.differ(p, a) {
				w.hold(c, "clash")
			}
			if len(w.rowsOf(a, p)) > 1 && !c.narrows() {
				w.hold(c, "double-account")
			}
			for _, t := range a.things {
				told := slices.ContainsFunc(a.defined, func(d definition) bool { return kind(d.key) == "group" })
				undefined := a.defs && !t.define && a.definition(t.key) == nil && (kind(t.key) == "role" || kind(t.key) == "group" && told)
				if c.gives() && t.key == c.thing && (undefined || t.absent && !w.shows(a, t.key)) {
					w.hold(c, "unknown-name")
				}
				if c.gives() && t.key == c.thing && t.needs && p.email == "" {
					w.hold(c, "needs")
				}
			}
			for _, r := range a.rows {
				same := r.email != "" && strings.EqualFold(r.email, p.email) || strings.EqualFold(r.user, p.user)
				nobodys := w.owner(a, r) == nil
				if c.verb == "create" && nobodys && same {
					w.hold(c, "looks-alike")
				}
			}
			if c.verb == "create" && a.accountOf(p) == "" {
				w.hold(c, "impossible")
			}
			if last := w.tried[c.touches()]; w.tried != nil && (last.does != w.does(c) || last.on < w.ago(7)) {
				w.hold(c, "promotion")
			}
			if w.backing && c.effect == "widens" && !p.here(w.today) {
				w.hold(c, "not-here")
			}
			for j := range w.people {
				o := a.accountOf(&w.people[j])
				if j != i && o != "" && strings.EqualFold(o, a.accountOf(p)) {
					w.hold(c, "shared-account")
				}
			}
		}
	}
}

// renamed is how the account of a change is called after a plan.
func (w *world) renamed(changes []*change, c *change) string {
	return w.name(changes, c.app, c.account)
}

func (w *world) name(changes []*change, app, account string) string {
	for _, o := range changes {
		if o.app == app && o.account == account && o.attribute == w.app(app).by {
			return o.after
		}
	}
	return account
}
