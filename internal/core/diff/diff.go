// Package diff compares what is due with what an export shows and returns
// every difference as one change. It orders nothing, explains nothing and
// holds nothing back; that is for core/order, core/explain and core/guard.
package diff

import (
	"slices"
	"sync"

	"pravet/internal/core/entitle"
	"pravet/internal/core/model"
	"pravet/internal/core/stage"
	"pravet/internal/core/table"
)

// Input is what is compared. Accounts is nil for an application that was not
// selected.
type Input struct {
	People   *model.People
	Apps     []*model.App
	Accounts []*model.Accounts
	Due      *entitle.Result
	Stages   []stage.Stage
}

// A Why is the kind of cause of a change; the places follow from it.
type Why uint8

// The causes.
const (
	Gives      Why = iota // a kit gives it
	NotGiven              // no kit of the person gives it
	OutOfScope            // the application's scope leaves the person out
	NothingDue            // no kit gives anything in the application
	IsAway                // the person is away
	IsNotYet              // the person has not started
	IsGone                // the person's last day is over
	Follows               // the attribute follows the person's
	KitSets               // a kit sets the attribute
	IsStray               // the account belongs to nobody
	IsDouble              // something else brings it along
	IsDefined             // the catalog defines it, or ends it
)

// stageWhy is why an account of someone who is not here is suspended.
var stageWhy = map[stage.Stage]Why{stage.Away: IsAway, stage.NotYet: IsNotYet, stage.Gone: IsGone}

// None stands for no account, person, thing or attribute.
const None int32 = -1

// A Change is one difference, by numbers.
type Change struct {
	App, Person, Account int32
	Thing, Attr          int32 // Attr numbers App.Attrs
	Verb                 model.Verb
	Why                  Why
	Key                  string // the account's match value
	Late                 bool   // carried out after what widens; see core/order
	Before, After        string

	Field    string // of a redefinition: Title, Permissions or Brings
	Sense    Sense
	From, To []string // of a list
	Through  []int32  // the accounts that gain or lose something by it
	Depth    int      // of a definition: how many of what it brings along stand below it, one below the other
}

// Effect is what the change does to access. To take away what something else
// brings along keeps it, and so does a redefinition that reaches nobody.
func (c *Change) Effect() model.Effect {
	switch {
	case c.Why == IsDouble:
		return model.Keeps
	case len(c.Through) > 0 && c.Sense == More:
		return model.Widens
	case len(c.Through) > 0 && c.Sense == Less:
		return model.Narrows
	}
	return c.Verb.Effect()
}

// A Pair names two persons, or two accounts, that stand for one.
type Pair struct {
	App           int32
	First, Second int32
}

// A Double is a thing held directly although something else that is due
// brings it along.
type Double struct{ App, Account, Thing int32 }

// Result is all differences.
type Result struct {
	Changes   []Change
	AccountOf [][]int32 // application → person → account, or None
	PersonOf  [][]int32 // application → account → person, or None
	Accounts  []Pair    // two accounts for one person; First is the one compared
	Persons   []Pair    // two persons for one account
	Doubles   []Double
	Strays    []Change // strays that are only reported, Verb unused
}

// Compute compares, the applications side by side. It costs O(people +
// accounts) for each, and a set comparison for each distinct pair of sets.
func Compute(in Input) *Result {
	return sideBySide(in, func(w *walker) {
		w.match()
		w.definitions()
		w.persons()
		w.strays()
	})
}

// Match only finds whose each account is. Of the input, people, applications
// and accounts are looked at.
func Match(in Input) *Result { return sideBySide(in, (*walker).match) }

func sideBySide(in Input, walk func(*walker)) *Result {
	parts := make([]*walker, len(in.Apps))
	var wait sync.WaitGroup
	for a, app := range in.Apps {
		if in.Accounts[a] == nil {
			continue
		}
		w := &walker{in: in, a: int32(a), app: app, accounts: in.Accounts[a], people: in.People.Column(app.MatchPerson()), deltas: map[uint64]*delta{}}
		parts[a] = w
		wait.Go(func() { walk(w) })
	}
	wait.Wait()
	out := &Result{AccountOf: make([][]int32, len(in.Apps)), PersonOf: make([][]int32, len(in.Apps))}
	for a, w := range parts {
		if w == nil {
			continue
		}
		out.AccountOf[a], out.PersonOf[a] = w.accountOf, w.personOf
		out.Changes = append(out.Changes, w.out.Changes...)
		out.Accounts = append(out.Accounts, w.out.Accounts...)
		out.Persons = append(out.Persons, w.out.Persons...)
		out.Doubles = append(out.Doubles, w.out.Doubles...)
		out.Strays = append(out.Strays, w.out.Strays...)
	}
	return out
}

