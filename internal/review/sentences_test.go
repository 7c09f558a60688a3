package review

import (
	"testing"

	"pravet/internal/core/model"
	"pravet/internal/core/outline"
	"pravet/internal/core/plan"
	"pravet/internal/desk"
	"pravet/internal/prepared"
)

// What a reviewer reads stands in testdata/sentences.txt, each sentence under the name of what says it. UPDATE=1 writes it anew;
// read it.
func TestSentences(t *testing.T) {
	p := &plan.Plan{
		ID: "2w57bede", AsOf: "2026-11-24", Organization: "Marrowick Ferries", People: map[string]string{"E0042": "Oskar Nyman"},
		Changes: []plan.Change{{
			ID: "drncvfz5z3qu", App: "tickets", Verb: model.Grant, Account: "oskar.nyman", Person: "E0042",
			Thing: &plan.Thing{Kind: model.Role, Name: "seller"}, ForGood: true,
		}},
	}
	c := &p.Changes[0]
	mark := map[string]*desk.Mark{c.ID: {Because: "agreed with the owner"}}
	r := &desk.Review{Plan: p, Called: p.ID}
	r.Saved.Marks = mark
	r.Saved.Lifts = []desk.LiftMark{{Guard: "suspensions", Because: "the season is over"}}
	none := &desk.Review{Plan: p}
	fold := outline.Fold{App: "tickets", Verb: model.Grant, Thing: c.Thing, People: []string{"Oskar Nyman"}, Persons: 1, Changes: []string{c.ID}}
	cause := &outline.Cause{Kind: outline.Lined, File: "kits/ashore.yaml", Line: 5, Persons: 1, Changes: []string{c.ID}}
	what, because := sayCauseOf(cause, []outline.Fold{fold})
	list := func(lines []string) (out []any) {
		for _, l := range lines {
			out = append(out, l)
		}
		return out
	}
	prepared.Sentences(t, map[string][]any{
		"SayLeft":          {SayLeft(r), SayLeft(none)},
		"sayAll":           list(sayAll(r)),
		"sayAnyKey":        {sayAnyKey()},
		"sayCauseOf":       {what, because},
		"sayChange":        {sayChange(r, c)},
		"sayConfirmPrompt": {sayConfirmPrompt()},
		"sayFilterPrompt":  {sayFilterPrompt()},
		"sayFold":          {sayFold(&fold)},
		"sayFresh":         {sayFresh("accepted"), sayFresh("rejected"), sayFresh("held"), sayFresh("waiting")},
		"sayGroup":         {sayGroup("department", "department", "Deck"), sayGroup("kit", "", ""), sayGroup("thing", "", ""), sayGroup("kit", "", "crew")},
		"sayGroupHeading":  {sayGroupHeading("cause"), sayGroupHeading("kit")},
		"sayGroupPrompt":   {sayGroupPrompt()},
		"sayGuardPrompt":   {sayGuardPrompt()},
		"sayHeld":          {sayHeld(&outline.Held{App: "rosters", Guard: "suspensions", Shared: true, Says: "5 accounts would be suspended"})},
		"sayHeldHeading":   {sayHeldHeading()},
		"sayHelp":          list(sayHelp()),
		"sayKeys":          {sayKeys(0, 80), sayKeys(0, 120), sayKeys(3, 80)},
		"sayKeysOfOne":     {sayKeysOfOne()},
		"sayLeft":          {sayLeft(0), sayLeft(1), sayLeft(3)},
		"sayLifted":        {sayLifted("suspensions", false), sayLifted("at-least", true)},
		"sayLineHelp":      list(sayLineHelp()),
		"sayLinePrompt":    {sayLinePrompt()},
		"sayLineReason":    {sayLineReason("accept")},
		"sayLook":          {sayLook(p, &outline.Unusual{Mark: outline.Sensitive, Changes: []string{c.ID, "x", "y"}}, c)},
		"sayLookHeading":   {sayLookHeading()},
		"sayNoReason":      {sayNoReason()},
		"sayNoSuchLine":    {sayNoSuchLine("fly")},
		"sayNoSuchRow":     {sayNoSuchRow("99", 31)},
		"sayNone":          {sayNone(`app eq "berths"`)},
		"sayNotHeld":       {sayNotHeld()},
		"sayNotUntil":      {sayNotUntil("soon")},
		"sayNothing":       {sayNothing()},
		"sayOnly":          {sayOnly(4, 38, `app eq "berths"`)},
		"sayPromptKeys":    {sayPromptKeys(true), sayPromptKeys(false)},
		"sayReadingMore":   {sayReadingMore()},
		"sayReasonFor":     {sayReasonFor("Accept 3 changes")},
		"sayRow":           {sayRow(3, "7 changes, rosters: suspend accounts", "no longer here", "7 undecided"), sayRow(4, "one", "", "held")},
		"sayRowAway":       {sayRowAway(7)},
		"saySeats": {
			saySeats(nil, 1), saySeats(&desk.Seatings{}, 1),
			saySeats(&desk.Seatings{
				Seats: []desk.Seating{
					{App: "tickets", License: "till-seat", Bought: 12, Before: 11, After: 12}, {App: "stores", License: "full", Bought: -1, Before: 1},
				},
				Costs: []plan.Cost{{Currency: "EUR", Before: "300.00", After: "311.50"}, {Currency: "NOK", Before: "5.00", After: "5.00"}},
			}, 1),
		},
		"sayState":  {sayState("held", false), sayState("accepted", true)},
		"sayStates": {sayStates(map[string]int{"held": 3, "undecided": 1200}, map[string]int{"accepted": 2, "rejected": 1})},
		"sayTitle":  {sayTitle(p)},
		"sayTold": {
			sayTold("to accept", desk.Told{Marked: 2, ForGood: 1, Rejected: 1, Stands: 1, Done: 1, Along: 1, Over: 2}), sayTold("to reject", desk.Told{}),
		},
		"sayUnlifted":   {sayUnlifted("suspensions")},
		"sayUntil":      {sayUntil()},
		"sayWaits":      {sayWaits(nil)},
		"sayWhichGuard": {sayWhichGuard([]string{"seats", "sensitive"})},
	})
}
