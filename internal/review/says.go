package review

import (
	"errors"
	"fmt"
	"strings"

	"pravet/internal/core/day"
	"pravet/internal/core/model"
	"pravet/internal/core/outline"
	"pravet/internal/core/plan"
	"pravet/internal/core/words"
	"pravet/internal/desk"
)

// stateOrder is the order in which states are told.
var stateOrder = []string{"undecided", "held", "waiting", "accepted", "rejected", "done"}

// sayStates counts changes by what is decided about them; what this review decides is said as what is to come.
func sayStates(on, fresh map[string]int) string {
	var parts []string
	for _, s := range stateOrder {
		if n := on[s]; n > 0 {
			parts = append(parts, model.Thousands(n)+" "+s)
		}
	}
	for _, s := range stateOrder {
		if n := fresh[s]; n > 0 {
			parts = append(parts, model.Thousands(n)+" "+sayFresh(s))
		}
	}
	return strings.Join(parts, ", ")
}

// sayFresh is what becomes of a change once the review is confirmed.
func sayFresh(state string) string {
	return map[string]string{
		"accepted": "to accept", "rejected": "to reject", "waiting": "to accept (others decide too)", "held": "to accept (held)",
	}[state]
}

// sayState is what is decided about one change.
func sayState(state string, fresh bool) string {
	if fresh {
		return sayFresh(state)
	}
	return state
}

// sayHeldHeading is above what guards hold.
func sayHeldHeading() string { return "Held by guards" }

// sayLookHeading is above what is unusual.
func sayLookHeading() string { return "Deserves a look" }

// sayGroupHeading is above the groups.
func sayGroupHeading(by string) string {
	if by == "cause" {
		return "All changes, by cause"
	}
	return "All changes, by " + by
}

// sayHeld is what one guard holds.
func sayHeld(h *outline.Held) string {
	text := h.App + ", guard " + h.Guard
	if h.Shared {
		text += ": " + words.Clean(h.Says)
	}
	return text
}

// sayLook is why some changes deserve a look, with the first of them.
func sayLook(p *plan.Plan, u *outline.Unusual, first *plan.Change) string {
	text := words.Marked(u.Mark)
	if first != nil {
		text += ": " + words.Sentence(p, first)
	}
	if more := len(u.Changes) - 1; more > 0 {
		text += fmt.Sprintf(" and %s more", model.Thousands(more))
	}
	return text
}

// sayCauseOf is what most of a cause's changes do, and what causes them.
func sayCauseOf(c *outline.Cause, folds []outline.Fold) (what, because string) {
	if len(folds) == 0 {
		return "", words.CauseInShort(c)
	}
	what = words.Alike(&folds[0])
	if more := len(c.Changes) - len(folds[0].Changes); more > 0 {
		what += fmt.Sprintf(" and %s more", model.Thousands(more))
	}
	if folds[0].Persons == 1 && c.Persons == 1 {
		what += ", " + words.Who(&folds[0])
	}
	return what, words.CauseInShort(c)
}

// sayFold is what alike changes do, and to whom.
func sayFold(f *outline.Fold) string {
	text := words.Alike(f)
	if who := words.Who(f); who != "" {
		text += ": " + who
	}
	return text
}

// sayTitle is what plan this is.
func sayTitle(p *plan.Plan) string {
	text := fmt.Sprintf("Review of plan %s of %s, %s", p.ID, p.AsOf, words.Clean(p.Organization))
	if p.Undoes != "" {
		text += ", which undoes " + words.Clean(p.Undoes)
	}
	return text
}

