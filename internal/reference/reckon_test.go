package reference

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
)

// today is the day on which every world begins.
const today = "2026-11-24"

// A change is one that should be in a plan.
type change struct {
	app, verb, account, person string
	thing, attribute           string
	before, after              string
	effect                     string
	holds                      []string
	needs                      []*change
	late                       bool
	second                     bool     // of an account that is not the one that counts of its person's
	room                       bool     // made in a cell for what is to come
	also                       []string // what comes or goes with it, sorted
	gone                       string   // what goes when a thing comes of which everybody has one

	// Of a definition: whether it gives more or less, and what.
	sense   int
	moved   []string
	instead []string  // what it no longer brings directly, as what is moved brings that
	waits   []*change // of what takes something: the definitions that give it back
}

func (c change) String() string {
	var needs []string
	for _, n := range c.needs {
		if !slices.Contains(needs, n.key()) {
			needs = append(needs, n.key())
		}
	}
	slices.Sort(needs)
	return fmt.Sprintf(
		"%s (%s) %q→%q %s, also %v, held by %v, needs %q",
		c.key(),
		c.person,
		c.before,
		c.after,
		c.effect,
		c.also,
		c.holds,
		needs,
	)
}

var gains = map[string]string{"group": "join", "role": "grant", "license": "assign", "place": "join", "policy": "join"}
var loses = map[string]string{"group": "leave", "role": "revoke", "license": "release", "place": "leave", "policy": "leave"}

// along is some things and all that they bring along as the application has it, and
// due what they bring once it is as the files have it.
func (a *app) along(keys []string) []string { return a.reach(keys, a.now) }

func (a *app) due(keys []string) []string { return a.reach(keys, a.then) }

// direct is some things without those that others of them bring along.
func (a *app) direct(keys []string) (out []string) {
	for _, k := range keys {
		brought := false
		for _, other := range keys {
			brought = brought || other != k && slices.Contains(a.due([]string{other}), k)
		}
		if !brought {
			out = append(out, k)
		}
	}
	return out
}

// holdings is what an account holds directly, by what its export shows.
func (a *app) holdings(r row) []string {
	if a.effective {
		return a.direct(r.held)
	}
	return r.held
}

func (p *person) here(today string) bool {
	return !p.away && (p.starts == "" || p.starts <= today) && (p.ends == "" || p.ends >= today)
}

func (k *kit) holds(p *person, today string) bool {
	if k.holder != "" {
		return k.holder == p.id && (k.until == "" || k.until >= today)
	}
	return k.department == p.department
}

// due is what an application owes a person: whether they have an account, and what
// they hold directly.
func (w *world) due(p *person, a *app) (account bool, want []string) {
	if !p.here(w.today) || a.scope != "" && a.scope == p.department {
		return false, nil
	}
	for _, k := range w.kits {
		keys, gives := k.gives[a.id]
		if k.holds(p, w.today) && gives {
			account = true
			for _, x := range keys {
				if !slices.Contains(want, x) && !(lone(x) && slices.ContainsFunc(want, lone)) {
					want = append(want, x)
				}
			}
		}
	}
	for _, t := range a.things {
		if account && t.usual && !slices.ContainsFunc(want, lone) {
			want = append(want, t.key)
		}
	}
	return account, a.direct(want)
}

// usual is the thing that everybody has of a kind to whom no kit gives another, "" for none.
func (a *app) usual() string {
	for _, t := range a.things {
		if t.usual {
			return t.key
		}
	}
	return ""
}

// differ reports whether kits of a person give different things of which everybody has one.
func (w *world) differ(p *person, a *app) bool {
	var given []string
	for _, k := range w.kits {
		for _, x := range k.gives[a.id] {
			if k.holds(p, w.today) && lone(x) && !slices.Contains(given, x) {
				given = append(given, x)
			}
		}
	}
	return len(given) > 1
}

// sets is the title that the kits of a person set in an application: where they
// differ, that of the first kit, and clash says so.
func (w *world) sets(p *person, a *app) (title string, clash bool) {
	for _, k := range w.kits {
		if t := k.sets[a.id]; t != "" && k.holds(p, w.today) {
			clash = clash || title != "" && title != t
			if title == "" {
				title = t
			}
		}
	}
	return title, clash
}

