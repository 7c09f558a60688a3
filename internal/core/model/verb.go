package model

import "fmt"

// A Verb is what a change does to an account or a thing.
type Verb uint8

// The verbs, in the order in which a plan carries them out: what narrows comes
// before what widens, so that seats and separated duties come free first;
// an account is suspended before it is stripped, and exists before it is
// filled. Definitions come first, and their end comes last.
const (
	Define Verb = iota
	Redefine
	Suspend
	Release
	Leave
	Revoke
	Withdraw
	HandOver
	Remove
	Create
	Invite
	Restore
	Update
	Assign
	Join
	Grant
	Retire
	verbs
)

// A Deed is what a verb does. This table is the only place that says so: accounts as values
// (core/account), what a plan leads to (core/diff) and effects follow from it.
type Deed struct {
	name    string
	effect  Effect
	undo    Verb // takes it back; the verb itself where nothing does, or where it is another value of the same
	OfThing bool // it is about a thing itself, and no account
	ForGood bool // it cannot be undone

	To     State // the state that it leaves an account in
	Moves  bool  // it does so; otherwise the account stays as it is
	Makes  bool  // the account is not there before
	Gains  bool  // the account has the thing afterwards
	Loses  bool  // and no longer
	Clears bool  // it takes all that the account has
	Back   bool  // it brings back what the account had before it was removed
}

var deeds = [verbs]Deed{
	Define:   {name: "define", undo: Define, OfThing: true},
	Redefine: {name: "redefine", undo: Redefine, OfThing: true},
	Retire:   {name: "retire", undo: Retire, OfThing: true},
	Suspend:  {name: "suspend", effect: Narrows, undo: Restore, Moves: true, To: Blocked},
	Restore:  {name: "restore", effect: Widens, undo: Suspend, Moves: true, To: Open, Back: true},
	Create:   {name: "create", effect: Widens, undo: Suspend, Moves: true, To: Open, Makes: true},
	Invite:   {name: "invite", effect: Widens, undo: Withdraw, Moves: true, To: Invited, Makes: true},
	Withdraw: {name: "withdraw", effect: Narrows, undo: Withdraw, Moves: true, To: NoAccount, Clears: true},
	Remove:   {name: "remove", effect: Narrows, undo: Restore, ForGood: true, Moves: true, To: Removed, Clears: true},
	Update:   {name: "update", undo: Update},
	HandOver: {name: "hand over", undo: HandOver},
	Release:  {name: "release", effect: Narrows, undo: Assign, Loses: true},
	Leave:    {name: "leave", effect: Narrows, undo: Join, Loses: true},
	Revoke:   {name: "revoke", effect: Narrows, undo: Grant, Loses: true},
	Assign:   {name: "assign", effect: Widens, undo: Release, Gains: true},
	Join:     {name: "join", effect: Widens, undo: Leave, Gains: true},
	Grant:    {name: "grant", effect: Widens, undo: Revoke, Gains: true},
}

// Deed is what the verb does.
func (v Verb) Deed() *Deed { return &deeds[v] }

func (v Verb) String() string { return deeds[v].name }

// Verbs lists all verbs, in their order.
func Verbs() []Verb {
	out := make([]Verb, verbs)
	for v := range out {
		out[v] = Verb(v)
	}
	return out
}

// ParseVerb reads a verb's name.
func ParseVerb(s string) (Verb, bool) {
	for v := range deeds {
		if deeds[v].name == s {
			return Verb(v), true
		}
	}
	return verbs, false // which is none of them
}

// MarshalText writes a verb as its name.
func (v Verb) MarshalText() ([]byte, error) { return []byte(v.String()), nil }

// UnmarshalText reads a verb's name; any other word is an error.
func (v *Verb) UnmarshalText(text []byte) error {
	parsed, ok := ParseVerb(string(text))
	if !ok {
		return fmt.Errorf("%q is not a verb of a change", text)
	}
	*v = parsed
	return nil
}

// An Effect is what a change does to access.
type Effect uint8

// The effects, in the order of their names.
const (
	Keeps Effect = iota
	Narrows
	Widens
	effects
)

var effectNames = [effects]string{"keeps", "narrows", "widens"}

func (e Effect) String() string { return effectNames[e] }

// Opposite is the effect of what undoes a change with this one.
func (e Effect) Opposite() Effect {
	return [effects]Effect{Keeps: Keeps, Narrows: Widens, Widens: Narrows}[e]
}

// MarshalText writes an effect as its name.
func (e Effect) MarshalText() ([]byte, error) { return []byte(e.String()), nil }

// UnmarshalText reads an effect's name; any other word is an error.
func (e *Effect) UnmarshalText(text []byte) error {
	for n, name := range effectNames {
		if name == string(text) {
			*e = Effect(n)
			return nil
		}
	}
	return fmt.Errorf("%q is not an effect of a change", text)
}

// Effect is what a change with this verb does to access. What a redefinition
// does depends on who is reached by it.
func (v Verb) Effect() Effect { return deeds[v].effect }

// OfThing reports whether a verb is about a thing itself, and no account.
func (v Verb) OfThing() bool { return deeds[v].OfThing }

// ForGood reports whether a change cannot be undone.
func (v Verb) ForGood() bool { return deeds[v].ForGood }

// Undo is the verb that takes back what this one does: itself where nothing does, and where a value
// or a definition is changed back.
func (v Verb) Undo() Verb { return deeds[v].undo }

// Gaining and Losing are the verbs that give a thing of a kind and take it.
// Things of an application's own kinds are joined and left, as groups are.
func Gaining(k Kind) Verb {
	switch k {
	case License:
		return Assign
	case Role:
		return Grant
	}
	return Join
}

// Losing is the verb that takes a thing of a kind away.
func Losing(k Kind) Verb { return Gaining(k).Undo() }