// saySeats is what the seats and the costs would be. Only the first few are said where there is not room for all.
func saySeats(s *desk.Seatings, most int) string {
	if s == nil {
		return "counting seats …"
	}
	var parts []string
	for i := range s.Seats {
		if i == most && len(s.Seats) > most {
			parts = append(parts, fmt.Sprintf("and %d more", len(s.Seats)-most))
			break
		}
		x := &s.Seats[i]
		of := ""
		if x.Bought >= 0 {
			of = " of " + model.Thousands(x.Bought)
		}
		parts = append(parts, fmt.Sprintf(
			"%s %s %s, then %s%s", x.App, words.Clean(x.License), model.Thousands(x.Before), model.Thousands(x.After), of,
		))
	}
	text := "Seats: " + strings.Join(parts, "; ")
	if len(parts) == 0 {
		text = "Seats: as before"
	}
	for _, c := range s.Costs {
		if c.Before == c.After {
			text += fmt.Sprintf(". Cost: %s %s/month", c.Before, c.Currency)
		} else {
			text += fmt.Sprintf(". Cost: %s, then %s %s/month", c.Before, c.After, c.Currency)
		}
	}
	return text
}

// sayWaits is for whom changes wait, "" where anybody may decide.
func sayWaits(all []*desk.Waiting) string {
	var parts []string
	for _, w := range all {
		if w.Rule != nil {
			parts = append(parts, fmt.Sprintf("%s for %s", model.Thousands(len(w.Changes)), w.Who()))
		}
	}
	if len(parts) == 0 {
		return ""
	}
	return "Waiting: " + strings.Join(parts, "; ")
}

// sayTold is what came of a decision.
func sayTold(verb string, t desk.Told) string {
	var parts []string
	if t.Marked > 0 {
		parts = append(parts, fmt.Sprintf("%s %s", model.Count(t.Marked, "change", "changes"), verb))
	} else {
		parts = append(parts, "nothing "+verb)
	}
	add := func(n int, text string) {
		if n > 0 {
			parts = append(parts, fmt.Sprintf("%s %s", model.Thousands(n), text))
		}
	}
	along := "along with them, because they need each other"
	add(t.Along, along)
	add(t.Over, "decided otherwise before")
	add(t.ForGood, "left out because they cannot be undone: choose each individually")
	add(t.Rejected, "left out because they were rejected before: choose each individually")
	add(t.Stands, "left out because standing.yaml rejects them")
	add(t.Done, "carried out already")
	return strings.Join(parts, "; ") + ". Nothing is recorded until you confirm."
}

// sayLeft is that decisions of this review were taken back.
func sayLeft(n int) string {
	if n == 0 {
		return "Nothing to take back here: this review has not decided about it."
	}
	return fmt.Sprintf("%s undecided again in this review.", model.Count(n, "change is", "changes are"))
}

// sayLifted is a guard that was lifted.
func sayLifted(guard string, one bool) string {
	what := "this plan"
	if one {
		what = "this change"
	}
	return fmt.Sprintf("The guard %s is lifted for %s. Nothing is recorded until you confirm.", guard, what)
}

// sayUnlifted is a guard that holds again.
func sayUnlifted(guard string) string { return fmt.Sprintf("The guard %s is no longer lifted.", guard) }

// sayNotHeld is a lift of what nothing holds.
func sayNotHeld() string { return "No guard holds this." }

// sayWhichGuard is a lift of what several guards hold.
func sayWhichGuard(names []string) string {
	return "Several guards hold this: " + strings.Join(names, ", ") + ". Which one?"
}

// sayNoReason is a decision without a reason.
func sayNoReason() error { return errors.New("a decision needs a reason") }

// sayReasonFor asks for a reason.
func sayReasonFor(what string) string { return what + ", because: " }

// sayUntil asks how long a rejection counts.
func sayUntil() string { return "Until (YYYY-MM-DD; empty: no end; standing: into standing.yaml): " }

// sayNotUntil is an answer that is neither.
func sayNotUntil(text string) error {
	return fmt.Errorf("%q is not a day; write YYYY-MM-DD, standing, standing YYYY-MM-DD, or nothing", text)
}

// sayFilterPrompt asks for a filter.
func sayFilterPrompt() string { return "Filter: " }

// sayGroupPrompt asks what to group by.
func sayGroupPrompt() string { return "Group by: " }

// sayGuardPrompt asks for a guard.
func sayGuardPrompt() string { return "Lift the guard: " }

