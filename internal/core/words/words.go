// Package words turns facts into English. It is the one place where reasons, holds
// and notices are put into words, and it computes nothing.
package words

import (
	"fmt"
	"strconv"
	"strings"

	"pravet/internal/core/fact"
	"pravet/internal/core/model"
)

// Sentences are what each kind of fact says: the registry of all of them is the only place from which the
// words of reasons, holds and notices come. A kind stands in one of its tables; testdata/facts.txt shows each
// with its sentence.
type sentences map[fact.Kind]func(*fact.Fact) string

// tables are all sentences there are.
var tables = []sentences{
	reasons, definitions, holds, invariants, notices, seatSentences, joiningSentences, warnings, falling,
}

// Of says a fact in words.
func Of(f *fact.Fact) string {
	for _, t := range tables {
		if say := t[f.Kind]; say != nil {
			return say(f)
		}
	}
	return string(f.Kind)
}

// some names the first of many, and counts the rest.
func some(f *fact.Fact) string {
	text := strings.Join(f.Names, ", ")
	if more := f.Count - len(f.Names); more > 0 {
		text += " and " + model.Count(more, "more", "more")
	}
	return text
}

// reasons says each of its kinds of facts in a sentence.
var reasons = sentences{
	fact.KitRule: func(f *fact.Fact) string {
		return fmt.Sprintf("kit %s: %s", f.Kit, f.Rule)
	},
	fact.KitHolder: func(f *fact.Fact) string {
		until := ""
		if f.Until != "" {
			until = " until " + f.Until
		}
		return fmt.Sprintf("kit %s, held by name%s: %s", f.Kit, until, f.Because)
	},
	fact.UsualThing: func(f *fact.Fact) string {
		return fmt.Sprintf("%s is the default %s", f.Thing, f.Other)
	},
	fact.KitWith: func(f *fact.Fact) string {
		return fmt.Sprintf("kit %s comes with kit %s", f.Kit, f.Other)
	},
	fact.KitSets: func(f *fact.Fact) string {
		return fmt.Sprintf("kit %s sets %s to %q", f.Kit, f.Attribute, f.Value)
	},
	fact.NoKit: func(f *fact.Fact) string {
		if f.Thing == "" {
			return f.Person + " has no kit that gives anything in " + f.App
		}
		return f.Person + " has no kit that gives " + f.Thing
	},
	fact.KitLacks: func(f *fact.Fact) string {
		return fmt.Sprintf("kit %s gives it%s for: %s%s", f.Kit, along(f), f.Rule, because(f))
	},
	fact.KitByName: func(f *fact.Fact) string {
		return fmt.Sprintf("kit %s gives it%s, by name only", f.Kit, along(f))
	},
	fact.KitExcepts: func(f *fact.Fact) string {
		return fmt.Sprintf("kit %s excepts this person: %s", f.Kit, f.Because)
	},
	fact.KitWasHeld: func(f *fact.Fact) string {
		return fmt.Sprintf("kit %s was held by name until %s", f.Kit, f.Until)
	},
	fact.KitsMore: func(f *fact.Fact) string {
		return model.Count(
			f.Count,
			"more kit gives it, but not to this person",
			"more kits give it, but not to this person",
		)
	},
	fact.NobodyGets: func(f *fact.Fact) string {
		return fmt.Sprintf("no kit gives %s to anyone", f.Thing)
	},
	fact.OutOfScope: func(f *fact.Fact) string {
		return fmt.Sprintf("%s leaves this person out: %s%s", f.Other, f.Rule, because(f))
	},
	fact.Away: func(f *fact.Fact) string {
		return f.Person + " is away"
	},
	fact.NotYet: func(f *fact.Fact) string {
		return fmt.Sprintf("%s starts on %s", f.Person, f.On)
	},
	fact.Ended: func(f *fact.Fact) string {
		return fmt.Sprintf("%s left on %s", f.Person, f.On)
	},
	fact.HasValue: func(f *fact.Fact) string {
		return Value(f.Attribute, f.Value)
	},
	fact.Follows: func(f *fact.Fact) string {
		if strings.HasPrefix(f.Other, "the ") { // that an application's file gives to all
			return fmt.Sprintf("%s is %s", f.Attribute, f.Other)
		}
		return fmt.Sprintf("%s follows the person's %s", f.Attribute, f.Other)
	},
	fact.Tidy: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"duplicate removed (tidy: doubles): the account still has %s through something else", f.Thing,
		)
	},
	fact.MakesRoom: func(f *fact.Fact) string {
		return fmt.Sprintf("a cell of %s holds one name, and %s brings %s along", f.Other, f.Via, f.Thing)
	},
	fact.BringsAlong: func(f *fact.Fact) string {
		return fmt.Sprintf("%s brings %s along", f.Via, f.Thing)
	},
}

