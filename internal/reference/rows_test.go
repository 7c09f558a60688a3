// Package reference works plans out a second time, from docs/ alone and as simply as
// can be: loops over rows of text, no index, no numbers for names, no code of the
// core. What it finds is compared with what Pravet drafts, carries out and
// writes, on small worlds of every sort.
package reference

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
)

// A world is a desired state and what two applications hold, as rows.
type world struct {
	today     string
	people    []person
	kits      []kit
	apps      []app
	apart     [][]string // each two things that are kept apart, as app/kind/name
	may       []string   // ids of people whom an exception lets hold those of the first
	lifts     []lift
	outsiders bool              // contractors are, with a last day within six months and a sponsor
	backing   bool              // what is judged undoes a run
	tried     map[string]trial  // in rehearsal; nil where nothing is promoted
	more      map[string]string // file → what stands at its end besides

	rosterShrink string
	before       map[string]int // accounts of each application when nothing was suspicious, people under ""
}

// A lift takes a guard away, in one application or, with "", in all.
type lift struct{ guard, app string }

type person struct {
	id, user, name, email, department, starts, ends string
	away, outsider, service                         bool
	sponsor                                         string
	file                                            int
}

type kit struct {
	name, department string // held by a rule
	holder, until    string // or by name
	rule             string // instead of the department
	rank             int
	gives            map[string][]string // application → things, as kind/name
	sets             map[string]string   // application → title
}

type app struct {
	id, format, strays, scope, protect string
	by                                 string // userName or email: what accounts are matched by
	effective, tidy, fixed             bool
	things                             []thing
	removals, suspensions, narrowing   string
	shrink                             string // of the export
	limits                             limits
	old                                bool // the export
	single                             bool // a cell holds one role
	rows                               []row
	layout                             int    // of the files that are written
	folder                             string // of its export; "" for exports
	promoted                           bool   // from the environment rehearsal
	defs                               bool   // the export shows definitions
	defined                            []definition
	nested                             [][2]string // the first group is within the second
	after                              *app        // once the plan is carried out that is judged
	early                              []*change   // what takes from its definitions before anything is given
}

type thing struct {
	key            string // kind/name
	brings         []string
	seats, atLeast int // -1 and 0 where there is no limit
	needs          bool
	absent         bool // the application itself does not have it
	sensitive      bool
	insiders       bool
	usual          bool // of its kind, for whom no kit gives another

	// Of one that is our own:
	define, retire bool
	title          string
	permissions    []string
}

// account is what an account is called: by what it is matched.
func (a *app) account(r row) string {
	if a.by == "email" && r.email != "" {
		return r.email
	}
	return r.user
}

// accountOf is what an account of a person is called.
func (a *app) accountOf(p *person) string {
	if a.by == "email" {
		return p.email
	}
	return p.user
}

// part marks the accounts that have nothing by which they could be anybody's: they are nobody's, under
// their own name.
func (a *app) part() {
	for i := range a.rows {
		r := &a.rows[i]
		// No two have one name, and none has that of an account that is yet to be made.
		if r.lost = a.by == "email" && r.email == ""; r.lost && !strings.HasPrefix(r.user, "own.") {
			r.user = fmt.Sprintf("own.%d.%s", i, strings.ToLower(r.user))
		}
	}
}

// A row is an account in an export.
type row struct {
	user, name, email, title string
	open                     bool
	lost                     bool     // see part
	held                     []string // kind/name, sorted
}

// kinds are the kinds of things; places and policies are of applications' own, and of policies everybody has one.
var kinds = []string{"group", "role", "license", "place", "policy"}

// own reports whether a thing is of a kind of the application's own.
func own(key string) bool { return kind(key) == "place" || lone(key) }

// lone reports whether a thing is of a kind of which everybody has one.
func lone(key string) bool { return kind(key) == "policy" }

func kind(key string) string { k, _, _ := strings.Cut(key, "/"); return k }

func name(key string) string { _, n, _ := strings.Cut(key, "/"); return n }

