package words

import (
	"fmt"

	"pravet/internal/core/fact"
	"pravet/internal/core/model"
)

// falling says each of its kinds of facts in a sentence.
var falling = sentences{
	fact.FallsStart: func(f *fact.Fact) string {
		return f.Person + " starts"
	},
	fact.FallsLead: func(f *fact.Fact) string {
		return fmt.Sprintf("%s: an account is made for %s, who starts on %s", f.App, f.Person, f.Until)
	},
	fact.FallsEnd: func(f *fact.Fact) string {
		return "last day of " + f.Person
	},
	fact.FallsAway: func(f *fact.Fact) string {
		return f.Person + " goes away"
	},
	fact.FallsBack: func(f *fact.Fact) string {
		return "last day away of " + f.Person
	},
	fact.FallsLacking: func(f *fact.Fact) string {
		return fmt.Sprintf("%s starts without %s, which %s of %s needs", f.Person, f.Attribute, f.Thing, f.App)
	},
	fact.FallsMissing: func(f *fact.Fact) string {
		return fmt.Sprintf("%s has no %s, which %s of %s needs", f.Person, f.Attribute, f.Thing, f.App)
	},
	fact.FallsInvited: func(f *fact.Fact) string {
		return fmt.Sprintf("%s: the invitation of %s expires", f.App, f.Person)
	},
	fact.FallsLinger: func(f *fact.Fact) string {
		return fmt.Sprintf("last day on which %s keeps what kit %s gave", f.Person, f.Kit)
	},
	fact.FallsStep: func(f *fact.Fact) string {
		return fmt.Sprintf("%s: %s %s, on path %s", f.App, f.Value, f.Account, f.Other)
	},
	fact.FallsWarning: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"%s: %s will be due to %s on %s, on path %s",
			f.App,
			f.Account,
			does(f.Value),
			f.Until,
			f.Other,
		)
	},
	fact.FallsKit: func(f *fact.Fact) string {
		return fmt.Sprintf("last day on which %s holds kit %s by name", f.Person, f.Kit)
	},
	fact.FallsExcept: func(f *fact.Fact) string {
		return fmt.Sprintf("last day on which %s is excepted from kit %s", f.Person, f.Kit)
	},
	fact.FallsRejection: func(f *fact.Fact) string {
		return fmt.Sprintf("last day of the rejection of %s: %s", f.Value, f.Because)
	},
	fact.FallsLift: func(f *fact.Fact) string {
		where := ""
		if f.App != "" {
			where = " in " + f.App
		}
		return fmt.Sprintf("last day on which the guard %s is lifted%s: %s", f.Thing, where, f.Because)
	},
	fact.FallsException: func(f *fact.Fact) string {
		return fmt.Sprintf("last day on which %s may break the separation %q", f.Person, f.Other)
	},
	fact.FallsKept: func(f *fact.Fact) string {
		return fmt.Sprintf("last day on which %s is kept: %s", f.Value, f.Because)
	},
	fact.FallsClosed: func(f *fact.Fact) string {
		return fmt.Sprintf("%s is closed until %s: %s", f.App, f.Until, f.Because)
	},
	fact.FallsOpen: func(f *fact.Fact) string {
		return f.App + " opens again"
	},
	fact.FallsMatch: func(f *fact.Fact) string {
		return fmt.Sprintf("the rule of kit %s begins to match %s", f.Kit, f.Person)
	},
	fact.FallsMatchEnd: func(f *fact.Fact) string {
		return fmt.Sprintf("the rule of kit %s no longer matches %s", f.Kit, f.Person)
	},
	fact.FallsShort: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"%s of %s runs short by %s; %d bought", f.Thing, f.App, model.Count(f.Count, "seat", "seats"), f.Whole,
		)
	},
}

// does puts a step into the passive.
func does(step string) string {
	return map[string]string{
		"suspend": "be suspended", "move": "be moved", "strip": "be stripped", "remove": "be removed",
		"hand over": "be handed over",
	}[step]
}