// sayConfirmPrompt asks whether all that was decided is to be recorded.
func sayConfirmPrompt() string { return "Record all of this? Type yes: " }

// sayKeys are the keys of the list, the most needed first.
func sayKeys(picked, columns int) string {
	switch {
	case picked > 0:
		return fmt.Sprintf("%d selected: a accept  r reject  u undecide  esc select none  c confirm", picked)
	case columns < 112:
		return "enter open  a accept  r reject  l lift  u undecide  c confirm  q leave  ? keys"
	}
	return "enter open  a accept  r reject  l lift  u undecide  space select  n next  / filter  g group  c confirm  q leave  ? keys"
}

// sayKeysOfOne are the keys while one change is shown.
func sayKeysOfOne() string {
	return "esc back  a accept  r reject  l lift  u undecide  up/down scroll  n next"
}

// sayPromptKeys are the keys while something is asked for.
func sayPromptKeys(reasons bool) string {
	if reasons {
		return "enter go on  up/down earlier reasons  esc not now"
	}
	return "enter go on  esc not now"
}

// sayHelp is what the keys do.
func sayHelp() []string {
	return []string{
		"up, down, k, j    the row above or below; page up, page down, home, end",
		"enter, right      open a row, or show one change with everything that is known of it",
		"left              close a row, or go to the row that it belongs to",
		"n                 go to the next row with something undecided or held",
		"space             select the changes of a row, or leave them out again",
		"esc               select nothing, show everything again, go back",
		"a                 accept the row, or what is selected",
		"r                 reject it: until a day, without an end, or in standing.yaml",
		"l                 lift the guard that holds it, or let it hold again",
		"u                 take back what this review has decided about it",
		"/                 show only changes that a filter matches, for example",
		"                  app eq \"tickets\" and effect eq \"widens\"",
		"g                 group by cause, person, kit, thing, app, verb or an attribute of people",
		"c                 read what was decided once more, and record it as a whole",
		"q                 leave; what was decided is kept, and nothing is recorded",
		"",
		"What cannot be undone, and what was rejected before, is accepted only",
		"individually: open its row, choose the change, and press a.",
	}
}

// SayLeft is said when a review is left.
func SayLeft(r *desk.Review) string {
	if r.Empty() {
		return sayNothing()
	}
	n := len(r.Saved.Marks)
	return fmt.Sprintf(
		"Nothing was recorded. Your review has decided about %s so far; go on with: pravet review %s",
		model.Count(n, "change", "changes"), r.Called,
	)
}

// sayNothing is said when a review is left that has decided nothing.
func sayNothing() string { return "Nothing was decided, and nothing was recorded." }

// sayNone is a list without changes.
func sayNone(filter string) string { return "No change matches " + filter }

// Summary is what a review would record: a line for each decision.
func Summary(r *desk.Review) (lines []string) {
	for _, x := range r.Parts() {
		n := len(x.Choice.Changes)
		switch {
		case x.Reject:
			text := "reject " + model.Count(n, "change", "changes")
			if x.Until.String() != "" {
				text += " until " + x.Until.String()
			}
			if x.Standing {
				text += " (in standing.yaml)"
			}
			lines = append(lines, text+", because "+words.Clean(x.Because))
		case len(x.Lift.Guards) > 0:
			text := "lift the guard " + strings.Join(x.Lift.Guards, ", ") + " for "
			if len(x.Lift.Changes) > 0 {
				text += words.Sentence(r.Plan, r.Change(x.Lift.Changes[0]))
			} else {
				text += "this plan"
			}
			lines = append(lines, text+", because "+words.Clean(x.Because))
		default:
			lines = append(lines, "accept "+model.Count(n, "change", "changes")+", because "+words.Clean(x.Because))
		}
	}
	return lines
}

// mostTold is how many changes of each decision are told before it is confirmed.
const mostTold = 8