// draw makes a world from a number.
func draw(seed uint64) *world {
	r := rand.New(rand.NewPCG(seed, 7))
	one := func(of ...string) string { return of[r.IntN(len(of))] }
	w := &world{today: today}
	for i := range 1 + r.IntN(6) {
		p := person{
			id:         fmt.Sprintf("E%d", i),
			user:       fmt.Sprintf("user%d", i),
			name:       fmt.Sprintf("Person %d", i),
			file:       r.IntN(2),
			department: one("Deck", "Desk", "Office"),
			email:      fmt.Sprintf("p%d@marrowick.example", i),
		}
		switch r.IntN(9) {
		case 0:
			p.starts = one("2026-11-25", "2027-01-01")
		case 1:
			p.ends = one("2026-11-23", "2026-01-31")
		case 2:
			p.away = true
		case 3:
			p.starts, p.ends = "2026-11-24", "2026-11-24"
		case 4:
			p.email = ""
		case 5:
			p.starts = one("2020-01-01", "2021-01-01")
		}
		if i > 0 && r.IntN(8) == 0 { // somebody who has left has the address of somebody before them
			p.email, p.starts, p.ends, p.file = w.people[0].email, "", "2026-01-31", 1
		}
		w.people = append(w.people, p)
	}
	for a := range 1 + r.IntN(2) {
		w.apps = append(w.apps, drawApp(r, w, a))
	}
	for k := range r.IntN(5) {
		x := kit{
			name:  fmt.Sprintf("kit%d", k),
			rank:  r.IntN(3),
			gives: map[string][]string{},
			sets:  map[string]string{},
		}
		if r.IntN(4) == 0 {
			x.holder = w.people[r.IntN(len(w.people))].id
			x.until = one("", "2026-11-24", "2026-11-23")
		} else {
			x.department = one("Deck", "Desk", "Office")
		}
		for _, a := range w.apps {
			if r.IntN(4) == 0 {
				continue
			}
			x.gives[a.id] = []string{}
			if r.IntN(4) == 0 {
				x.sets[a.id] = one("Mate", "Clerk")
			}
			for _, t := range a.things {
				if r.IntN(3) == 0 && !t.retire && !(lone(t.key) && slices.ContainsFunc(x.gives[a.id], lone)) {
					x.gives[a.id] = append(x.gives[a.id], t.key)
				}
			}
		}
		if len(x.gives) == 0 {
			x.gives[w.apps[0].id] = []string{}
		}
		w.kits = append(w.kits, x)
	}
	var all []string
	for _, a := range w.apps {
		for _, t := range a.things {
			all = append(all, a.id+"/"+t.key)
		}
	}
	for range r.IntN(2) {
		if len(all) < 2 {
			break
		}
		x, y := all[r.IntN(len(all))], all[r.IntN(len(all))]
		if x != y && w.mayBeApart(x, y) {
			w.apart = append(w.apart, []string{x, y})
			if r.IntN(4) == 0 {
				w.may = append(w.may, w.people[0].id)
			}
		}
	}
	if r.IntN(3) == 0 {
		w.lifts = append(w.lifts, lift{one(liftable...), one("", w.apps[0].id)})
	}
	w.rosterShrink = one("100%", "0", "1", "30%")
	w.before = map[string]int{}
	return w
}

// liftable are guards that a decision may take away.
var liftable = []string{
	"removals", "suspensions", "narrowing", "export-shrink", "export-age", "roster-shrink", "double-account",
	"looks-alike", "fixed", "needs", "clash", "seats",
}

// mayBeApart reports whether nothing gives two things together by itself: that
// would be an error of the files.
func (w *world) mayBeApart(x, y string) bool {
	both := func(app string, keys []string) bool {
		a := w.app(app)
		if a == nil {
			return false
		}
		full := a.catalog(keys)
		return slices.Contains(prefixed(app, full), x) && slices.Contains(prefixed(app, full), y)
	}
	for _, a := range w.apps {
		for _, t := range a.things {
			if both(a.id, []string{t.key}) {
				return false
			}
		}
	}
	for _, k := range w.kits {
		var full []string
		for id, keys := range k.gives {
			full = append(full, prefixed(id, w.app(id).catalog(keys))...)
		}
		if slices.Contains(full, x) && slices.Contains(full, y) {
			return false
		}
	}
	return true
}

func prefixed(app string, keys []string) (out []string) {
	for _, k := range keys {
		out = append(out, app+"/"+k)
	}
	return out
}