// definitions says each of its kinds of facts in a sentence.
var definitions = sentences{
	fact.Undefined: func(f *fact.Fact) string {
		return fmt.Sprintf("%s is Pravet's own (define: true), and %s has none of that name", f.Thing, f.App)
	},
	fact.Retired: func(f *fact.Fact) string {
		return fmt.Sprintf("%s is to be retired (retire: true)", f.Thing)
	},
	fact.StillThere: func(f *fact.Fact) string {
		return f.App + " still has it"
	},
	fact.InCatalog: func(f *fact.Fact) string {
		return fmt.Sprintf("in the catalog: %s %s", f.Attribute, shown(f))
	},
	fact.InApp: func(f *fact.Fact) string {
		return fmt.Sprintf("in %s: %s %s", f.App, f.Attribute, shown(f))
	},
	fact.OnPath: func(f *fact.Fact) string {
		text := fmt.Sprintf("path %s, step %d of %d: %s", f.Other, f.Count, f.Whole, f.Attribute)
		switch {
		case f.Limit != "" && f.Count == 1:
			text += fmt.Sprintf(", %s after the account entered the path on %s", f.Limit, f.On)
		case f.Limit != "":
			text += fmt.Sprintf(", %s after the step before, seen done on %s", f.Limit, f.On)
		}
		return text
	},
	fact.Closed: func(f *fact.Fact) string {
		return fmt.Sprintf("%s is closed from %s to %s: %s", f.App, f.On, f.Until, f.Because)
	},
	fact.Stands: func(f *fact.Fact) string {
		return standing(f)
	},
	fact.Listed: func(f *fact.Fact) string {
		return fmt.Sprintf("%s is on the list %s", f.Account, f.Other)
	},
	fact.AccountMatches: func(f *fact.Fact) string {
		return fmt.Sprintf("the account %s matches %s", f.Account, f.Rule)
	},
	fact.Idle: func(f *fact.Fact) string {
		return fmt.Sprintf("nobody has signed in to %s since %s, for at least %s", f.Account, f.On, f.Limit)
	},
	fact.NeverActive: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"nobody has ever signed in to %s, which was created on %s, at least %s ago", f.Account, f.On, f.Limit,
		)
	},
	fact.NobodysOwn: func(f *fact.Fact) string {
		return fmt.Sprintf("nobody's %s is %q", f.Attribute, f.Account)
	},
	fact.Stray: func(f *fact.Fact) string {
		return fmt.Sprintf("strays: %s; nobody's %s is %q", f.Value, f.Attribute, f.Account)
	},
}

// shown is an attribute of a definition: a title, or a list.
func shown(f *fact.Fact) string {
	switch {
	case f.Other == "text":
		return fmt.Sprintf("%q", f.Value)
	case len(f.Names) == 0:
		return "none"
	}
	return strings.Join(f.Names, ", ")
}

func along(f *fact.Fact) string {
	if f.Via == "" {
		return ""
	}
	return " along with " + f.Via
}

// because adds the value by which a rule fails.
func because(f *fact.Fact) string {
	if f.Attribute == "" {
		return ""
	}
	return "; " + Value(f.Attribute, f.Value)
}

// Value says which value an attribute has.
func Value(attribute, value string) string {
	if value == "" {
		return attribute + " has no value"
	}
	return attribute + " is " + strconv.Quote(value)
}

