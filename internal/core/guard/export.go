package guard

import (
	"maps"
	"slices"

	"pravet/internal/core/diff"
	"pravet/internal/core/fact"
)

// The guards of this file.
const (
	ExportEmpty  = "export-empty"
	ExportShrink = "export-shrink"
	ExportAge    = "export-age"
	ExportPart   = "export-part"
)

var exportsFamily = family{
	guards: []Guard{
		{
			Name: ExportEmpty, Lift: ForPlan,
			Raises: []fact.Kind{fact.EmptyExport},
			Holds:  "the application's changes, when its export holds no account",
		},
		{
			Name: ExportShrink, Lift: ForPlan,
			Raises: []fact.Kind{fact.ShrunkExport},
			Holds: "the application's changes, when more accounts are missing than the limit since the last " +
				"export that was not suspicious itself",
			Limit: "`exportShrink: 20%`",
		},
		{
			Name: ExportAge, Lift: ForPlan,
			Raises: []fact.Kind{fact.OldExport, fact.FutureExport},
			Holds:  "the application's changes, when its export is older, or comes from the future",
			Limit:  "`exportAge: P1D`",
		},
		{
			Name: ExportPart, Lift: ForPlan,
			Raises: []fact.Kind{fact.PartExport},
			Holds: "what gives a group or role of which the application does not show everybody who has it; those who " +
				"are not shown are not taken out either",
		},
	},
	each: (*checker).exports,
}

// The guard of the roster.
const (
	RosterShrink = "roster-shrink"
)

var rosterFamily = family{
	guards: []Guard{
		{
			Name: RosterShrink, Lift: ForPlan,
			Raises: []fact.Kind{fact.ShrunkRoster},
			Holds: "everything that narrows, when more people are missing since the plan before that was not " +
				"suspicious itself; a run that leaves this alone changes nothing about it",
			Limit: "`rosterShrink: 10%`",
		},
	},
	all: (*checker).roster,
}

// exports holds all of an application's changes when its export cannot be
// trusted: it is empty, much smaller than the one before, or old.
func (c *checker) exports(a int) {
	n, before, lim := c.Accounts[a].Len(), c.Before[a], c.Limits[a]
	switch {
	case n == 0:
		c.out.Suspect[a] = true
		c.holdAll(a, every, ExportEmpty, fact.Fact{Kind: fact.EmptyExport})
	case before > 0 && before-n > lim.ExportShrink.Of(before):
		c.out.Suspect[a] = true
		c.holdAll(a, every, ExportShrink, limited(fact.ShrunkExport, n, lim.ExportShrink, before))
	}
	c.partial(a)
	switch taken := c.TakenAt[a]; {
	case taken > c.Clock+1: // a day is the difference of a time zone
		c.holdAll(a, every, ExportAge, fact.Fact{Kind: fact.FutureExport, On: taken.String()})
	case taken < min(c.Today, c.Clock).Back(lim.ExportAge):
		c.holdAll(
			a,
			every,
			ExportAge,
			fact.Fact{Kind: fact.OldExport, Until: taken.String(), On: min(c.Today, c.Clock).String()},
		)
	}
}

// partial holds what gives a thing of which not everybody was shown who has it, and says it of each such thing
// that the catalog has, as nobody who is not shown is taken out.
func (c *checker) partial(a int) {
	partial := c.Accounts[a].Partial
	if len(partial) == 0 {
		return
	}
	for _, t := range slices.Sorted(maps.Keys(partial)) {
		c.notice(a, fact.Fact{Kind: fact.PartExport, Thing: c.Apps[a].Things[t].String(), Because: partial[t]})
	}
	for _, i := range c.byApp[a] {
		ch := &c.Changes[i]
		if ch.Thing == diff.None || ch.Verb.OfThing() || !ch.Verb.Deed().Gains {
			continue
		}
		if why, ok := partial[ch.Thing]; ok {
			c.hold(i, ExportPart, fact.Fact{Kind: fact.PartExport, Thing: c.Apps[a].Things[ch.Thing].String(), Because: why})
		}
	}
}

// roster holds everything that narrows when many people are gone from the
// files since the plan before.
func (c *checker) roster() {
	n, before := c.People.Len(), c.PeopleBefore
	if before <= 0 || before-n <= c.LimitRoster.Of(before) {
		return
	}
	c.out.Roster = true
	for a := range c.Apps {
		c.holdAll(a, narrows, RosterShrink, limited(fact.ShrunkRoster, n, c.LimitRoster, before))
	}
}