type walker struct {
	in       Input
	a        int32
	app      *model.App
	accounts *model.Accounts
	people   *table.Column // the match attribute of each person
	out      Result        // of this application

	personOf, accountOf []int32
	deltas              map[uint64]*delta
	follows             []*table.Column
}

// match finds whose each account is.
func (w *walker) match() {
	people, clashes := w.in.People.Seek(w.app.MatchPerson())
	for _, p := range clashes {
		w.out.Persons = append(w.out.Persons, Pair{w.a, p.First, p.Second})
	}
	personOf := make([]int32, w.accounts.Len())
	accountOf := make([]int32, w.in.People.Len())
	for i := range accountOf {
		accountOf[i] = None
	}
	for i := range personOf {
		personOf[i] = None
		if people == nil {
			continue
		}
		p := int32(people.Find(w.accounts.Key.At(i)))
		if p == None {
			continue
		}
		personOf[i] = p
		if first := accountOf[p]; first == None {
			accountOf[p] = int32(i)
		} else {
			// The account whose name is written exactly as the person's is
			// the one that counts; otherwise the one that sorts first, so
			// that the order of rows does not matter.
			second := int32(i)
			if w.better(p, second, first) {
				accountOf[p], first, second = second, second, first
			}
			w.out.Accounts = append(w.out.Accounts, Pair{w.a, first, second})
		}
	}
	w.personOf, w.accountOf = personOf, accountOf
}

func (w *walker) better(p, i, than int32) bool {
	want, x, y := w.people.At(int(p)), w.accounts.Key.At(int(i)), w.accounts.Key.At(int(than))
	if (x == want) != (y == want) {
		return x == want
	}
	if x != y {
		return x < y
	}
	for n := range w.accounts.Attrs {
		if x, y := w.accounts.Attr(n, int(i)), w.accounts.Attr(n, int(than)); x != y {
			return x < y
		}
	}
	if w.accounts.Open[i] != w.accounts.Open[than] {
		return w.accounts.Open[i]
	}
	members := w.accounts.Sets.Members
	return slices.Compare(members(w.accounts.Held[i]), members(w.accounts.Held[than])) < 0
}

// persons walks the people by the table of what is due (docs/plans.md).
func (w *walker) persons() {
	for _, at := range w.app.Attrs {
		w.follows = append(w.follows, w.in.People.Column(at.Person))
	}
	for p := range w.accountOf {
		class := &w.in.Due.Classes[w.in.Due.Of[p]]
		account := w.accountOf[p]
		due := &class.Apps[w.a]
		if account == None && !due.Account() || !class.Selected {
			continue
		}
		c := Change{App: w.a, Person: int32(p), Account: account, Thing: None, Attr: None}
		if account != None {
			c.Key = w.accounts.Key.At(int(account))
		} else if w.people != nil {
			c.Key = w.people.At(p)
		}
		switch st := w.in.Stages[p]; {
		case st != stage.Here:
			if account != None && w.accounts.Open[account] {
				c.Why = stageWhy[st]
				w.add(c, model.Suspend)
			}
		case due.Account():
			w.bringInLine(c, due)
		default:
			c.Why = NothingDue
			if !due.InScope {
				c.Why = OutOfScope
			}
			if w.accounts.Open[account] {
				w.add(c, model.Suspend)
			}
			for _, t := range w.accounts.Sets.Members(w.accounts.Held[account]) {
				w.lose(c, t)
			}
		}
	}
}

func (w *walker) add(c Change, v model.Verb) {
	c.Verb = v
	w.out.Changes = append(w.out.Changes, c)
}

