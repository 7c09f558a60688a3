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

var verbNames = [verbs]string{
	"define",
	"redefine",
	"suspend",
	"release",
	"leave",
	"revoke",
	"withdraw",
	"hand over",
	"remove",
	"create",
	"invite",
	"restore",
	"update",
	"assign",
	"join",
	"grant",
	"retire",
}

func (v Verb) String() string { return verbNames[v] }

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
	for v, n := range verbNames {
		if n == s {
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
		return fmt.Errorf("%q is no verb of a change", text)
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
	return fmt.Errorf("%q is no effect of a change", text)
}

// Effect is what a change with this verb does to access. What a redefinition
// does depends on who is reached by it.
func (v Verb) Effect() Effect {
	switch v {
	case Suspend, Release, Leave, Revoke, Withdraw, Remove:
		return Narrows
	case Update, HandOver, Define, Redefine, Retire:
		return Keeps
	}
	return Widens
}

// OfThing reports whether a verb is about a thing itself, and no account.
func (v Verb) OfThing() bool { return v == Define || v == Redefine || v == Retire }

// ForGood reports whether a change cannot be undone.
func (v Verb) ForGood() bool { return v == Remove }

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
func Losing(k Kind) Verb {
	switch k {
	case License:
		return Release
	case Role:
		return Revoke
	}
	return Leave
}
