package say

import (
	"errors"
	"fmt"
	"strings"

	"pravet/internal/core/decide"
	"pravet/internal/core/model"
	"pravet/internal/ledger"
)

// Interrupted is said where the user interrupts before anything was carried out.
func Interrupted() error { return errors.New("interrupted; nothing was changed") }

// NotToday is a plan for a day that is yet to come.
func NotToday(asOf, today string) error {
	return fmt.Errorf(
		"the plan is for %s, and today is %s; nothing was changed. Apply it then, or draft one for today", asOf, today,
	)
}

// LedgerBrokenBefore is a ledger that does not hold all that was written, before a run.
func LedgerBrokenBefore(says string) error {
	return fmt.Errorf("the ledger is not whole: %s; nothing was changed. Put the whole ledger back", says)
}

// HeldByGuards is all that is left of a plan.
func HeldByGuards(n int) error {
	return fmt.Errorf("%s held by a guard", model.Count(n, "change is", "changes are"))
}

// ConsentNotRecorded is a yes that the ledger could not take.
func ConsentNotRecorded(err error) error {
	return fmt.Errorf("the consent could not be recorded, and nothing was changed: %w", err)
}

// RunNotBegun is a run that failed before its first step.
func RunNotBegun(err error) error {
	return fmt.Errorf("the run did not begin, and nothing was changed: %w", err)
}

// Stopped is a run that did not come to its end.
func Stopped(run string, err error, plan string) error {
	return fmt.Errorf("%s stopped: %w; to go on: pravet apply %s", run, err, plan)
}

// EndedBut is a run that came to its end, after which something went wrong.
func EndedBut(run string, err error) error {
	return fmt.Errorf("%s came to its end, but %w", run, err)
}

// NotAccepted is a plan that nobody accepted, where nobody can be asked.
func NotAccepted(plan string) error {
	return fmt.Errorf(
		"the plan is not accepted, and there is no terminal to ask on; accept it first with: pravet accept %s "+
			"--because 'why', or use --yes", plan,
	)
}

// NoAnswer is a question that was not answered.
func NoAnswer() error { return errors.New("there was no answer; nothing was changed") }

// NotConfirmed is an answer other than the one that was asked for.
func NotConfirmed() error { return errors.New("not confirmed; nothing was changed") }

// Question asks whether to carry out a plan.
func Question() string { return "Carry this out? Type yes: " }

// HowMany asks for the number of changes that cannot be undone.
func HowMany() string {
	return "To carry this out, type how many of these changes cannot be undone: "
}

// CountForGood is a run that would do what cannot be undone, of which nobody has said how
// much that is.
func CountForGood(n int) error {
	return fmt.Errorf(
		"%s cannot be undone, and nothing was changed; add --yes-for-good %d, or reject what is not meant",
		model.Count(n, "change", "changes"), n,
	)
}

// NoUnattended is an --unattended where pravet.yaml does not say what that may be.
func NoUnattended() error {
	return errors.New(
		"pravet.yaml does not say which changes may be carried out with nobody there; add for example: " +
			"unattended: effect eq \"keeps\" or verb eq \"suspend\"",
	)
}

// Unattended is the reason of what is accepted so.
func Unattended(filter string) string { return "unattended: " + filter }

// LeftForSomebody counts what is left after an unattended run.
func LeftForSomebody(n int, plan string) string {
	return fmt.Sprintf(
		"%s left for a person; see: pravet show %s", model.Count(n, "change is", "changes are"), plan,
	)
}

// Part is why a part of a plan was accepted that somebody has chosen by a filter.
func Part(only string) string { return "asked at apply --only " + only }

// LeftOfPlan counts what is left of a plan of which a part was carried out.
func LeftOfPlan(n int, plan string) string {
	return fmt.Sprintf(
		"%s left of this plan; go on with: pravet accept %s, and pravet apply %s",
		model.Count(n, "change is", "changes are"), plan, plan,
	)
}

// NothingToDo is said of a plan with nothing ready.
func NothingToDo() string { return "There is nothing to carry out." }