// sayAll is what a review would record, with the changes that it is about.
func sayAll(r *desk.Review) (lines []string) {
	parts := r.Parts()
	for i, text := range Summary(r) {
		lines = append(lines, text)
		n := 0
		for k := range r.Plan.Changes {
			if c := &r.Plan.Changes[k]; parts[i].Choice.Changes[c.ID] {
				if n++; n <= mostTold {
					lines = append(lines, "    "+sayChange(r, c))
				}
			}
		}
		if n > mostTold {
			lines = append(lines, fmt.Sprintf("    and %s more", model.Thousands(n-mostTold)))
		}
	}
	return lines
}

// sayChange is one change in one line.
func sayChange(r *desk.Review, c *plan.Change) string {
	text := words.Sentence(r.Plan, c)
	if c.ForGood {
		text += ", for good"
	}
	return text
}

// sayReadingMore stands where more is read.
func sayReadingMore() string { return "reading what else is known …" }

// sayAnyKey is how the keys are left.
func sayAnyKey() string { return "any key: back" }

// sayOnly is how much a filter leaves.
func sayOnly(n, of int, filter string) string {
	return fmt.Sprintf("%s of %s: %s", model.Thousands(n), model.Thousands(of), words.Clean(filter))
}

// sayGroup is what the changes of a group have in common.
func sayGroup(by, attr, key string) string {
	switch {
	case attr != "" && key == "":
		return attr + ": none"
	case attr != "":
		return attr + ": " + words.Clean(key)
	case by == "kit" && key == "":
		return "no kit"
	case by == "kit":
		return "kit " + words.Clean(key)
	case by == "thing" && key == "":
		return "accounts themselves"
	case key == "":
		return "none"
	}
	return words.Clean(key)
}

// readUntil reads how long a rejection counts.
func readUntil(text string) (until day.Day, standing bool, err error) {
	rest, standing := strings.CutPrefix(strings.TrimSpace(text), "standing")
	if rest = strings.TrimSpace(rest); rest == "" {
		return day.None, standing, nil
	}
	if until, err = day.Parse(rest); err != nil {
		return day.None, false, sayNotUntil(text)
	}
	return until, standing, nil
}

// sayLinePrompt asks for a command.
func sayLinePrompt() string { return "review: " }

// sayLineHelp are the commands of a review line by line.
func sayLineHelp() []string {
	return []string{
		"list                                  all rows, with their numbers",
		"status                                what is decided, seats, cost, and who has to decide",
		"open 4                                what is in row 4, or everything about one change",
		"accept 4 because REASON               accept row 4; 4-6,9 takes several rows",
		"reject 4 because REASON               reject it; until 2027-01-31, or standing, may stand before because",
		"lift 4 because REASON                 lift the guard that holds it; lift 4 GUARD because REASON where there are several",
		"undecide 4                            take back what this review has decided about it",
		"filter app eq \"tickets\"               show only changes that a filter matches; filter alone shows all",
		"group person                          group by cause, person, kit, thing, app, verb or an attribute of people",
		"record                                record what was decided, as a whole",
		"quit                                  leave; what was decided is kept, and nothing is recorded",
	}
}

// sayNoSuchLine is a command that is none.
func sayNoSuchLine(word string) error {
	return fmt.Errorf("%q is not a command here; type help for all of them", words.Clean(word))
}

// sayNoSuchRow is the number of no row.
func sayNoSuchRow(text string, last int) error {
	return fmt.Errorf("there is no row %q; rows have the numbers up to %d, as list shows them", words.Clean(text), last)
}

// sayLineReason is a decision without a reason.
func sayLineReason(word string) error {
	return fmt.Errorf("%s needs a reason: %s 4 because REASON", word, word)
}

// sayRow is a row in one line, with the number by which it is called.
func sayRow(n int, text, because, tail string) string {
	if because != "" {
		text += "; cause: " + because
	}
	return fmt.Sprintf("%d. %s (%s)", n, text, tail)
}

// sayRowAway is a row that was listed and is not listed now.
func sayRowAway(n int) error {
	return fmt.Errorf("row %d is not listed now, because of the filter or the grouping; type list to see which rows are", n)
}
