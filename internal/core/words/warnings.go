package words

import (
	"fmt"

	"pravet/internal/core/fact"
	"pravet/internal/core/model"
)

// warnings says each of its kinds of facts in a sentence.
var warnings = sentences{
	fact.ApartInFiles: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"the files give both sides of the separation %q to %s: %s",
			f.Other, model.Count(f.Count, "person", "people"), some(f),
		)
	},
	fact.SeatsInFiles: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"%s a seat of %s in %s, and %s bought",
			model.Count(f.Count, "person needs", "people need"), f.Thing, f.App,
			model.Count(f.Whole, "seat was", "seats were"),
		)
	},
	fact.DecidesNoMore: func(f *fact.Fact) string { return "who decides, and how that is proved, changes; it was: " + f.Value },
	fact.DecidesNow: func(f *fact.Fact) string {
		return "who decides, and how that is proved, changes; it is now: " + f.Value
	},
	fact.SensitiveGained: func(f *fact.Fact) string {
		return fmt.Sprintf(
			"%s of %s is sensitive, and the files now give it to %s: %s",
			f.Thing, f.App, model.Count(f.Count, "more person", "more people"), some(f),
		)
	},
}

// Remedy says what to do about a warning.
func Remedy(f *fact.Fact) string {
	switch f.Kind {
	case fact.ApartInFiles:
		return "change a rule, or add an exception to standing.yaml"
	case fact.SeatsInFiles:
		return "buy more, or let fewer kits give it"
	case fact.DecidesNoMore, fact.DecidesNow:
		return "make sure that those agree who decided before"
	case fact.SensitiveGained:
		return "make sure that this is meant; why, person by person: pravet compare " + f.Via
	}
	return ""
}
