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

// Of is a fact in words: a clause without a capital and without a full stop.
func Of(f *fact.Fact) string {
	for _, say := range []func(*fact.Fact) (string, bool){reason, hold, notice, joining, warning, falls} {
		if text, ok := say(f); ok {
			return text
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

// reason says why a change is wanted.
func reason(f *fact.Fact) (string, bool) {
	switch f.Kind {
	case fact.KitRule:
		return fmt.Sprintf("kit %s: %s", f.Kit, f.Rule), true
	case fact.KitHolder:
		until := ""
		if f.Until != "" {
			until = " until " + f.Until
		}
		return fmt.Sprintf("kit %s, held by name%s: %s", f.Kit, until, f.Because), true
	case fact.UsualThing:
		return fmt.Sprintf("%s is the default %s", f.Thing, f.Other), true
	case fact.KitWith:
		return fmt.Sprintf("kit %s comes with kit %s", f.Kit, f.Other), true
	case fact.KitSets:
		return fmt.Sprintf("kit %s sets %s to %q", f.Kit, f.Attribute, f.Value), true
	case fact.NoKit:
		if f.Thing == "" {
			return f.Person + " has no kit that gives anything in " + f.App, true
		}
		return f.Person + " has no kit that gives " + f.Thing, true
	case fact.KitLacks:
		return fmt.Sprintf("kit %s gives it%s for: %s%s", f.Kit, along(f), f.Rule, because(f)), true
	case fact.KitByName:
		return fmt.Sprintf("kit %s gives it%s, by name only", f.Kit, along(f)), true
	case fact.KitExcepts:
		return fmt.Sprintf("kit %s excepts this person: %s", f.Kit, f.Because), true
	case fact.KitWasHeld:
		return fmt.Sprintf("kit %s was held by name until %s", f.Kit, f.Until), true
	case fact.KitsMore:
		return model.Count(
			f.Count,
			"more kit gives it, but not to this person",
			"more kits give it, but not to this person",
		), true
	case fact.NobodyGets:
		return fmt.Sprintf("no kit gives %s to anyone", f.Thing), true
	case fact.OutOfScope:
		return fmt.Sprintf("%s leaves this person out: %s%s", f.Other, f.Rule, because(f)), true
	case fact.Away:
		return f.Person + " is away", true
	case fact.NotYet:
		return fmt.Sprintf("%s starts on %s", f.Person, f.On), true
	case fact.Ended:
		return fmt.Sprintf("%s ended on %s", f.Person, f.On), true
	case fact.HasValue:
		return Value(f.Attribute, f.Value), true
	case fact.Follows:
		if strings.HasPrefix(f.Other, "the ") { // that an application's file gives to all
			return fmt.Sprintf("%s is %s", f.Attribute, f.Other), true
		}
		return fmt.Sprintf("%s follows the person's %s", f.Attribute, f.Other), true
	case fact.Tidy:
		return fmt.Sprintf("tidy: doubles; %s stays, as something else brings it along", f.Thing), true
	case fact.MakesRoom:
		return fmt.Sprintf("a cell of %s holds one name, and %s brings %s along", f.Other, f.Via, f.Thing), true
	case fact.BringsAlong:
		return fmt.Sprintf("%s brings %s along", f.Via, f.Thing), true
	}
	return definition(f)
}

// definition says why a definition is to be another one, or how an account ends.
func definition(f *fact.Fact) (string, bool) {
	switch f.Kind {
	case fact.Undefined:
		return fmt.Sprintf("%s is Pravet's own (define: true), and %s has none of that name", f.Thing, f.App), true
	case fact.Retired:
		return fmt.Sprintf("%s is to go (retire: true)", f.Thing), true
	case fact.StillThere:
		return f.App + " still has it", true
	case fact.InCatalog:
		return fmt.Sprintf("in the catalog: %s %s", f.Attribute, shown(f)), true
	case fact.InApp:
		return fmt.Sprintf("in %s: %s %s", f.App, f.Attribute, shown(f)), true
	case fact.OnPath:
		text := fmt.Sprintf("path %s, step %d of %d: %s", f.Other, f.Count, f.Whole, f.Attribute)
		switch {
		case f.Limit != "" && f.Count == 1:
			text += fmt.Sprintf(", %s after the account came upon it on %s", f.Limit, f.On)
		case f.Limit != "":
			text += fmt.Sprintf(", %s after the step before, seen done on %s", f.Limit, f.On)
		}
		return text, true
	case fact.Closed:
		return fmt.Sprintf("%s is closed from %s until %s: %s", f.App, f.On, f.Until, f.Because), true
	case fact.Stands:
		return standing(f), true
	case fact.Listed:
		return fmt.Sprintf("%s is on the list %s", f.Account, f.Other), true
	case fact.AccountMatches:
		return fmt.Sprintf("the account %s matches %s", f.Account, f.Rule), true
	case fact.Idle:
		return fmt.Sprintf("nobody has signed in to %s since %s, for %s or longer", f.Account, f.On, f.Limit), true
	case fact.NeverActive:
		return fmt.Sprintf(
			"nobody has ever signed in to %s, made on %s, %s ago or longer",
			f.Account,
			f.On,
			f.Limit,
		), true
	case fact.NobodysOwn:
		return fmt.Sprintf("nobody's %s is %q", f.Attribute, f.Account), true
	case fact.Stray:
		return fmt.Sprintf("strays: %s; nobody's %s is %q", f.Value, f.Attribute, f.Account), true
	}
	return "", false
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

// notice says what is worth knowing.
func notice(f *fact.Fact) (string, bool) {
	switch f.Kind {
	case fact.NameLess:
		return fmt.Sprintf(
			"%s no %s and cannot belong to anyone; left alone",
			model.Count(f.Count, "account has", "accounts have"),
			f.Attribute,
		), true
	case fact.LeftAlone:
		return fmt.Sprintf(
			"%s alone until somebody decides: %s",
			model.Count(f.Count, "account is left", "accounts are left"),
			some(f),
		), true
	case fact.OfNobody:
		return fmt.Sprintf(
			"%s to nobody: %s",
			model.Count(f.Count, "account belongs", "accounts belong"),
			some(f),
		), true
	case fact.Unmanaged:
		return fmt.Sprintf(
			"%s outside the catalog, left alone: %s",
			model.Count(f.Whole, "holding of a "+f.Thing, "holdings of "+f.Thing+"s"),
			some(f),
		), true
	case fact.DoubleHeld:
		return fmt.Sprintf("%s is held directly although something else brings it along: %s", f.Thing, some(f)), true
	case fact.RetiredGone:
		return fmt.Sprintf("%s is retired and gone; take it out of %s", f.Thing, f.Place), true
	case fact.NestedMore:
		return fmt.Sprintf(
			"%s is within %s in the application, and the catalog does not say so; whoever is in it has both",
			f.Thing,
			f.Via,
		), true
	case fact.NestedLess:
		return fmt.Sprintf(
			"%s is not within %s in the application, although the catalog says so; it brings nothing of it along",
			f.Thing,
			f.Via,
		), true
	case fact.NestedInner:
		return fmt.Sprintf(
			"%s is within %s and not in the catalog, so its members are not counted there; add it to the catalog",
			f.Via,
			f.Thing,
		), true
	case fact.Dangling:
		return fmt.Sprintf(
			"%s no account; left alone: %s",
			model.Count(f.Count, "member of a group has", "members of groups have"),
			some(f),
		), true
	case fact.AlmostAlike:
		return fmt.Sprintf(
			"%s is to get the account %s, and nobody's account %q has almost the same name",
			f.Person,
			f.Account,
			f.Other,
		), true
	case fact.ApartAlready:
		return fmt.Sprintf(
			"%s both sides of the separation %q (%s) already: %s",
			model.Count(f.Count, "person holds", "people hold"),
			f.Other,
			f.Place,
			some(f),
		), true
	case fact.ApartAllowed:
		return fmt.Sprintf(
			"%s may hold %s until %s, in spite of the separation %q (%s): %s",
			f.Person,
			strings.Join(f.Names, " and "),
			f.Until,
			f.Other,
			f.Place,
			f.Because,
		), true
	case fact.HandOver:
		what := fmt.Sprintf("%s of the account %s", model.Count(f.Count, "record", "records"), f.Account)
		if f.Because != "" {
			return fmt.Sprintf("%s cannot be handed over: %s; correct the step at %s", what, f.Because, f.Place), true
		}
		return fmt.Sprintf("hand over %s to %s in the application itself, as %s says", what, f.Other, f.Place), true
	case fact.NoDate:
		return fmt.Sprintf(
			"%s of %s is no date, or yet to come, so nobody is idle by it: %s",
			f.Attribute, model.Count(f.Count, "account", "accounts"), some(f),
		), true
	case fact.RemovedSoon:
		if f.Count == 1 {
			return fmt.Sprintf("the account %s will be due to be removed on %s", some(f), f.On), true
		}
		return fmt.Sprintf(
			"%s accounts will be due to be removed, the first on %s: %s", model.Thousands(f.Count), f.On, some(f),
		), true
	case fact.SeenLater:
		return fmt.Sprintf(
			"steps of %s were seen done after the day of this plan, the last on %s, so what follows them is not due "+
				"by it; check the clock, or --on: %s",
			model.Count(f.Count, "account", "accounts"), f.On, some(f),
		), true
	case fact.WaitsAnew:
		return fmt.Sprintf(
			"the ledger does not know since when the steps of %s are done, so the waits begin today: %s",
			model.Count(f.Count, "account", "accounts"), some(f),
		), true
	case fact.GuardLifted:
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
		), true
	}
	return seats(f)
}

// seats says how the seats of a license are used.
func seats(f *fact.Fact) (string, bool) {
	cost := ""
	if f.Value != "" {
		cost = " (" + f.Value + ")"
	}
	switch f.Kind {
	case fact.SeatsOver:
		return fmt.Sprintf(
			"%s: %s it, and only %s bought",
			f.Thing,
			model.Count(f.Count, "account holds", "accounts hold"),
			model.Count(f.Whole, "seat was", "seats were"),
		), true
	case fact.SeatsMissing:
		return fmt.Sprintf("%s: %s missing; %d bought, %d held, %d freed by this plan. Buy %d more%s", f.Thing,
			model.Count(f.Allowed, "seat is", "seats are"), f.Whole, f.Count, f.Freed, f.Allowed, cost), true
	case fact.SeatsOfNobody:
		return fmt.Sprintf(
			"%s: %s held by accounts that belong to nobody%s: %s",
			f.Thing,
			model.Count(f.Count, "seat is", "seats are"),
			cost,
			some(f),
		), true
	case fact.SeatsOfBlocked:
		return fmt.Sprintf(
			"%s: %s held by blocked accounts%s: %s",
			f.Thing,
			model.Count(f.Count, "seat is", "seats are"),
			cost,
			some(f),
		), true
	}
	return "", false
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
