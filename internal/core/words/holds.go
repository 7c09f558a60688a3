package words

import (
	"cmp"
	"fmt"
	"strings"

	"pravet/internal/core/fact"
	"pravet/internal/core/model"
)

// hold says why a change is held.
func hold(f *fact.Fact) (string, bool) {
	switch f.Kind {
	case fact.Beyond:
		return fmt.Sprintf(
			"%s %s; the limit is %s%s",
			model.Count(f.Count, "account would", "accounts would"),
			f.Other,
			f.Limit,
			share(f, f.Via),
		), true
	case fact.NewHolders:
		return fmt.Sprintf(
			"%s %s; the limit is %s%s",
			model.Count(f.Count, "account would gain", "accounts would gain"),
			f.Thing,
			f.Limit,
			share(f, "that have it"),
		), true
	case fact.NewHolder:
		return fmt.Sprintf(
			"%s is sensitive: %s something sensitive, and the limit is %s; accept the change by itself",
			f.Thing,
			model.Count(f.Count, "account would gain", "accounts would gain"),
			f.Limit,
		), true
	case fact.FirstHolder:
		return fmt.Sprintf(
			"nobody has %s yet: %s, and the limit is %s; accept the change by itself",
			f.Thing,
			model.Count(f.Count, "account would be a first holder", "accounts would be first holders"),
			f.Limit,
		), true
	case fact.EndedBy:
		on := ""
		if f.On != "" {
			on = ", as seen on " + f.On
		}
		return fmt.Sprintf(
			"the last account of %s was taken to its end by path %s (%s)%s; accept this change individually, by id or "+
				"number, to give one again", f.Person, f.Other, f.Place, on,
		), true
	case fact.OnList:
		return fmt.Sprintf(
			"%s gets no account, because of line %d in the list of path %s (%s); remove the line to give one again",
			f.Person, f.Count, f.Other, f.Place,
		), true
	case fact.StaysOpen:
		return fmt.Sprintf(
			"%s to nobody and %s open although the application is closed from %s to %s (%s): %s; suspend %s with "+
				"strays: suspend", model.Count(f.Count, "account belongs", "accounts belong"),
			model.Plural(f.Count, "stays", "stay"), f.On, f.Until, f.Place, some(f), model.Plural(f.Count, "it", "them"),
		), true
	case fact.NoName:
		return fmt.Sprintf(
			"the account %s has no %s, by which Pravet would find it; change it in the application, or give it one there",
			f.Account, f.Attribute,
		), true
	case fact.NoLetter:
		return fmt.Sprintf(
			"%q (%s) contains %s, which the encoding of the application's file cannot write; change the value, or export "+
				"the application in UTF-8", f.Value, f.Person, f.Other,
		), true
	case fact.TooLong:
		return fmt.Sprintf(
			"the %s of %s has %s bytes, and an account's name may have %s; shorten it", f.Attribute, f.Person,
			model.Thousands(f.Count), model.Thousands(f.Allowed),
		), true
	case fact.NotHere:
		return fmt.Sprintf(
			"%s is not here (%s), and the back-out would give something back; accept it with --lift not-here if it must be",
			f.Person, f.Value,
		), true
	case fact.OfNobodyNow:
		return fmt.Sprintf(
			"the account %s belongs to nobody, and the back-out would give something back; accept it with --lift "+
				"not-here if it must be", f.Account,
		), true
	case fact.NotBlocked:
		return fmt.Sprintf(
			"the account %s has not been seen blocked yet; it must have been for %s before it is removed "+
				"(removalWait)",
			f.Account, f.Limit,
		), true
	case fact.BlockedLately:
		return fmt.Sprintf(
			"the account %s has been blocked only since %s; it can be removed from %s on, %s later (removalWait)",
			f.Account, f.On, f.Until, f.Limit,
		), true
	case fact.NoEnd:
		return fmt.Sprintf(
			"%s is an outsider and needs a last day, no later than %s (%s ahead, outsiderTerm)",
			f.Person,
			f.Until,
			f.Limit,
		), true
	case fact.NoSponsor:
		if f.Other != "" {
			return fmt.Sprintf(
				"%s is an outsider, and the sponsor %s is %s; name another sponsor", f.Person, f.Other,
				cmp.Or(f.Value, "not among the people"),
			), true
		}
		return fmt.Sprintf("%s is an outsider, and nobody answers for them; name a sponsor", f.Person), true
	case fact.ForInsiders:
		return fmt.Sprintf("%s is for insiders only, and %s is an outsider", f.Thing, f.Person), true
	case fact.NoSuccessor:
		return fmt.Sprintf(
			"what %s owns cannot be handed over: %s; correct the step at %s",
			f.Account,
			f.Because,
			f.Place,
		), true
	case fact.StillOwns:
		return fmt.Sprintf(
			"the account %s still owns %s; hand %s over first", f.Account, model.Count(f.Count, "record", "records"),
			model.Plural(f.Count, "it", "them"),
		), true
	case fact.KeptBack:
		until := ""
		if f.Until != "" {
			until = " until " + f.Until
		}
		return fmt.Sprintf("the account %s is kept%s: %s (%s)", f.Account, until, f.Because, f.Place), true
	case fact.EmptyExport:
		return "the export holds no account", true
	case fact.ShrunkExport:
		return fmt.Sprintf(
			"the export holds %d accounts, and the one before held %d; at most %s%s may be missing",
			f.Count,
			f.Whole,
			f.Limit,
			comma(share(f, "accounts")),
		), true
	case fact.ShrunkRoster:
		return fmt.Sprintf(
			"the files name %d people, and at the plan before they named %d; at most %s%s may be missing",
			f.Count,
			f.Whole,
			f.Limit,
			comma(share(f, "people")),
		), true
	case fact.OldExport:
		return fmt.Sprintf("the export was taken on %s, and is too old on %s (exportAge)", f.Until, f.On), true
	case fact.FutureExport:
		return fmt.Sprintf(
			"the export was taken on %s, which is yet to come: its time is wrong, or the clock of whoever wrote it",
			f.On,
		), true
	case fact.NotPromoted:
		when := "has not been carried out and settled in " + f.Other + " yet"
		if f.On != "" {
			when = "was settled in " + f.Other + " last on " + f.On + ", more than " + f.Limit + " ago"
		}
		return "this desired state " + when + " (" + f.Place + ")", true
	case fact.Protected:
		return fmt.Sprintf("the account %s is protected; no plan touches it", f.Account), true
	case fact.DoubleAccount:
		return fmt.Sprintf("%s has more than one account: %s", f.Person, strings.Join(f.Names, ", ")), true
	case fact.RepeatedName:
		return fmt.Sprintf(
			"more than one account has the %s %s, and all of them would go; remove the right one by hand",
			f.Attribute,
			f.Account,
		), true
	case fact.SharedAccount:
		return fmt.Sprintf("%s has the same %s, so the account may be either's", f.Person, f.Attribute), true
	case fact.AlikeName, fact.AlikeValue, fact.AlikePerson:
		return fmt.Sprintf(
			"the account %s belongs to nobody, %s, and may be this person's already; correct its %s, or the "+
				"person's %s",
			f.Account,
			alike(f),
			f.Attribute,
			f.Other,
		), true
	case fact.NoSuchThing:
		hint := ""
		if f.Other != "" {
			hint = "; did you mean " + f.Other + "?"
		}
		return fmt.Sprintf("%s has no %s%s", f.App, f.Thing, hint), true
	case fact.FixedValue:
		return fmt.Sprintf(
			"%s cannot be changed once the account exists (fixed); it is %q and would be %q",
			f.Attribute,
			f.Value,
			f.Other,
		), true
	case fact.NoMatchValue:
		return fmt.Sprintf(
			"%s has no %s, and without it the account would not be found again",
			f.Person,
			f.Attribute,
		), true
	case fact.NoValue:
		return fmt.Sprintf("%s needs a value of %s, and %s has none", f.Thing, f.Attribute, f.Person), true
	case fact.Clashing:
		return fmt.Sprintf(
			"kit %s sets %s to %q, and kit %s sets it to something else",
			f.Kit,
			f.Attribute,
			f.Value,
			f.Other,
		), true
	}
	return invariant(f)
}

