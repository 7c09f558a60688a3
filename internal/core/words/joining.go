package words

import (
	"fmt"
	"strings"

	"pravet/internal/core/fact"
	"pravet/internal/core/model"
)

// joiningSentences says each of its kinds of facts in a sentence.
var joiningSentences = sentences{
	fact.InvitedFor: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"the %s invitation to %s has been out since %s, and is valid for %s",
			ordinal(f.Count),
			f.Account,
			f.On,
			f.Limit,
		)
	},
	fact.PasswordAsked: func(f *fact.Fact) string {
		return "a new first password was asked for from " + f.On + " on"
	},
	fact.PasswordsMade: func(f *fact.Fact) string {
		return "accounts in " + f.App + " get a random first password"
	},
	fact.KeyOld: func(f *fact.Fact) string {
		of := "the age of the key is unknown"
		if f.On != "" {
			of = "the key dates from " + f.On
		}
		return fmt.Sprintf("%s; keys are renewed every %s", of, f.Limit)
	},
	fact.Undoes: func(f *fact.Fact) string {
		return fmt.Sprintf("this undoes what %s did: %s", f.Other, f.Value)
	},
	fact.NotUndone: func(f *fact.Fact) string {
		return fmt.Sprintf("not undone: %s %s; %s", f.Value, f.Account, f.Because)
	},
	fact.Registered: func(f *fact.Fact) string {
		return fmt.Sprintf("%s registered the account %s with the same address", f.Person, f.Account)
	},
	fact.KitLingers: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"kit %s, kept until %s: its rule has not matched since %s: %s",
			f.Kit,
			f.Until,
			f.On,
			f.Rule,
		)
	},
	fact.OpensByHand: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"in %s, each opening must be accepted individually (opens: by hand); accept this change by id or number to "+
				"open %s", f.App, f.Account,
		)
	},
	fact.NotAnswered: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"%s did not answer %s; accept this change individually, by id or number to send another",
			f.Person, model.Count(f.Count, "invitation", "invitations"),
		)
	},
	fact.FoundFormer: func(f *fact.Fact) string {
		return found(f, f.Person+" had the user name %s before, so the account is theirs")
	},
	fact.FoundByEmail: func(f *fact.Fact) string {
		return found(f, "the account %s was registered with the address of "+f.Person+", so it is theirs")
	},
	fact.WaitingFor: func(f *fact.Fact) string {
		if f.Count > 0 {
			return fmt.Sprintf(
				"%s people have not accepted their invitations yet, of which the first expires on %s: %s",
				model.Thousands(f.Count), f.On, some(f),
			)
		}
		if len(f.Names) == 0 {
			return fmt.Sprintf("%s has not accepted the invitation yet; it expires on %s", f.Person, f.On)
		}
		return fmt.Sprintf(
			"%s has not accepted the invitation yet; it expires on %s, and until it is accepted these wait: %s",
			f.Person, f.On, strings.Join(f.Names, ", "),
		)
	},
	fact.Lingering: func(f *fact.Fact) string {
		if f.Count == 1 {
			return fmt.Sprintf("%s keeps what kit %s gave until %s", some(f), f.Kit, f.Until)
		}
		return fmt.Sprintf(
			"%s people keep what kit %s gave, the first until %s: %s",
			model.Thousands(f.Count),
			f.Kit,
			f.Until,
			some(f),
		)
	},
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
	switch n % 100 {
	case 11, 12, 13:
		return fmt.Sprintf("%dth", n)
	}
	switch n % 10 {
	case 1:
		return fmt.Sprintf("%dst", n)
	case 2:
		return fmt.Sprintf("%dnd", n)
	case 3:
		return fmt.Sprintf("%drd", n)
	}
	return fmt.Sprintf("%dth", n)
}