func drawApp(r *rand.Rand, w *world, n int) app {
	one := func(of ...string) string { return of[r.IntN(len(of))] }
	a := app{
		id:     []string{"alpha", "beta"}[n],
		format: one("csv", "csv", "scim"),
		strays: one("report", "suspend", "remove"),
		tidy:   r.IntN(2) == 0,
		fixed:  r.IntN(2) == 0,
		scope:  one("", "", "Office"),
		layout: r.IntN(3),
	}
	a.effective = r.IntN(5) == 0
	a.old = r.IntN(12) == 0
	a.by = one("userName", "userName", "email")
	a.shrink = one("100%", "0", "1", "30%")
	a.single = a.format == "csv" && !a.effective && r.IntN(4) == 0
	for _, k := range kinds {
		if own(k) && (a.format != "csv" || a.effective || lone(k) && r.IntN(2) == 0) {
			continue // a kind of the application's own stands in a column
		}
		usual := r.IntN(4)
		many := r.IntN(3)
		if lone(k) {
			many += 2
		}
		for i := range many {
			a.things = append(a.things, thing{
				key: fmt.Sprintf("%s/%c%d", k, k[0], i), seats: -1, needs: !own(k) && r.IntN(6) == 0,
				sensitive: lone(k) && r.IntN(2) == 0, usual: lone(k) && usual == i,
			})
		}
	}
	for i := range a.things {
		t := &a.things[i]
		for _, u := range a.things[i+1:] { // only onwards, so that there is no circle
			if a.mayBring(*t, u) && r.IntN(4) == 0 {
				t.brings = append(t.brings, u.key)
			}
		}
		if kind(t.key) == "license" && r.IntN(3) > 0 {
			t.seats = r.IntN(4)
		}
		if r.IntN(5) == 0 {
			t.atLeast = 1 + r.IntN(min(2, len(w.people)))
		}
	}
	if a.format == "csv" && !a.effective && !a.single && r.IntN(2) == 0 {
		a.drawDefinitions(r)
	}
	a.removals, a.suspensions, a.narrowing = "100%", "100%", "100%"
	switch r.IntN(6) {
	case 0:
		a.removals = one("0", "1", "10%")
	case 1:
		a.suspensions = one("0", "1", "34%")
	case 2:
		a.narrowing = one("0", "1", "50%")
	}
	if last := len(a.things) - 1; a.format == "scim" && r.IntN(3) == 0 && last >= 0 && kind(a.things[0].key) == "group" {
		// Of two groups one is there, so that the application says which it has.
		if last > 0 && kind(a.things[1].key) == "group" {
			a.things[1].absent = true
		}
	}
	a.drawNested(r)
	held := func() (out []string) {
		roles := 0
		for _, t := range a.things {
			if r.IntN(3) != 0 || t.absent || a.single && kind(t.key) == "role" && roles > 0 ||
				lone(t.key) && slices.ContainsFunc(out, lone) {
				continue
			}
			if kind(t.key) == "role" {
				roles++
			}
			out = append(out, t.key)
		}
		return out
	}
	for _, p := range w.people {
		if r.IntN(4) == 0 {
			continue
		}
		x := row{user: p.user, name: p.name, email: p.email, open: r.IntN(3) > 0, held: held()}
		if r.IntN(5) == 0 {
			x.name = "Somebody"
		}
		if r.IntN(4) == 0 {
			x.title = one("Mate", "Clerk", "Cook")
		}
		if r.IntN(6) == 0 {
			x.email = one("", "old"+p.email)
		}
		if r.IntN(8) == 0 {
			x.user, x.email = strings.ToUpper(x.user), strings.ToUpper(x.email)
		}
		if a.by == "email" && slices.ContainsFunc(a.rows, func(o row) bool { return o.email == x.email }) {
			continue // two rows of one name are another story
		}
		a.rows = append(a.rows, x)
		if r.IntN(8) == 0 {
			y := row{user: "U" + p.user[1:], name: p.name, email: p.email, open: r.IntN(2) == 0, held: held()}
			if a.by == "email" && y.email != "" {
				y.email = "P" + y.email[1:]
			}
			again := func(o row) bool { return a.by == "email" && o.email != "" && o.email == y.email }
			if y.user != x.user && !slices.ContainsFunc(a.rows, again) {
				a.rows = append(a.rows, y)
			}
		}
	}
	for i := range r.IntN(3) {
		x := row{user: fmt.Sprintf("kiosk.%c", 'a'+i), name: "Kiosk", open: r.IntN(3) > 0, held: held()}
		switch {
		case a.by == "email":
			x.email = one("", x.user+"@marrowick.example")
			x.user = one(x.user, w.people[0].user)
		case r.IntN(6) == 0:
			x.email = w.people[0].email
		}
		a.rows = append(a.rows, x)
	}
	if r.IntN(4) == 0 && len(a.rows) > 0 {
		a.protect = a.account(a.rows[r.IntN(len(a.rows))])
	}
	a.part()
	r.Shuffle(len(a.rows), func(i, j int) { a.rows[i], a.rows[j] = a.rows[j], a.rows[i] })
	return a
}

func (w *world) app(id string) *app {
	for i := range w.apps {
		if w.apps[i].id == id {
			return &w.apps[i]
		}
	}
	return nil
}
