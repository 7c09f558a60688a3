package words

import (
	"cmp"
	"fmt"
	"strings"

	"pravet/internal/core/fact"
	"pravet/internal/core/model"
)

// holds says each of its kinds of facts in a sentence.
var holds = sentences{
	fact.Beyond: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"%s %s; the limit is %s%s",
			model.Count(f.Count, "account would", "accounts would"),
			f.Other,
			f.Limit,
			share(f, f.Via),
		)
	},
	fact.NewHolders: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"%s %s; the limit is %s%s",
			model.Count(f.Count, "account would gain", "accounts would gain"),
			f.Thing,
			f.Limit,
			share(f, "that have it"),
		)
	},
	fact.NewHolder: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"%s is sensitive: %s something sensitive, and the limit is %s; accept this change individually, by id or number",
			f.Thing,
			model.Count(f.Count, "account would gain", "accounts would gain"),
			f.Limit,
		)
	},
	fact.FirstHolder: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"nobody has %s yet: %s, and the limit is %s; accept this change individually, by id or number",
			f.Thing,
			model.Count(f.Count, "account would be the first", "accounts would be the first"),
			f.Limit,
		)
	},
	fact.EndedBy: func(f *fact.Fact) string {
		on := ""
		if f.On != "" {
			on = ", as seen on " + f.On
		}
		return fmt.Sprintf(
			"the last account of %s was taken to its end by path %s (%s)%s; accept this change individually, by id or "+
				"number, to give one again", f.Person, f.Other, f.Place, on,
		)
	},
	fact.OnList: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"%s gets no account, because of line %d in the list of path %s (%s); remove the line to give one again",
			f.Person, f.Count, f.Other, f.Place,
		)
	},
	fact.StaysOpen: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"%s to nobody and %s open although the application is closed from %s to %s (%s): %s; suspend %s with "+
				"strays: suspend", model.Count(f.Count, "account belongs", "accounts belong"),
			model.Plural(f.Count, "stays", "stay"), f.On, f.Until, f.Place, some(f), model.Plural(f.Count, "it", "them"),
		)
	},
	fact.NoName: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"the account %s has no %s, by which Pravet would find it; change it in the application, or give it one there",
			f.Account, f.Attribute,
		)
	},
	fact.NoLetter: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"%q (%s) contains %s, which the encoding of the application's file cannot write; change the value, or export "+
				"the application in UTF-8", f.Value, f.Person, f.Other,
		)
	},
	fact.TooLong: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"the %s of %s has %s bytes, and an account's name may have %s; shorten it", f.Attribute, f.Person,
			model.Thousands(f.Count), model.Thousands(f.Allowed),
		)
	},
	fact.HeldWithout: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"%s %s without the %s that it needs: %s", model.Count(f.Count, "account has", "accounts have"), f.Thing,
			f.Attribute, some(f),
		)
	},
	fact.NoAccount: func(f *fact.Fact) string {
		near := ""
		if f.Other != "" {
			near = fmt.Sprintf("; did you mean %s?", f.Other)
		}
		return fmt.Sprintf("%s names the account %q (%s), which %s does not have%s", f.Via, f.Account, f.Place, f.App, near)
	},
	fact.NoneFits: func(f *fact.Fact) string {
		return fmt.Sprintf("no account of %s fits the filter %s under %s (%s)", f.App, f.Value, f.Via, f.Place)
	},
	fact.NotHere: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"%s is not here (%s), and the back-out would give something back; accept it with --lift not-here if it must be",
			f.Person, f.Value,
		)
	},
	fact.OfNobodyNow: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"the account %s belongs to nobody, and the back-out would give something back; accept it with --lift "+
				"not-here if it must be", f.Account,
		)
	},
	fact.NotBlocked: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"the account %s has not been seen blocked yet; it must have been seen blocked for %s before it can be "+
				"removed (removalWait)",
			f.Account, f.Limit,
		)
	},
	fact.BlockedLately: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"the account %s has been blocked only since %s; it can be removed from %s on, %s later (removalWait)",
			f.Account, f.On, f.Until, f.Limit,
		)
	},
	fact.NoEnd: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"%s is an outsider and needs a last day, no later than %s (%s ahead, outsiderTerm)",
			f.Person,
			f.Until,
			f.Limit,
		)
	},
	fact.NoSponsor: func(f *fact.Fact) string {
		if f.Other != "" {
			return fmt.Sprintf(
				"%s is an outsider, and the sponsor %s is %s; name another sponsor", f.Person, f.Other,
				cmp.Or(f.Value, "not among the people"),
			)
		}
		return fmt.Sprintf("%s is an outsider, and nobody answers for them; name a sponsor", f.Person)
	},
	fact.ForInsiders: func(f *fact.Fact) string {
		return fmt.Sprintf("%s is for insiders only, and %s is an outsider", f.Thing, f.Person)
	},
	fact.NoSuccessor: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"what %s owns cannot be handed over: %s; correct the step at %s",
			f.Account,
			f.Because,
			f.Place,
		)
	},
	fact.StillOwns: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"the account %s still owns %s; hand %s over first", f.Account, model.Count(f.Count, "record", "records"),
			model.Plural(f.Count, "it", "them"),
		)
	},
	fact.KeptBack: func(f *fact.Fact) string {
		until := ""
		if f.Until != "" {
			until = " until after " + f.Until
		}
		return fmt.Sprintf("the account %s must not be removed%s: %s (%s)", f.Account, until, f.Because, f.Place)
	},
	fact.EmptyExport: func(f *fact.Fact) string {
		return "the export has no accounts"
	},
	fact.ShrunkExport: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"the export has %s, down from %s in the last export that was not suspect; at most %s%s may be missing",
			model.Count(f.Count, "account", "accounts"), model.Thousands(f.Whole), f.Limit, comma(share(f, "accounts")),
		)
	},
	fact.ShrunkRoster: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"the files list %s, down from %s at the last plan or run that was not suspect; at most %s%s may be missing",
			model.Count(f.Count, "person", "people"), model.Thousands(f.Whole), f.Limit, comma(share(f, "people")),
		)
	},
	fact.OldExport: func(f *fact.Fact) string {
		return fmt.Sprintf("the export was taken on %s, which is too old for %s (exportAge)", f.Until, f.On)
	},
	fact.FutureExport: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"the export is dated %s, which is in the future: its date is wrong, or the clock of the system that wrote it is",
			f.On,
		)
	},
	fact.FollowsBlind: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"%s follows %s (%s), and who has that cannot be told now; it stays as it is", f.Thing, f.Other, f.Place,
		)
	},
	fact.Ownerless: func(f *fact.Fact) string {
		return fmt.Sprintf("%s, who answers for %s, is not here any more (%s): %s; name somebody else",
			f.Other, model.Count(f.Count, "account of programs", "accounts of programs"), f.Place, some(f))
	},
	fact.EndsSessions: func(f *fact.Fact) string {
		return fmt.Sprintf("suspending %s ends the sessions that are open in %s",
			model.Count(f.Count, "account", "accounts"), model.Plural(f.Count, "its name", "their names"))
	},
	fact.LastMember: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"%s is the last member of %s, and the directory does not let it be without one; let somebody else join first, or name an "+
				"entry that stays in such groups: keep: DN under connect", f.Account, f.Thing,
		)
	},
	fact.PartExport: func(f *fact.Fact) string {
		return fmt.Sprintf("not all holders of %s were shown: %s", f.Thing, f.Because)
	},
	fact.NotPromoted: func(f *fact.Fact) string {
		if f.On == "" {
			return fmt.Sprintf(
				"this change has not been carried out and settled in %s, or was undone there; carry it out there first (%s)",
				f.Other, f.Place,
			)
		}
		return fmt.Sprintf(
			"this change was settled in %s on %s, which is longer ago than %s; carry it out there again (%s)",
			f.Other, f.On, f.Limit, f.Place,
		)
	},
	fact.Protected: func(f *fact.Fact) string {
		return fmt.Sprintf("the account %s is protected, and no plan changes it (protect)", f.Account)
	},
	fact.DoubleAccount: func(f *fact.Fact) string {
		return fmt.Sprintf("%s has more than one account: %s", f.Person, strings.Join(f.Names, ", "))
	},
	fact.RepeatedName: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"more than one account has the %s %s, and all of them would be removed; remove the right one manually",
			f.Attribute,
			f.Account,
		)
	},
	fact.SharedAccount: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"%s has the same %s, so the account may be either's; give each person one of their own", f.Person, f.Attribute,
		)
	},
	fact.AlikeName: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"the account %s belongs to nobody, %s, and may be this person's already; correct its %s, or the "+
				"person's %s",
			f.Account,
			alike(f),
			f.Attribute,
			f.Other,
		)
	},
	fact.AlikeValue: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"the account %s belongs to nobody, %s, and may be this person's already; correct its %s, or the "+
				"person's %s",
			f.Account,
			alike(f),
			f.Attribute,
			f.Other,
		)
	},
	fact.AlikePerson: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"the account %s belongs to nobody, %s, and may be this person's already; correct its %s, or the "+
				"person's %s",
			f.Account,
			alike(f),
			f.Attribute,
			f.Other,
		)
	},
	fact.NoSuchThing: func(f *fact.Fact) string {
		hint := ""
		if f.Other != "" {
			hint = "; did you mean " + f.Other + "?"
		}
		return fmt.Sprintf("%s has no %s%s", f.App, f.Thing, hint)
	},
	fact.FixedValue: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"%s cannot be changed once the account exists (fixed); it is %q and would be %q",
			f.Attribute,
			f.Value,
			f.Other,
		)
	},
	fact.NoMatchValue: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"%s has no %s, and without it the account would not be found again",
			f.Person,
			f.Attribute,
		)
	},
	fact.NoValue: func(f *fact.Fact) string {
		return fmt.Sprintf("%s needs a value of %s, and %s has none", f.Thing, f.Attribute, f.Person)
	},
	fact.Clashing: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"kit %s sets %s to %q, and kit %s sets it to something else",
			f.Kit,
			f.Attribute,
			f.Value,
			f.Other,
		)
	},
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

