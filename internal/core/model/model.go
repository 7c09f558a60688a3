// Package model holds the values that the rest of the core computes with:
// people, applications with their catalogs, kits, and the accounts of an
// export. It reads nothing and decides nothing. Where there may be millions of
// something, it is kept in columns; where there are hundreds, as plain structs.
package model

import (
	"cmp"
	"fmt"
	"regexp"
	"strings"
	"sync"
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

// A Kind is a kind of thing that can be held: one of those that all applications have, or one
// of an application's own, as a place or a mailing list.
type Kind uint8

// The kinds of things, in the order in which a plan widens them; those of applications' own
// come after.
const (
	License Kind = iota
	Group
	Role
	firstOwn
	Kinds  = firstOwn + MaxOwn
	Common = firstOwn // how many kinds all applications have
)

// MaxOwn is how many kinds of their own all applications of an organization may have together.
const MaxOwn = 13

var kindNames = [firstOwn]string{"license", "group", "role"}

// own are the names of kinds of applications' own, each interned as it is first met: a kind is
// known by its name, and its number is good within one process, like a unique.Handle.
var own struct {
	sync.RWMutex
	names []string
}

// OwnKind is the kind of an application's own by its name; ok is false where there are as many
// as there may be.
func OwnKind(name string) (k Kind, ok bool) {
	if k, ok := ParseKind(name); ok {
		return k, k >= firstOwn
	}
	own.Lock()
	defer own.Unlock()
	for i, n := range own.names {
		if n == name {
			return firstOwn + Kind(i), true
		}
	}
	if len(own.names) == MaxOwn {
		return 0, false
	}
	own.names = append(own.names, name)
	return firstOwn + Kind(len(own.names)-1), true
}

// Own reports whether a kind is one of an application's own.
func (k Kind) Own() bool { return k >= firstOwn }

func (k Kind) String() string {
	if k < firstOwn {
		return kindNames[k]
	}
	own.RLock()
	defer own.RUnlock()
	if i := int(k - firstOwn); i < len(own.names) {
		return own.names[i]
	}
	return ""
}

// Plural is the name of the list that holds things of the kind in files; that of a kind of an
// application's own is the kind's name.
func (k Kind) Plural() string {
	if k < firstOwn {
		return kindNames[k] + "s"
	}
	if name := k.String(); name != "" {
		return name
	}
	return "\x00" // which no list is called
}

// compareKinds orders kinds: those that all applications have first, others by their names.
func compareKinds(x, y Kind) int {
	if x < firstOwn || y < firstOwn {
		return cmp.Compare(x, y)
	}
	return strings.Compare(x.String(), y.String())
}

// ParseKind reads a kind's name: of those of applications' own, one that was met.
func ParseKind(s string) (Kind, bool) {
	for k, n := range kindNames {
		if n == s {
			return Kind(k), true
		}
	}
	own.RLock()
	defer own.RUnlock()
	for i, n := range own.names {
		if n == s {
			return firstOwn + Kind(i), true
		}
	}
	return 0, false
}

// ownName is what a kind of an application's own may be called.
var ownName = regexp.MustCompile(`^[a-z][a-z0-9-]{0,63}$`)

// IsKindName reports whether a kind of an application's own may be called so: not like one that
// all applications have, and not like an account.
func IsKindName(name string) bool {
	for _, n := range kindNames {
		if name == n || name == n+"s" {
			return false
		}
	}
	return ownName.MatchString(name) && name != "account" && name != "set" && name != "active" && name != "status"
}

// MarshalText writes a kind as its name.
func (k Kind) MarshalText() ([]byte, error) { return []byte(k.String()), nil }

// UnmarshalText reads a kind's name; any other word is an error.
func (k *Kind) UnmarshalText(text []byte) error {
	parsed, ok := ParseKind(string(text))
	if !ok && IsKindName(string(text)) { // of a plan whose application was not read yet
		parsed, ok = OwnKind(string(text))
	}
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