// notices says each of its kinds of facts in a sentence.
var notices = sentences{
	fact.NameLess: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"%s no %s, so %s to nobody", model.Count(f.Count, "account has", "accounts have"), f.Attribute,
			model.Plural(f.Count, "it belongs", "they belong"),
		)
	},
	fact.LeftAlone: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"%s not managed (alone): %s", model.Count(f.Count, "account is", "accounts are"), some(f),
		)
	},
	fact.OfNobody: func(f *fact.Fact) string {
		return fmt.Sprintf("%s to nobody: %s", model.Count(f.Count, "account belongs", "accounts belong"), some(f))
	},
	fact.Unmanaged: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"%s not in the catalog and %s: %s",
			model.Count(f.Whole, f.Thing+" assignment is", f.Thing+" assignments are"),
			model.Plural(f.Whole, "stays as it is", "stay as they are"), some(f),
		)
	},
	fact.DoubleHeld: func(f *fact.Fact) string {
		return fmt.Sprintf("%s is assigned directly although it also comes with something else: %s", f.Thing, some(f))
	},
	fact.RetiredGone: func(f *fact.Fact) string {
		return fmt.Sprintf("%s is retired and gone; remove it from %s", f.Thing, f.Place)
	},
	fact.NestedMore: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"in the application, %s is a member of %s, but the catalog does not say so; members of %s are in both",
			f.Thing, f.Via, f.Thing,
		)
	},
	fact.NestedLess: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"in the application, %s is not a member of %s, although the catalog says so; %s therefore brings nothing along "+
				"from %s", f.Thing, f.Via, f.Thing, f.Via,
		)
	},
	fact.NestedInner: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"%s is a member of %s but is not in the catalog, so the members of %s are not counted in %s; add %s to the "+
				"catalog", f.Via, f.Thing, f.Via, f.Thing, f.Via,
		)
	},
	fact.Dangling: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"%s no account and %s: %s", model.Count(f.Count, "member of a group has", "members of groups have"),
			model.Plural(f.Count, "stays", "stay"), some(f),
		)
	},
	fact.AlmostAlike: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"%s is to get the account %s, and nobody's account %q has almost the same name",
			f.Person,
			f.Account,
			f.Other,
		)
	},
	fact.ApartAlready: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"%s both sides of the separation %q (%s) already: %s", model.Count(f.Count, "person has", "people have"),
			f.Other, f.Place, some(f),
		)
	},
	fact.ApartAllowed: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"%s may have %s until %s, despite the separation %q (%s): %s", f.Person, strings.Join(f.Names, " and "),
			f.Until, f.Other, f.Place, f.Because,
		)
	},
	fact.HandOver: func(f *fact.Fact) string {
		what := fmt.Sprintf("%s of the account %s", model.Count(f.Count, "record", "records"), f.Account)
		if f.Because != "" {
			return fmt.Sprintf("%s cannot be handed over: %s; correct the step at %s", what, f.Because, f.Place)
		}
		return fmt.Sprintf("hand over %s to %s in the application itself, as %s says", what, f.Other, f.Place)
	},
	fact.NoDate: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"%s of %s is not a date or is in the future, so it cannot make the account idle: %s", f.Attribute,
			model.Count(f.Count, "account", "accounts"), some(f),
		)
	},
	fact.RemovedSoon: func(f *fact.Fact) string {
		if f.Count == 1 {
			return fmt.Sprintf("the account %s is due for removal on %s", some(f), f.On)
		}
		return fmt.Sprintf(
			"%s accounts are due for removal, the first on %s: %s", model.Thousands(f.Count), f.On, some(f),
		)
	},
	fact.SeenLater: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"%s steps that were seen done only after the day of this plan, most recently on %s, so their next steps are not "+
				"due in this plan: %s; check the clock, or --on",
			model.Count(f.Count, "account has", "accounts have"), f.On, some(f),
		)
	},
	fact.WaitsAnew: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"the ledger does not record when the steps of %s were done, so their waits begin today: %s",
			model.Count(f.Count, "account", "accounts"), some(f),
		)
	},
	fact.GuardLifted: func(f *fact.Fact) string {
		until := ""
		if f.Until != "" {
			until = " until " + f.Until
		}
		return fmt.Sprintf(
			"guard %s is lifted%s: %s (%s)",
			f.Thing,
			until,
			f.Because,
			model.Count(f.Count, "hold", "holds"),
		)
	},
}

// cost is what seats cost, in brackets; "" where that is not known.
func cost(f *fact.Fact) string {
	if f.Value == "" {
		return ""
	}
	return " (" + f.Value + ")"
}

// seatSentences says each of its kinds of facts in a sentence.
var seatSentences = sentences{
	fact.SeatsOver: func(f *fact.Fact) string {
		last := ""
		if len(f.Names) > 0 {
			last = "; last in line: " + strings.Join(f.Names, ", ")
		}
		return fmt.Sprintf(
			"%s: %s it, but only %s bought%s", f.Thing, model.Count(f.Count, "account has", "accounts have"),
			model.Count(f.Whole, "seat was", "seats were"), last,
		)
	},
	fact.SeatsMissing: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"%s is %s short: %s bought, %s in use, %s freed by this plan; buy %s more%s", f.Thing,
			model.Count(f.Allowed, "seat", "seats"), model.Thousands(f.Whole), model.Thousands(f.Count),
			model.Thousands(f.Freed), model.Thousands(f.Allowed), cost(f),
		)
	},
	fact.SeatsOfNobody: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"%s: %s held by accounts that belong to nobody%s: %s",
			f.Thing,
			model.Count(f.Count, "seat is", "seats are"),
			cost(f),
			some(f),
		)
	},
	fact.SeatsOfBlocked: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"%s: %s still assigned to accounts that are blocked after this plan%s: %s", f.Thing,
			model.Count(f.Count, "seat is", "seats are"), cost(f), some(f),
		)
	},
}

// standing says where an account stands on a path, and what comes next.
func standing(f *fact.Fact) string {
	text := "on path " + f.Other
	switch {
	case f.Count > 0 && f.On != "":
		text += fmt.Sprintf(", step %d of %d done (%s) since %s", f.Count, f.Whole, f.Attribute, f.On)
	case f.Count > 0:
		text += fmt.Sprintf(", step %d of %d done (%s)", f.Count, f.Whole, f.Attribute)
	}
	switch {
	case f.Value == "":
	case f.Until == "":
		text += "; it ends here: " + f.Value
	default:
		text += fmt.Sprintf("; next: %s on %s", f.Value, f.Until)
	}
	return text
}

// Several names some files, the first of many.
func Several(files []string) string {
	const most = 6
	if len(files) <= most {
		return strings.Join(files, ", ")
	}
	return strings.Join(files[:most], ", ") + " and " + model.Count(len(files)-most, "more file", "more files")
}
