package model

import (
	"slices"

	"pravet/internal/core/table"
)

// A State is how an account is.
type State uint8

// The states of an account. NoAccount stands for one that is not there.
const (
	NoAccount State = iota
	Open
	Blocked
	Invited // nobody has accepted the invitation yet
	Removed // the application keeps it for a while, so that it can be restored
)

var states = [...]string{"none", "open", "blocked", "invited", "removed"}

func (s State) String() string { return states[s] }

// States are the states that an export can show, in their order.
func States() []State { return []State{Open, Blocked, Invited, Removed} }

// ParseState reads a state's name; NoAccount for any other word.
func ParseState(word string) State {
	for _, s := range States() {
		if s.String() == word {
			return s
		}
	}
	return NoAccount
}

// StateOf is the state of an account that may sign in, or may not.
func StateOf(open bool) State {
	if open {
		return Open
	}
	return Blocked
}

// Accounts are the accounts of one application as an export shows them, in
// columns.
type Accounts struct {
	Attrs  []*table.Column // one for each App.Attrs, nil where the export does not show it
	Key    *table.Column   // the match attribute of each account
	Extra  map[string]*table.Column
	States []State
	Held   []uint32         // the set of catalog things that the account holds directly
	Had    map[int32]uint32 // of removed accounts: what they hold again once restored; they hold nothing
	Line   []uint32         // where in File the account stands; 0 where lines mean nothing
	File   string
	Sets   *Sets

	// Unmanaged counts holdings of things that are not in the catalog.
	Unmanaged map[UnmanagedThing]int
	// Defined lists the names of the things that the application itself says
	// it has, by kind; nil where the export does not tell.
	Defined [Kinds][]string
	// Definitions are the groups and roles that the application says it has; nil
	// where the export does not show them.
	Definitions *Definitions
	// Nested are the groups that each group of the catalog is a member of in the
	// application, by the numbers of things: who is in it is in those too. It is
	// nil where the export shows no groups of their own.
	Nested [][]int32
	// Inner are groups outside the catalog that are members of those in it.
	Inner []Dangling
	// Dangling are members of groups that no account has the id of.
	Dangling []Dangling
	// Single tells of which kinds the export holds one name an account at the
	// most, and Taken which accounts have one outside the catalog there.
	Single [Kinds]bool
	Taken  [Kinds]map[int32]bool
	// Closed says why no account can be added, "" where one can.
	Closed string
	// Unnamed are the accounts that have no value in the match attribute, and so
	// belong to nobody.
	Unnamed []Unnamed
	// Nameless are those of them that are known by a name of their own (see OwnName): accounts like any
	// other, under that name, which belong to nobody. Stuck tells that they cannot be found again to be
	// changed.
	Nameless map[int32]bool
	// Unwritable returns the first letter of a text that the application's file cannot hold, "" for none;
	// nil where everything can be written.
	Unwritable func(text string) (letter string)
	Stuck      bool

	// Also are the values that an account has of an attribute besides the one in the column, where the
	// application takes several and says of none that it counts: by the number of the attribute and the account.
	Also map[Cell][]string
	// With are the terms on which an account holds a thing, by the number of the thing (as Attr) and of the account, where
	// they are not the usual ones.
	With map[Cell]string
	// Needy are the things of the catalog, by their numbers, that the application does not let be without a member, and that
	// have none but accounts.
	Needy map[int32]bool
	// Partial says of things of the catalog, by their numbers, why not everybody who holds them was shown.
	Partial map[int32]string
}

// A Cell is one attribute of one account, by their numbers.
type Cell struct{ Attr, Account int32 }

// Shows reports whether account i has a value of attribute number n: the one in the column, or another beside it.
func (a *Accounts) Shows(n, i int, value string) bool {
	return a.Attr(n, i) == value || value != "" && slices.Contains(a.Also[Cell{int32(n), int32(i)}], value)
}

// Dangling names a member of a group.
type Dangling struct{ Group, Member string }

// MaxName is how long an account's name may be, in bytes, as directories limit
// theirs.
const MaxName = 1024

// Unnamed is an account without a value in the match attribute, and what else
// tells whose it may be.
type Unnamed struct {
	Pos              Pos
	Values           []Told
	Name, Department string
}

// OwnName is by what an account without a value in the match attribute is known: its user name or, without
// one, what else identifies it; "" where nothing does.
func OwnName(get func(attr string) string) string {
	for _, attr := range []string{"userName", "id", "externalId", "employeeNumber"} {
		if v := get(attr); v != "" {
			return v
		}
	}
	return ""
}

// Told is a value of an attribute that tells people apart.
type Told struct{ Attr, Value string }

// UnmanagedThing names something held that the catalog does not list.
type UnmanagedThing struct {
	Kind Kind
	Name string
}

// Len is the number of accounts.
func (a *Accounts) Len() int { return len(a.States) }

// Open reports whether account i may sign in.
func (a *Accounts) Open(i int) bool { return a.States[i] == Open }

// Has is the set of what account i holds or, if it is removed, would hold again.
func (a *Accounts) Has(i int) uint32 {
	if a.States[i] == Removed {
		return a.Had[int32(i)]
	}
	return a.Held[i]
}

// Lay takes from removed accounts what they hold, and remembers it.
func (a *Accounts) Lay() {
	for i, s := range a.States {
		if s == Removed && a.Held[i] != 0 {
			if a.Had == nil {
				a.Had = map[int32]uint32{}
			}
			a.Had[int32(i)], a.Held[i] = a.Held[i], 0
		}
	}
}

// Attr returns attribute number n of account i, "" where it has no value.
func (a *Accounts) Attr(n, i int) string {
	if c := a.Attrs[n]; c != nil {
		return c.At(i)
	}
	return ""
}

// Pos is where account i stands in the export.
func (a *Accounts) Pos(i int) Pos {
	p := Pos{File: a.File}
	if len(a.Line) > i {
		p.Line = int(a.Line[i])
	}
	return p
}
