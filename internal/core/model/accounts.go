package model

import (
	"pravet/internal/core/table"
)

// Accounts are the accounts of one application as an export shows them, in
// columns.
type Accounts struct {
	Attrs []*table.Column // one for each App.Attrs, nil where the export does not show it
	Key   *table.Column   // the match attribute of each account
	Extra map[string]*table.Column
	Open  []bool   // may sign in
	Held  []uint32 // the set of catalog things that the account holds directly
	Line  []uint32 // where in File the account stands; 0 where lines mean nothing
	File  string
	Sets  *Sets

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
	// Nameless counts rows that have no value in the match attribute.
	Nameless int
}

// Dangling names a member of a group.
type Dangling struct{ Group, Member string }

// MaxName is how long an account's name may be, in bytes, as directories limit
// theirs.
const MaxName = 1024

// UnmanagedThing names something held that the catalog does not list.
type UnmanagedThing struct {
	Kind Kind
	Name string
}

// Len is the number of accounts.
func (a *Accounts) Len() int { return len(a.Open) }

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
