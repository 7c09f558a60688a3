// Package diff compares what is due with what an export shows and returns
// every difference as one change. It orders nothing, explains nothing and
// holds nothing back; that is for core/draft, core/words and core/guard.
package diff

import (
	"slices"

	"golang.org/x/sync/errgroup"

	"pravet/internal/core/day"
	"pravet/internal/core/entitle"
	"pravet/internal/core/model"
	"pravet/internal/core/table"
)

// Input is what is compared. Accounts is nil for an application that was not
// selected.
type Input struct {
	People   *model.People
	Apps     []*model.App
	Accounts []*model.Accounts
	Due      *entitle.Result
	Stages   []entitle.Stage
	Leaving  *entitle.Leaving // nil where there are no paths

	Outsiders *model.Outsiders // nil where there are none
	Today     day.Day
}

// A Why is the kind of cause of a change; the places follow from it.
type Why uint8

// The causes.
const (
	Gives       Why = iota // a kit gives it
	NotGiven               // no kit of the person gives it
	OutOfScope             // the application's scope leaves the person out
	NothingDue             // no kit gives anything in the application
	IsAway                 // the person is away
	IsNotYet               // the person has not started
	IsGone                 // the person's last day is over
	Follows                // the attribute follows the person's
	KitSets                // a kit sets the attribute
	IsStray                // the account belongs to nobody
	IsDouble               // something else brings it along
	MakesRoom              // likewise, and the cell that holds it takes one name
	IsDefined              // the catalog defines it, or ends it
	IsClosed               // the application is closed for the person today
	OnPath                 // a step of the path that the account is upon is due
	IsShut                 // a kit gives something, and the application opens accounts by hand
	Unanswered             // an invitation was not accepted in its time
	Registered             // the person has an account that they registered by themselves
	Invites                // the application invites first
	KeyIsOld               // the key of an account is to be made anew
	IsAsked                // the person is to have a new first password
	ForInsiders            // the thing is for insiders only, and the person is an outsider
	IsUsual                // the thing is the default of a kind of which everybody has one
	IsUndone               // a run has done the opposite, and is backed out of
)

// stageWhy is why an account of someone who is not here is suspended.
var stageWhy = map[entitle.Stage]Why{entitle.Away: IsAway, entitle.NotYet: IsNotYet, entitle.Gone: IsGone}

// None stands for no account, person, thing or attribute.
const None int32 = -1

// A Change is one difference, by numbers. There may be millions, so that what few
// of them have stands apart.
type Change struct {
	App, Person, Account int32
	Thing, Attr          int32 // Attr numbers App.Attrs
	// Slot numbers the accounts of the application that changes are about, those
	// to be made among them: changes of accounts of one name have the same. It is
	// None for a definition.
	Slot   int32
	Number int32 // among others, for whoever puts them into another order
	Verb   model.Verb
	Why    Why
	Sense  Sense  // of a definition
	Late   bool   // carried out after what widens; see core/draft
	Key    string // the account's match value

	// Before and After are values of an attribute. Before is also the name of the thing that goes
	// when another comes of which everybody has one.
	Before, After string
	Def           *Definition // of a change of a definition, else nil
}

// A Definition is what a change does to the definition of a thing.
type Definition struct {
	Field    string   // of a redefinition: Title, Permissions or Brings
	From, To []string // of a list
	Moved    []int32  // the things that it brings along from now on, or no longer
	Gone     []int32  // of one that brings more: what it no longer brings directly, as Moved brings that along
	Waits    []int32  // the definitions that give back what this one takes: they come first
	Through  []int32  // the accounts that gain or lose something by it
	Depth    int      // how many of what it brings along stand below it, one below the other

	Undoes model.Verb // of what backs out of a run, whatever it is about: the verb of what is undone
}

// reaches reports whether any account gains or loses something by what happens to
// a definition.
func (c *Change) reaches() bool { return c.Def != nil && len(c.Def.Through) > 0 }

// Ahead reports whether the change makes an account blocked: before its person's first
// day, or because somebody must say that it is opened.
func (c *Change) Ahead() bool {
	return c.Verb == model.Create && (c.Why == IsNotYet || c.Why == IsShut)
}

// Does is what the change does to the state of an account: its verb, but that an account
// that is made blocked opens nothing.
func (c *Change) Does() model.Verb {
	if c.Ahead() {
		return model.Update
	}
	return c.Verb
}

// Exchanged is the thing that goes when the change gives another of which everybody has one, -1 for none.
func (c *Change) Exchanged(app *model.App) int32 {
	if c.Thing == None || c.Before == "" || !c.Verb.Deed().Gains {
		return -1
	}
	return app.Thing(app.Things[c.Thing].Kind, c.Before)
}

