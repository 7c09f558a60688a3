package words

import (
	"fmt"

	"pravet/internal/core/fact"
	"pravet/internal/core/model"
)

// falls says what falls due on a day.
func falls(f *fact.Fact) (string, bool) {
	switch f.Kind {
	case fact.FallsStart:
		return f.Person + " starts", true
	case fact.FallsEnd:
		return "last day of " + f.Person, true
	case fact.FallsAway:
		return f.Person + " goes away", true
	case fact.FallsBack:
		return "last day away of " + f.Person, true
	case fact.FallsLacking:
		return fmt.Sprintf("%s starts without %s, which %s of %s needs", f.Person, f.Attribute, f.Thing, f.App), true
	case fact.FallsMissing:
		return fmt.Sprintf("%s has no %s, which %s of %s needs", f.Person, f.Attribute, f.Thing, f.App), true
	case fact.FallsInvited:
		return fmt.Sprintf("%s: the invitation of %s expires", f.App, f.Person), true
	case fact.FallsLinger:
		return fmt.Sprintf("last day on which %s keeps what kit %s gave", f.Person, f.Kit), true
	case fact.FallsStep:
		return fmt.Sprintf("%s: %s %s, on path %s", f.App, f.Value, f.Account, f.Other), true
	case fact.FallsWarning:
		return fmt.Sprintf(
			"%s: %s will be due to %s on %s, on path %s",
			f.App,
			f.Account,
			does(f.Value),
			f.Until,
			f.Other,
		), true
	case fact.FallsKit:
		return fmt.Sprintf("last day on which %s holds kit %s by name", f.Person, f.Kit), true
	case fact.FallsExcept:
		return fmt.Sprintf("last day on which %s is excepted from kit %s", f.Person, f.Kit), true
	case fact.FallsRejection:
		return fmt.Sprintf("last day of the rejection of %s: %s", f.Value, f.Because), true
	case fact.FallsLift:
		where := ""
		if f.App != "" {
			where = " in " + f.App
		}
		return fmt.Sprintf("last day on which the guard %s is lifted%s: %s", f.Thing, where, f.Because), true
	case fact.FallsException:
		return fmt.Sprintf("last day on which %s may break the separation %q", f.Person, f.Other), true
	case fact.FallsKept:
		return fmt.Sprintf("last day on which %s is kept: %s", f.Value, f.Because), true
	case fact.FallsShort:
		return fmt.Sprintf(
			"%s of %s runs short by %s; %d bought", f.Thing, f.App, model.Count(f.Count, "seat", "seats"), f.Whole,
		), true
	}
	return "", false
}

// does puts a step into the passive.
func does(step string) string {
	return map[string]string{
		"suspend": "be suspended", "move": "be moved", "strip": "be stripped", "remove": "be removed",
		"hand over": "be handed over",
	}[step]
}
