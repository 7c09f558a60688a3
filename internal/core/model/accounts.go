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
	// Nameless counts rows that have no value in the match attribute.
	Nameless int
}

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