// titled reports whether any kit sets titles in an application: if none does, they
// are left alone.
func (w *world) titled(a *app) bool {
	return slices.ContainsFunc(w.kits, func(k kit) bool { return k.sets[a.id] != "" })
}

// lifted reports whether a guard is taken away in an application.
func (w *world) lifted(guard, app string) bool {
	return slices.ContainsFunc(w.lifts, func(l lift) bool { return l.guard == guard && (l.app == "" || l.app == app) })
}

// rowsOf are a person's accounts, the one that counts first.
func (w *world) rowsOf(a *app, p *person) (out []row) {
	for _, r := range a.rows {
		if o := w.owner(a, r); o != nil && o.id == p.id {
			out = append(out, r)
		}
	}
	slices.SortFunc(out, func(x, y row) int {
		if (a.account(x) == a.accountOf(p)) != (a.account(y) == a.accountOf(p)) {
			if a.account(x) == a.accountOf(p) {
				return -1
			}
			return 1
		}
		return strings.Compare(a.account(x), a.account(y))
	})
	return out
}

// reckon finds every change that is due, without those that were rejected.
func (w *world) reckon(rejected []string) (out []*change) {
	for i := range w.apps {
		a := &w.apps[i]
		out = append(out, w.redefine(a)...)
		for j := range w.people {
			p := &w.people[j]
			out = append(out, w.person(a, p)...)
		}
		for _, r := range a.rows {
			if w.owner(a, r) != nil || strings.EqualFold(a.account(r), a.protect) {
				continue
			}
			switch {
			case a.strays == "remove" && !r.open:
				out = append(out, &change{app: a.id, verb: "remove", account: a.account(r), effect: "narrows"})
			case a.strays != "report" && r.open:
				out = append(out, &change{app: a.id, verb: "suspend", account: a.account(r), effect: "narrows"})
			}
		}
	}
	// What was rejected is left out, and so is what needs it.
	gone := map[*change]bool{}
	for range out {
		for _, c := range out {
			gone[c] = gone[c] || slices.Contains(rejected, c.same())
			for _, o := range out {
				gone[c] = gone[c] || gone[o] && w.follows(c, o)
			}
		}
	}
	return slices.DeleteFunc(out, func(c *change) bool { return gone[c] })
}

// follows reports whether a change needs another by its nature: what an account
// gets needs its making or restoring, and what is doubled goes once what brings it
// is there.
func (w *world) follows(c, o *change) bool {
	if w.waitsForDefinition(c, o) {
		return true
	}
	if c.doubled() && o.bringing() && o.sense > 0 && c.app == o.app && !w.stays(c) {
		a := w.app(c.app)
		return o.thing == c.thing || slices.Contains(a.due(o.moved), c.thing)
	}
	if c.app != o.app || c.person != o.person {
		return false
	}
	if (o.verb == "create" || o.verb == "restore") && o.account == c.account {
		return c.gives() || c.verb == "update"
	}
	return c.doubled() && o.gives() && o.account == c.account &&
		slices.Contains(w.app(c.app).due([]string{o.thing}), c.thing) && !w.stays(c)
}

// stays reports whether what brings a doubled thing along is there already, and
// stays.
func (w *world) stays(c *change) bool {
	a := w.app(c.app)
	r, _ := a.row(c.account)
	_, want := w.due(w.owner(a, r), a)
	return slices.ContainsFunc(a.holdings(r), func(t string) bool {
		kept := slices.Contains(want, t) || !a.tidy && slices.Contains(a.due(want), t)
		return t != c.thing && kept && slices.Contains(a.reach([]string{t}, a.between), c.thing)
	})
}

// same is the same for the same difference on another day.
func (c *change) same() string {
	x := *c
	if x.person != "" && !x.second {
		x.account = "" // however it is spelled
	}
	return x.key() + " of " + c.person + " " + c.before + c.gone + "→" + c.after
}

func (c *change) key() string {
	key := strings.TrimSpace(c.app + " " + c.verb + " " + c.account + " " + c.thing + c.attribute)
	if c.verb == "redefine" {
		key += " to " + c.after // a list may be changed in two steps
	}
	return key
}

