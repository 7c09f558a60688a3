package model

import (
	"sort"
	"strconv"
	"strings"

	"pravet/internal/core/day"
	"pravet/internal/core/filter"
	"pravet/internal/core/table"
)

// A Path is how accounts end, step by step.
type Path struct {
	Name, Title string
	Pos         Pos
	For         *filter.Filter // whose accounts; nil for everyone's
	Rank        int            // among paths: the one with the least that fits is taken
	When        When
	List        *List          // of When Listed
	Idle        day.Duration   // of When Idle
	Match       *filter.Filter // of When Matching, over attributes of accounts
	MatchPos    Pos
	Apps        []int // numbers of the applications; nil for all
	Steps       []Step
}

// In reports whether the path is for an application.
func (p *Path) In(app int) bool {
	if p.Apps == nil {
		return true
	}
	for _, a := range p.Apps {
		if a == app {
			return true
		}
	}
	return false
}

// When is what brings an account upon a path.
type When uint8

// The occasions.
const (
	WhenEnded    When = iota // the person's last day is over
	WhenStray                // the account belongs to nobody
	WhenListed               // the person, by id, or the account is on a list
	WhenIdle                 // nobody has signed in to the account for some time
	WhenMatching             // the account's attributes match a filter
)

var whens = [...]string{"ended", "stray", "listed", "idle", "account"}

// The columns of an export that tell when somebody signed in last, and when an account
// was made.
const (
	LastActive = "lastActive"
	Created    = "created"
)

// Owned is the column of an export that tells what an account still owns: a number, or
// names with semicolons or commas between them.
const Owned = "owned"

// CountOwned counts what a cell of that column names.
func CountOwned(text string) int {
	text = strings.TrimSpace(text)
	if n, err := strconv.Atoi(text); err == nil {
		return max(n, 0)
	}
	return len(strings.FieldsFunc(text, func(r rune) bool { return r == ';' || r == ',' }))
}

// Owns counts what an account still owns; shown is false where the export does not tell.
func (a *App) Owns(accounts *Accounts, account int) (n int, shown bool) {
	at := a.Attr(Owned)
	if at < 0 || accounts.Attrs[at] == nil {
		return 0, false
	}
	return CountOwned(accounts.Attr(at, account)), true
}

// OwnedNames lists what a cell of that column names; none where it holds a number.
func OwnedNames(text, split string) (out []string) {
	if _, err := strconv.Atoi(strings.TrimSpace(text)); err == nil {
		return nil
	}
	for _, name := range strings.Split(text, split) {
		if name = strings.TrimSpace(name); name != "" {
			out = append(out, name)
		}
	}
	return out
}

func (w When) String() string { return whens[w] }

// A List is ids of people, or names of accounts, with the line of each.
// Lines are by the ids of people and by accounts (see Listed).
type List struct {
	File  string
	Lines map[string]int
}

// Listed is how an account is entered in a List: names of accounts are compared case ignored.
func Listed(app, account string) string { return app + "/" + table.Fold(account) }

// A Do is what a step does.
type Do uint8

// The steps.
const (
	DoSuspend Do = iota // block the account
	DoMove              // set attributes
	DoStrip             // take groups, roles and licenses away
	DoRemove            // remove the account: the end
	DoStay              // leave it as it is: the end
	DoHand              // what the account owns goes to somebody else
)

var dos = [...]string{"suspend", "move", "strip", "remove", "stay", "hand over"}

func (d Do) String() string { return dos[d] }

// Dos lists the words for steps.
func Dos() []string { return dos[:] }

// ParseDo finds a step by its word.
func ParseDo(word string) (Do, bool) {
	for i, w := range dos {
		if w == word {
			return Do(i), true
		}
	}
	return 0, false
}

// A Step is one step of a path.
type Step struct {
	Do    Do
	After day.Duration // since the step before was seen done, or since the account came upon the path
	Set   []Setting    // of a move
	To    string       // of a hand-over: manager, or the id of a person
	ToKit string       // or who holds a kit
	Keep  [Kinds]bool  // of a strip: what stays
	Warn  day.Duration // of a removal: how long before it is said to be coming
	Pos   Pos
}

// Key tells the steps of a path apart, also after others were put before them.
func (s *Step) Key() string {
	var more []string
	for _, x := range s.Set {
		more = append(more, x.Attr+"="+x.Value)
	}
	sort.Strings(more)
	if s.To != "" {
		more = append(more, "to "+s.To)
	}
	if s.ToKit != "" {
		more = append(more, "to kit "+s.ToKit)
	}
	for k, keep := range s.Keep {
		if keep {
			more = append(more, Kind(k).Plural())
		}
	}
	return strings.Join(append([]string{s.Do.String()}, more...), " ")
}

// Kept is whom or what nothing happens to that cannot be undone: a legal hold. One of
// Person, Account and For is set.
type Kept struct {
	Person  string // id
	App     string // of Account
	Account string
	For     *filter.Filter
	Until   day.Day
	Because string
	Pos     Pos
}

// On reports whether it counts on a day.
func (k *Kept) On(d day.Day) bool { return k.Until == day.None || d <= k.Until }
