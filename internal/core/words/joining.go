package words

import (
	"fmt"
	"strings"

	"pravet/internal/core/fact"
	"pravet/internal/core/model"
)

// joining speaks of people who come to an application, and of what they keep for a while.
func joining(f *fact.Fact) (string, bool) {
	switch f.Kind {
	case fact.InvitedFor:
		return fmt.Sprintf(
			"the %s invitation to %s has been out since %s, and is valid for %s",
			ordinal(f.Count),
			f.Account,
			f.On,
			f.Limit,
		), true
	case fact.KeyOld:
		of := "nobody knows how old the key is"
		if f.On != "" {
			of = "the key is of " + f.On
		}
		return fmt.Sprintf("%s, and a new one is made every %s", of, f.Limit), true
	case fact.Undoes:
		return fmt.Sprintf("this undoes what %s did: %s", f.Other, f.Value), true
	case fact.NotUndone:
		return fmt.Sprintf("not undone: %s %s; %s", f.Value, f.Account, f.Because), true
	case fact.Registered:
		return fmt.Sprintf("%s registered the account %s with the same address", f.Person, f.Account), true
	case fact.KitLingers:
		return fmt.Sprintf(
			"kit %s, kept until %s: its rule has not matched since %s: %s",
			f.Kit,
			f.Until,
			f.On,
			f.Rule,
		), true
	case fact.OpensByHand:
		return fmt.Sprintf(
			"%s opens accounts by hand; accept this change by itself to open %s", f.App, f.Account,
		), true
	case fact.NotAnswered:
		return fmt.Sprintf(
			"%s did not answer %s; accept the change by itself to send another",
			f.Person, model.Count(f.Count, "invitation", "invitations"),
		), true
	case fact.FoundFormer:
		return found(f, f.Person+" had the user name %s before, so the account is theirs"), true
	case fact.FoundByEmail:
		return found(f, "the account %s was registered with the address of "+f.Person+", so it is theirs"), true
	case fact.WaitingFor:
		if f.Count > 0 {
			return fmt.Sprintf(
				"%s people have not accepted their invitations yet, of which the first expires on %s: %s",
				model.Thousands(f.Count), f.On, some(f),
			), true
		}
		if len(f.Names) == 0 {
			return fmt.Sprintf("%s has not accepted the invitation yet; it expires on %s", f.Person, f.On), true
		}
		return fmt.Sprintf(
			"%s has not accepted the invitation yet; it expires on %s, and until it is accepted these wait: %s",
			f.Person, f.On, strings.Join(f.Names, ", "),
		), true
	case fact.Lingering:
		if f.Count == 1 {
			return fmt.Sprintf("%s keeps what kit %s gave until %s", some(f), f.Kit, f.Until), true
		}
		return fmt.Sprintf(
			"%s people keep what kit %s gave, the first until %s: %s",
			model.Thousands(f.Count),
			f.Kit,
			f.Until,
			some(f),
		), true
	}
	return "", false
}

// found says whose an account is, and where its name cannot change that it stays.
func found(f *fact.Fact, text string) string {
	text = fmt.Sprintf(text, f.Account)
	if f.Attribute != "" {
		text += "; it keeps its name, as " + f.Attribute + " is fixed"
	}
	return text
}

// ordinal is a number that counts: first, second, and so on.
func ordinal(n int) string {
	words := []string{"", "first", "second", "third", "fourth", "fifth"}
	if n > 0 && n < len(words) {
		return words[n]
	}
	return fmt.Sprintf("%dth", n)
}