// alike says what an account of nobody has in common with a person.
func alike(f *fact.Fact) string {
	switch f.Kind {
	case fact.AlikeName:
		return "has almost the same name"
	case fact.AlikeValue:
		return fmt.Sprintf("has the same %s, %s", f.Via, f.Value)
	}
	return "has the same display name and department"
}

// share spells a percentage out: "10% of 41 accounts, which is 4".
func share(f *fact.Fact, of string) string {
	if !strings.HasSuffix(f.Limit, "%") {
		return ""
	}
	return " of " + model.Thousands(f.Whole) + " " + of + ", which is " + model.Thousands(f.Allowed)
}

// comma ends a share within a sentence.
func comma(share string) string {
	if share == "" {
		return ""
	}
	return share + ","
}

// invariant says which of the things that must hold at every step would be broken.
func invariant(f *fact.Fact) (string, bool) {
	switch f.Kind {
	case fact.StillDue:
		return fmt.Sprintf("%s is still due, as what it would make room for does not come", f.Thing), true
	case fact.OneName:
		return fmt.Sprintf(
			"%s would have %d %s, and a cell of that column holds one name; if the application can hold more, "+
				"give the column a split",
			f.Account,
			f.Count,
			f.Thing,
		), true
	case fact.NoRoom:
		return "no account can be added: " + f.Because, true
	case fact.Refused:
		return "the application refuses it: " + f.Because, true
	case fact.NoSeat:
		last := "; nobody gets one"
		if f.Other != "" {
			last = fmt.Sprintf("; the last to get one is %s (%s)", f.Other, f.Via)
		}
		return fmt.Sprintf(
			"no seat of %s is left: %d bought, %d held, %d freed by this plan, %d wanted; %s goes without (%s)%s",
			f.Thing,
			f.Whole,
			f.Count,
			f.Freed,
			f.Wanted,
			f.Person,
			f.Value,
			last,
		), true
	case fact.NoSeatNow:
		return fmt.Sprintf("no seat of %s is free: %d bought, %d held at that step", f.Thing, f.Whole, f.Count), true
	case fact.SeatsBeyond:
		return fmt.Sprintf(
			"%s would have %s by it; %d seats were bought, and %d more are needed",
			model.Count(f.Count, "more account", "more accounts"),
			f.Thing,
			f.Whole,
			f.Allowed,
		), true
	case fact.SeatsNow:
		return fmt.Sprintf(
			"%s would be held by %s, and %s bought",
			f.Thing,
			model.Count(f.Count, "account", "accounts"),
			model.Count(f.Whole, "seat was", "seats were"),
		), true
	case fact.TooFew:
		return tooFew(f), true
	case fact.TooFewBetween:
		return "until others hold it, " + tooFew(f), true
	case fact.Apart:
		return fmt.Sprintf(
			"%s would hold %s; they are kept apart: %s (%s)",
			f.Person,
			strings.Join(f.Names, " and "),
			f.Other,
			f.Place,
		), true
	case fact.ApartToday:
		return fmt.Sprintf(
			"with what %s holds today, this would complete the separation %q (%s)",
			f.Person,
			f.Other,
			f.Place,
		), true
	case fact.ApartLater:
		return fmt.Sprintf(
			"%s loses %s only after this change, and the separation %q keeps the two apart (%s)",
			f.Person,
			f.Thing,
			f.Other,
			f.Place,
		), true
	case fact.StillHeld:
		return fmt.Sprintf(
			"%s would still be held by %s: %s",
			f.Thing,
			model.Count(f.Count, "account", "accounts"),
			some(f),
		), true
	case fact.HeldAlready:
		return fmt.Sprintf(
			"%s is held by %s already (%s), so %s must have it: check that its export shows all definitions",
			f.Thing,
			model.Count(f.Count, "account", "accounts"),
			some(f),
			f.App,
		), true
	case fact.StillBrings:
		return fmt.Sprintf("%s, which is not in the catalog, still brings %s along", f.Via, f.Thing), true
	}
	return "", false
}

func tooFew(f *fact.Fact) string {
	stay := "no active holder"
	if f.Count > 0 {
		stay = "only " + model.Count(f.Count, "active holder", "active holders")
	}
	return fmt.Sprintf(
		"%s of %s would stay; at least %d must",
		stay,
		f.Thing,
		f.Allowed,
	)
}