func (w *walker) lose(c Change, thing int32) {
	c.Thing = thing
	w.add(c, model.Losing(w.app.Things[thing].Kind))
}

func (w *walker) bringInLine(c Change, due *entitle.Due) {
	held := uint32(0)
	c.Why = Gives
	if c.Account == None {
		if c.Key == "" {
			// Without a value to match by there is no account to make; the
			// guard of needed attributes speaks of it.
			c.Key = w.in.People.Get(int(c.Person), "userName")
		}
		w.add(c, model.Create)
	} else {
		held = w.accounts.Held[c.Account]
		if !w.accounts.Open[c.Account] {
			w.add(c, model.Restore)
		}
		w.attributes(c, due)
	}
	if held == due.Want { // most have what they should
		return
	}
	d := w.delta(due, held)
	for _, t := range d.add {
		c := c
		c.Thing = t
		w.add(c, model.Gaining(w.app.Things[t].Kind))
	}
	for _, t := range d.drop {
		c := c
		c.Why = NotGiven
		w.lose(c, t)
	}
	for _, t := range d.doubles {
		if w.app.Tidy {
			c := c
			c.Why = IsDouble
			w.lose(c, t)
			continue
		}
		w.out.Doubles = append(w.out.Doubles, Double{w.a, c.Account, t})
	}
}

func (w *walker) attributes(c Change, due *entitle.Due) {
	for n := range w.app.Attrs {
		want, why, managed := Wanted(w.app, n, w.follows[n], int(c.Person), due)
		if !managed || w.accounts.Attrs[n] == nil {
			continue
		}
		if is := w.accounts.Attrs[n].At(int(c.Account)); is != want {
			c := c
			c.Attr, c.Before, c.After, c.Why = int32(n), is, want, why
			w.add(c, model.Update)
		}
	}
}

// Wanted returns the value that account attribute n should have: what a kit
// sets, else what it follows of the person. managed is false for an attribute
// that only kits set when none of the person's kits sets it.
func Wanted(app *model.App, n int, follows *table.Column, person int, due *entitle.Due) (value string, why Why, managed bool) {
	at := &app.Attrs[n]
	for i := range due.Set {
		if due.Set[i].Attr == at.Name {
			return due.Set[i].Value, KitSets, true
		}
	}
	if at.Person == "" {
		return "", Follows, false
	}
	if follows != nil {
		value = follows.At(person)
	}
	return value, Follows, true
}

// delta is how to come from one set to another.
type delta struct{ add, drop, doubles []int32 }

func (w *walker) delta(due *entitle.Due, held uint32) *delta {
	key := uint64(due.Want)<<32 | uint64(held)
	if d, ok := w.deltas[key]; ok {
		return d
	}
	d := &delta{}
	sets := w.accounts.Sets
	for _, t := range sets.Members(due.Want) {
		if !sets.Has(held, t) {
			d.add = append(d.add, t)
		}
	}
	for _, t := range sets.Members(held) {
		switch {
		case sets.Has(due.Want, t):
		case sets.Has(due.Reach, t):
			d.doubles = append(d.doubles, t)
		default:
			d.drop = append(d.drop, t)
		}
	}
	w.deltas[key] = d
	return d
}

// strays walks the accounts that belong to nobody. Protected ones are nobody's
// business.
func (w *walker) strays() {
	// Of one that stands twice, an open row counts.
	counts := map[string]int{}
	for i, p := range w.personOf {
		if p != None {
			continue
		}
		key := w.accounts.Key.At(i)
		if first, ok := counts[key]; !ok || w.accounts.Open[i] && !w.accounts.Open[first] {
			counts[key] = i
		}
	}
	for i, p := range w.personOf {
		key := w.accounts.Key.At(i)
		if p != None || counts[key] != i {
			continue
		}
		c := Change{App: w.a, Person: None, Account: int32(i), Thing: None, Attr: None, Why: IsStray, Key: key}
		if _, protected := w.app.Protected(c.Key); protected {
			continue
		}
		switch {
		case w.app.Strays == "remove":
			w.add(c, model.Remove)
		case w.app.Strays == "suspend" && w.accounts.Open[i]:
			w.add(c, model.Suspend)
		default:
			w.out.Strays = append(w.out.Strays, c)
		}
	}
}
