// Package model holds the values that the rest of the core computes with:
// people, applications with their catalogs, kits, and the accounts of an
// export. It reads nothing and decides nothing. Where there may be millions of
// something, it is kept in columns; where there are hundreds, as plain structs.
package model

import (
	"fmt"
	"strings"
)

// A Pos is a place in a file. Line and Column count from 1, columns in
// characters; 0 means that the place is the file, or the line, as a whole.
type Pos struct {
	File   string
	Line   int
	Column int
}

func (p Pos) String() string {
	switch {
	case p.Line == 0:
		return p.File
	case p.Column == 0:
		return fmt.Sprintf("%s:%d", p.File, p.Line)
	}
	return fmt.Sprintf("%s:%d:%d", p.File, p.Line, p.Column)
}

// A Kind is a kind of thing that can be held.
type Kind uint8

// The kinds of things, in the order in which a plan widens them.
const (
	License Kind = iota
	Group
	Role
	Kinds = 3
)

var kindNames = [Kinds]string{"license", "group", "role"}

func (k Kind) String() string { return kindNames[k] }

// Plural is the name of the list that holds things of the kind in files.
func (k Kind) Plural() string { return kindNames[k] + "s" }

// ParseKind reads a kind's name.
func ParseKind(s string) (Kind, bool) {
	for k, n := range kindNames {
		if n == s {
			return Kind(k), true
		}
	}
	return 0, false
}

// MarshalText writes a kind as its name.
func (k Kind) MarshalText() ([]byte, error) { return []byte(k.String()), nil }

// UnmarshalText reads a kind's name; any other word is an error.
func (k *Kind) UnmarshalText(text []byte) error {
	parsed, ok := ParseKind(string(text))
	if !ok {
		return fmt.Errorf("%q is no kind of thing", text)
	}
	*k = parsed
	return nil
}

// An Address names a thing or an account from outside: tickets/role/seller.
type Address struct{ App, Kind, Name string }

func (a Address) String() string { return a.App + "/" + a.Kind + "/" + a.Name }

// ParseAddress reads APP/KIND/NAME; KIND is account, group, role or license.
// The name may hold slashes.
func ParseAddress(s string) (Address, error) {
	parts := strings.SplitN(s, "/", 3)
	if len(parts) != 3 || parts[0] == "" || parts[2] == "" {
		return Address{}, fmt.Errorf(
			"%q is not an address; write APPLICATION/KIND/NAME, for example tickets/role/seller",
			s,
		)
	}
	if _, ok := ParseKind(parts[1]); !ok && parts[1] != "account" {
		return Address{}, fmt.Errorf(
			"%q is not a kind of thing in %q; use account, group, role or license",
			parts[1],
			s,
		)
	}
	return Address{parts[0], parts[1], parts[2]}, nil
}

// Count is how a message counts its subject: Count(1, "person", "people").
func Count(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%s %s", Thousands(n), many)
}

// Plural is the word for some of a kind, without their number.
func Plural(n int, one, many string) string {
	if n == 1 {
		return one
	}
	return many
}

// Named is how a message names some of its subjects: Named(list, "role", "roles").
func Named(names []string, one, many string) string {
	if len(names) == 1 {
		many = one
	}
	return many + " " + strings.Join(names, ", ")
}

// Thousands writes a number with a comma between groups of three digits.
func Thousands(n int) string {
	s := fmt.Sprint(n)
	from := 0
	if n < 0 {
		from = 1
	}
	for i := len(s) - 3; i > from; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}