// Effect is what the change does to access. To take away what something else
// brings along keeps it, and so does a redefinition that reaches nobody.
func (c *Change) Effect() model.Effect {
	switch {
	case c.Why == IsDouble, c.Ahead():
		return model.Keeps
	case c.Sense == Less && c.Thing != None && !c.Verb.OfThing():
		return model.Narrows // a sensitive thing is exchanged for one that is not
	case c.reaches() && c.Sense == More:
		return model.Widens
	case c.reaches() && c.Sense == Less:
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

// A Repeated is a name that more than one account of nobody has.
type Repeated struct {
	App int32
	Key string
}

// A Found is an account that belongs to a person by something else than its name: an
// earlier user name of theirs, or the address that they registered it with.
type Found struct {
	App, Account, Person int32
	Former               bool
}

// Pending is an invitation that nobody has accepted, and what waits for that.
type Pending struct {
	App, Account, Person int32
	Waits                []int32 // things
}

// Ended is somebody who gets no account, as they are on the list of a path.
type Ended struct {
	App, Person int32
	End         *entitle.End
}

// Result is all differences.
type Result struct {
	Changes   []Change
	AccountOf [][]int32 // application → person → account, or None
	PersonOf  [][]int32 // application → account → person, or None
	Accounts  []Pair    // two accounts for one person; First is the one compared
	Persons   []Pair    // two persons for one account
	Doubles   []Double
	Repeated  []Repeated
	Strays    []Change // strays that are only reported, Verb unused
	Found     []Found  // accounts that were known by something else than their name
	Pending   []Pending
	Ended     []Ended
	// Same is, of each application, for rows of a name that another row has: the
	// row that the changes are about.
	Same []map[int32]int32
	// Stands are, of each application, the accounts that are upon a path.
	Stands []map[int32]*entitle.Stand
	// Marks are, of each application, what stands about accounts on their way out, of the
	// people that were compared.
	Marks [][]entitle.Mark
}

// Compute compares the applications, concurrently. It costs O(people + accounts)
// for each, and a set comparison for each distinct pair of sets.
func Compute(in Input) *Result {
	return concurrently(in, func(w *walker) {
		w.match()
		if w.in.Leaving != nil {
			w.in.Leaving.AccountOf[w.a] = w.accountOf
		}
		w.definitions()
		w.persons()
		w.strays()
		w.integrations()
		if w.in.Leaving != nil {
			w.marks = append(w.marks, w.in.Leaving.States(int(w.a))...)
			w.marks = append(w.marks, w.in.Leaving.Lasting(int(w.a))...)
		}
	})
}

// Match only finds whose each account is. Of the input, people, applications
// and accounts are looked at.
func Match(in Input) *Result { return concurrently(in, (*walker).match) }

func concurrently(in Input, walk func(*walker)) *Result {
	parts := make([]*walker, len(in.Apps))
	if in.Leaving != nil {
		in.Leaving.AccountOf = make([][]int32, len(in.Apps))
	}
	var group errgroup.Group
	for a, app := range in.Apps {
		if in.Accounts[a] == nil {
			continue
		}
		w := &walker{
			in:       in,
			a:        int32(a),
			app:      app,
			accounts: in.Accounts[a],
			people:   in.People.Column(app.MatchPerson()),
			deltas:   map[uint64]*delta{},
			same:     map[int32]int32{},
			stands:   map[int32]*entitle.Stand{},
		}
		parts[a] = w
		group.Go(func() error {
			walk(w)
			return nil
		})
	}
	_ = group.Wait() // no comparison fails
	out := &Result{
		AccountOf: make([][]int32, len(in.Apps)),
		PersonOf:  make([][]int32, len(in.Apps)),
		Same:      make([]map[int32]int32, len(in.Apps)),
		Stands:    make([]map[int32]*entitle.Stand, len(in.Apps)),
		Marks:     make([][]entitle.Mark, len(in.Apps)),
	}
	n := 0
	for _, w := range parts {
		if w != nil {
			for _, part := range w.found {
				n += len(part)
			}
		}
	}
	out.Changes = make([]Change, 0, n)
	for a, w := range parts {
		if w == nil {
			continue
		}
		out.AccountOf[a], out.PersonOf[a], out.Same[a] = w.accountOf, w.personOf, w.same
		out.Stands[a], out.Marks[a] = w.stands, w.marks
		for _, part := range w.found {
			out.Changes = append(out.Changes, part...)
		}
		w.found = nil
		out.Accounts = append(out.Accounts, w.out.Accounts...)
		out.Persons = append(out.Persons, w.out.Persons...)
		out.Doubles = append(out.Doubles, w.out.Doubles...)
		out.Repeated = append(out.Repeated, w.out.Repeated...)
		out.Strays = append(out.Strays, w.out.Strays...)
		out.Found = append(out.Found, w.out.Found...)
		out.Pending = append(out.Pending, w.out.Pending...)
		out.Ended = append(out.Ended, w.out.Ended...)
	}
	return out
}

type walker struct {
	in       Input
	a        int32
	app      *model.App
	accounts *model.Accounts
	people   *table.Column // the match attribute of each person
	out      Result        // of this application, without its changes
	found    [][]Change    // which are here, in parts, so that many are not moved again and again
	together bool          // the last part is of one person's accounts, however many they are
	slots    int32         // how many accounts have changes
	noted    bool          // the account of number slots has some
	same     map[int32]int32
	stands   map[int32]*entitle.Stand
	marks    []entitle.Mark
	catalog  *model.Graph // see wanted
	shown    *model.Graph // see exported
	inner    []int32      // see insiders
	looked   bool

	personOf, accountOf []int32
	paths, ended        bool            // some paths are for the application, and all of those for who has left
	others              map[int32]bool  // accounts that belong to people by something else than their name
	invited             map[int32]int32 // person who registered by themselves → their invitation
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
	var removed []int32
	for i := range personOf {
		personOf[i] = None
		if people == nil || w.accounts.Nameless[int32(i)] {
			continue
		}
		p := int32(people.Find(w.accounts.Key.At(i)))
		if p == None {
			continue
		}
		personOf[i] = p
		if w.accounts.States[i] == model.Removed {
			removed = append(removed, int32(i))
		} else if first := accountOf[p]; first == None {
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
	w.find()
	for _, i := range removed {
		if p := personOf[i]; accountOf[p] == None &&
			(w.in.Leaving == nil || w.in.Leaving.Restorable(int(w.a), int(i))) {
			accountOf[p] = i
		}
	}
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
	if x, y := w.accounts.States[i], w.accounts.States[than]; x != y {
		return x == model.Open
	}
	members := w.accounts.Sets.Members
	return slices.Compare(members(w.accounts.Held[i]), members(w.accounts.Held[than])) < 0
}
