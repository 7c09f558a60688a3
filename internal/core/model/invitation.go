package model

import (
	"regexp"

	"pravet/internal/core/day"
)

// An Invitation is how people come to an application that asks them first.
type Invitation struct {
	Valid   day.Duration // how long one can be accepted
	Again   int          // how often one that was not answered is sent again
	Message string       // text with {attribute} for what is the person's; "" for none
	With    [Kinds]bool  // what is given along with it; the rest waits until it is accepted
	Pos     Pos
}

// Fields are what a message may name beside attributes of the person, and what they stand
// for: the application's id and title, the account, and how long the invitation is valid.
func Fields() []string { return []string{"app", "appTitle", "account", "valid"} }

// field finds what a message names.
var field = regexp.MustCompile(`\{([^{}\s]+)\}`)

// FieldsIn lists what a text names in braces, with where each begins, in bytes.
func FieldsIn(text string) (names []string, at []int) {
	for _, m := range field.FindAllStringSubmatchIndex(text, -1) {
		names, at = append(names, text[m[2]:m[3]]), append(at, m[0])
	}
	return names, at
}

// Filled is a text with what it names in braces.
func Filled(text string, get func(name string) string) string {
	return field.ReplaceAllStringFunc(text, func(s string) string { return get(s[1 : len(s)-1]) })
}

// Text is the message of an invitation to an account; get gives the person's attributes.
func (i *Invitation) Text(app *App, account string, get func(attr string) string) string {
	return Filled(i.Message, func(name string) string {
		switch name {
		case "app":
			return app.ID
		case "appTitle":
			return app.Title
		case "account":
			return account
		case "valid":
			return i.Valid.Words()
		}
		return get(name)
	})
}

// The columns of an export by which invitations are written and read: how often one was
// sent, its text, and whether the person comes from outside.
const (
	Sent    = "sent"
	Message = "message"
	Member  = "member"
)

// The two kinds of members.
const (
	Inside  = "inside"
	Outside = "outside"
)