func (w *world) owner(a *app, r row) *person {
	if r.lost {
		return nil
	}
	for file := range 2 { // of two with the same value, the first in the files
		for i := range w.people {
			p := &w.people[i]
			of := a.accountOf(p)
			if of == "" && r.email == "" {
				of = p.user // of one that is made in thought, and found by nothing
			}
			if p.file == file && of != "" && strings.EqualFold(of, a.account(r)) {
				return p
			}
		}
	}
	return nil
}

// gain gives an account a thing. Where everybody has one it goes instead of another: that narrows access where what goes
// is sensitive and what comes is not.
func (a *app) gain(r row, key string) change {
	c := change{verb: gains[kind(key)], account: a.account(r), thing: key, effect: "widens"}
	for _, k := range r.held {
		if lone(key) && lone(k) {
			c.gone = k
		}
	}
	if c.gone != "" && a.thing(c.gone).sensitive && !a.thing(key).sensitive {
		c.effect = "narrows"
	}
	return c
}

func (w *world) person(a *app, p *person) (out []*change) {
	second := false
	add := func(c change) {
		c.app, c.person, c.second = a.id, p.id, second
		out = append(out, &c)
	}
	account, want := w.due(p, a)
	rows := w.rowsOf(a, p)
	if len(rows) == 0 {
		if !account {
			return nil
		}
		add(change{verb: "create", account: cmp.Or(a.accountOf(p), p.user), effect: "widens"})
		for _, t := range want {
			add(change{verb: gains[kind(t)], account: cmp.Or(a.accountOf(p), p.user), thing: t, effect: "widens"})
		}
		return out
	}
	for n, r := range rows {
		second = n > 0
		held := a.holdings(r)
		lose := func(t string) { add(change{verb: loses[kind(t)], account: a.account(r), thing: t, effect: "narrows"}) }
		if !account {
			if r.open {
				add(change{verb: "suspend", account: a.account(r), effect: "narrows"})
			}
			if p.here(w.today) {
				for _, t := range held {
					if !lone(t) {
						lose(t)
					}
				}
			}
			continue
		}
		if n > 0 {
			for _, t := range held {
				if !slices.Contains(a.due(want), t) && !lone(t) {
					lose(t)
				}
			}
			continue
		}
		if !r.open {
			add(change{verb: "restore", account: a.account(r), effect: "widens"})
		}
		for _, x := range [][3]string{
			{"userName", r.user, p.user}, {"displayName", r.name, p.name}, {"email", r.email, p.email},
		} {
			if x[1] != x[2] {
				add(change{
					verb:      "update",
					account:   a.account(r),
					attribute: x[0],
					before:    x[1],
					after:     x[2],
					effect:    "keeps",
				})
			}
		}
		if title, _ := w.sets(p, a); title != "" && title != r.title {
			add(change{
				verb:      "update",
				account:   a.account(r),
				attribute: "title",
				before:    r.title,
				after:     title,
				effect:    "keeps",
			})
		}
		for _, t := range want {
			if !slices.Contains(held, t) {
				add(a.gain(r, t))
			}
		}
		for _, t := range held {
			inner := func(k string) bool { return a.thing(k).insiders }
			switch {
			case slices.Contains(want, t) && w.outsiders && p.outsider && slices.ContainsFunc(a.due([]string{t}), inner):
				// It is never an outsider's; where everybody has one, the default comes instead.
				if u := a.usual(); lone(t) && u != "" && u != t && !inner(u) {
					add(a.gain(r, u))
				} else {
					lose(t)
				}
			case slices.Contains(want, t) || lone(t): // that one is exchanged, or stays
			case !slices.Contains(a.due(want), t):
				lose(t)
			case a.single && kind(t) == "role" && slices.ContainsFunc(want, func(x string) bool {
				return kind(x) == "role" && !slices.Contains(held, x)
			}):
				lose(t) // its cell is wanted
				out[len(out)-1].room = true
			case a.tidy:
				add(change{verb: loses[kind(t)], account: a.account(r), thing: t, effect: "keeps"})
			}
		}
	}
	return out
}