// LeftAlone is how many changes are left alone, and why; "" where there are none. today
// is the day of the run.
func LeftAlone(state decide.State, n int, today string) string {
	why := map[decide.State]string{
		decide.Completed: "done already",
		decide.Waiting:   "not accepted, left alone",
		decide.Refused:   "rejected, left alone",
		decide.Held:      "held by a guard, left alone",
		decide.Lacking:   "left alone, as something that it needs is not carried out",
		decide.Uploaded:  "waiting for somebody to carry them out, left alone",
		decide.Past:      "no longer due on " + today + ", left alone",
	}[state]
	if n == 0 || why == "" {
		return ""
	}
	if state == decide.Uploaded && n == 1 {
		why = "waiting for somebody to carry it out, left alone"
	}
	if state == decide.Lacking && n > 1 {
		why = "left alone, as something that they need is not carried out"
	}
	return model.Count(n, "change", "changes") + " " + why
}

// More counts what is not named.
func More(n int) string { return "and " + model.Count(n, "more", "more") }

// Came is what a run came to.
func Came(run, plan string, settled, not int) string {
	return fmt.Sprintf(
		"%s of plan %s: %s settled, %d not settled.",
		run,
		plan,
		model.Count(settled, "change", "changes"),
		not,
	)
}

// ForSomebody is that changes wait for somebody to carry them out.
func ForSomebody(n int, plan string) string {
	return fmt.Sprintf(
		"%s for somebody to carry %s out; when the application is exported again, go on with: pravet apply %s",
		model.Count(n, "change waits", "changes wait"), model.Plural(n, "it", "them"), plan,
	)
}

// Arrived is what the export of an application shows of changes that waited.
func Arrived(run, app string, seen, of int, missing []string) string {
	text := fmt.Sprintf(
		"%s: of %s that waited in %s, the export shows %d now",
		app,
		model.Count(of, "change", "changes"),
		run,
		seen,
	)
	if len(missing) > 0 {
		text += "; still missing:"
	}
	for _, m := range missing {
		text += "\n  " + m
	}
	return text
}

// WrittenOnly is an application that was written and not read back.
func WrittenOnly(app string) string {
	return app + " was written, and what became of that is not on record yet; the next draft or apply reads it back."
}

// LackingAfter counts what was left alone for something else that was.
func LackingAfter(n int) string {
	return fmt.Sprintf(
		"%s left alone, as something that %s not carried out.",
		model.Count(n, "change is", "changes are"), needs(n),
	)
}

func needs(n int) string {
	if n == 1 {
		return "it needs is"
	}
	return "they need is"
}

// HeldBy is what guards hold after a run; lift is one of them that can be lifted, or "".
func HeldBy(n int, guards []string, plan, lift string) string {
	text := fmt.Sprintf("%s held by %s", model.Count(n, "change is", "changes are"), strings.Join(guards, ", "))
	if lift != "" {
		text += fmt.Sprintf("; to lift one: pravet accept %s --lift %s --because 'why'", plan, lift)
	}
	return text
}

// OnRecord says where a run can be read again, and how the ledger ends.
func OnRecord(run string, entry int64, hash string) string {
	return fmt.Sprintf("On record: pravet log %s. The ledger ends with entry %d, %s", run, entry, hash)
}

// ToldElsewhere is said on standard error where standard output cannot be written.
func ToldElsewhere(err error) string {
	return fmt.Sprintf("standard output could not be written (%v); this is what was done:", err)
}

// UnderWay is a run of somebody else while a plan is drafted.
func UnderWay(holder string) string {
	return "A run is under way, so this plan may soon be out of date: " + holder
}

// UnderWayToo is a run while something is decided; it stands after a mark of its own.
func UnderWayToo(holder string) (mark, text string) {
	return "A run is under way: ", holder + ". What it has not begun yet follows this decision."
}

// WhatNow is what to do about a change that is not settled; "" where its reason says so.
func WhatNow(r ledger.Result) string {
	return map[ledger.Result]string{
		ledger.Refused: "mend it in the application or in the files, or reject the change",
		ledger.Failed:  "apply the plan again once the application is well",
		ledger.Unknown: "apply the plan again: it is looked up first, and not done twice",
		ledger.Ignored: "look at the application itself; something there undoes it, or it waits for somebody",
	}[r]
}