// invariants says each of its kinds of facts in a sentence.
var invariants = sentences{
	fact.StillDue: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"%s is not taken away, because the change that would take its place is held or rejected", f.Thing,
		)
	},
	fact.OneName: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"%s would have %d %s, and a cell of that column holds one name; if the application can hold more, "+
				"give the column a split",
			f.Account,
			f.Count,
			f.Thing,
		)
	},
	fact.NoRoom: func(f *fact.Fact) string {
		return "no account can be added: " + f.Because
	},
	fact.Refused: func(f *fact.Fact) string {
		return "the application refuses it: " + f.Because
	},
	fact.NoSeat: func(f *fact.Fact) string {
		last := "; nobody gets one"
		if f.Other != "" {
			last = fmt.Sprintf("; the last to get one is %s (%s)", f.Other, f.Via)
		}
		return fmt.Sprintf(
			"%s has no seat left: %s bought, %s in use, %s freed by this plan, %s needed; %s does not get one (%s)%s",
			f.Thing, model.Thousands(f.Whole), model.Thousands(f.Count), model.Thousands(f.Freed),
			model.Thousands(f.Wanted), f.Person, f.Value, last,
		)
	},
	fact.NoSeatNow: func(f *fact.Fact) string {
		return fmt.Sprintf("no seat of %s is free: %d bought, %d held at that step", f.Thing, f.Whole, f.Count)
	},
	fact.SeatsBeyond: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"this change would give %s to %s; %s bought, and %s needed", f.Thing,
			model.Count(f.Count, "more account", "more accounts"), model.Count(f.Whole, "seat was", "seats were"),
			model.Count(f.Allowed, "more is", "more are"),
		)
	},
	fact.SeatsNow: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"%s would be held by %s, and %s bought",
			f.Thing,
			model.Count(f.Count, "account", "accounts"),
			model.Count(f.Whole, "seat was", "seats were"),
		)
	},
	fact.TooFew: func(f *fact.Fact) string {
		return tooFew(f)
	},
	fact.TooFewBetween: func(f *fact.Fact) string {
		return "until others have it, " + tooFew(f)
	},
	fact.Apart: func(f *fact.Fact) string {
		both := ""
		if len(f.Names) == 2 {
			both = "both "
		}
		return fmt.Sprintf(
			"%s would have %s%s, which breaks the separation %q (%s)", f.Person, both, strings.Join(f.Names, " and "),
			f.Other, f.Place,
		)
	},
	fact.ApartToday: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"together with what %s already has, this change would break the separation %q (%s)", f.Person, f.Other, f.Place,
		)
	},
	fact.ApartLater: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"%s would lose %s only after this change; the separation %q does not allow having both in between (%s)",
			f.Person, f.Thing, f.Other, f.Place,
		)
	},
	fact.StillHeld: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"%s would still be held by %s: %s",
			f.Thing,
			model.Count(f.Count, "account", "accounts"),
			some(f),
		)
	},
	fact.HeldAlready: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"%s is held by %s already (%s), so %s must have it: check that its export shows all definitions",
			f.Thing,
			model.Count(f.Count, "account", "accounts"),
			some(f),
			f.App,
		)
	},
	fact.StillBrings: func(f *fact.Fact) string {
		return fmt.Sprintf("%s, which is not in the catalog, still brings %s along", f.Via, f.Thing)
	},
}

func tooFew(f *fact.Fact) string {
	stay := "no active holder"
	if f.Count > 0 {
		stay = "only " + model.Count(f.Count, "active holder", "active holders")
	}
	return fmt.Sprintf("%s of %s would be left; at least %d must remain (atLeast)", stay, f.Thing, f.Allowed)
}
