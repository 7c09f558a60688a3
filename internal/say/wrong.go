// Package say holds the sentences that commands say: what is wrong with how one was
// called, why it did not go on, what it did. Each is a function of the facts that it
// tells, and computes nothing. What plans say, reasons, holds and notices, is in
// package words.
package say

import (
	"errors"
	"fmt"
	"strings"

	"pravet/internal/core/day"
	"pravet/internal/core/model"
)

// Flag is what is wrong with the value of a flag.
func Flag(name string, err error) error { return fmt.Errorf("--%s: %w", name, err) }

// EmptyFilter is a filter that matches everything where only a part is meant.
func EmptyFilter() error {
	return errors.New(`the filter is empty; write one, for example person eq "E0118", or leave the flag out`)
}

// FilterColumn is what is wrong in a filter, at a column of it.
func FilterColumn(column int, err error) error {
	return fmt.Errorf("--only, column %d: %w", column, err)
}

// NotOneOf is a value of a flag that takes only some.
func NotOneOf(flag, value string, known []string) error {
	return fmt.Errorf("--%s cannot be %q; use one of %s", flag, value, strings.Join(known, ", "))
}

// Exclusive is said of flags of which one can be used.
func Exclusive(flags []string) string {
	return "--" + strings.Join(flags, " and --") + " exclude each other; use one of them"
}

// Missing asks for a word that a command needs.
func Missing(question, example string) error {
	return fmt.Errorf("%s For example: %s", question, example)
}

// NoWords is a word after a command that takes none.
func NoWords(command, word string) error {
	return fmt.Errorf("%s takes flags only, and %q is none", command, word)
}

// TooManyWords is more words than a command takes.
func TooManyWords(words []string, command, example string) error {
	return fmt.Errorf("unexpected argument %q; for example: %s", strings.Join(words, " "), example)
}

// NoFolder is a --repo that is not there.
func NoFolder(name string) error { return fmt.Errorf("%s: there is no such folder", name) }

// NoRepository is a --repo without a desired state.
func NoRepository(folder, root string) error {
	return fmt.Errorf("%s: there is no %s in this folder; start a repository with: pravet new %s", folder, root, folder)
}

// Problems is said below the problems of files that do not pass.
func Problems(n int) error {
	return fmt.Errorf(
		"the files have %s that must be fixed first; see them all with: pravet check",
		model.Count(n, "problem", "problems"),
	)
}

// RevisionProblems is a revision whose files do not pass.
func RevisionProblems(revision string, n int, first error) error {
	return fmt.Errorf(
		"the files of revision %s do not pass: they have %s, the first: %w", revision,
		model.Count(n, "problem", "problems"), first,
	)
}

// EmptyRevision is a revision without a name.
func EmptyRevision() error {
	return errors.New("the name of a revision is empty; name one, for example HEAD~1")
}

// TooManyForWith is a second revision beside --with.
func TooManyForWith() error {
	return errors.New("--with compares one revision with itself and files as they are now; name one revision at most")
}

// NotPast is an --at that is not a past day.
func NotPast(on day.Day) error {
	return fmt.Errorf("--at: %s is in the future; to see what is due then, use --on %s", on, on)
}

// NoReason is a decision without --because.
func NoReason() error { return errors.New("a decision needs a reason: --because 'why'") }

// NothingToDecide is a decision about a plan that has been carried out.
func NothingToDecide(plan string) error {
	return fmt.Errorf(
		"plan %s has been carried out, so there is nothing left to decide about it; draft again with: pravet draft",
		plan,
	)
}

// TooOldToDecide is a decision about a plan that is out of date.
func TooOldToDecide(plan string, moved []string) error {
	return fmt.Errorf(
		"plan %s is out of date, and nothing was decided: %s. Draft again, and decide about the new plan", plan,
		strings.Join(moved, "; "),
	)
}

// NothingFits is a selection that no change fits.
func NothingFits() error { return errors.New("the plan has no change that fits") }

// OnlyForGood is a choice of nothing but what cannot be undone, none of it by name.
func OnlyForGood(n int) error {
	return fmt.Errorf(
		"%s cannot be undone, and nothing was accepted; name %s by id or number, or add --for-good",
		model.Count(n, "change", "changes"), model.Plural(n, "it", "them"),
	)
}

// CannotLift is a guard that holds what cannot be done.
func CannotLift(guard string) error {
	return fmt.Errorf("--lift: the guard %s cannot be lifted; remove what causes it", guard)
}

// LiftOneByOne is a guard that may be lifted only for single changes.
func LiftOneByOne(guard string) error {
	return fmt.Errorf(
		"--lift: the guard %s can be lifted only for one change at a time; name the change by its id or number: "+
			"pravet accept PLAN CHANGE --lift %s --because REASON", guard, guard,
	)
}

// CannotLiftKept is said of what standing.yaml keeps.
func CannotLiftKept() error {
	return errors.New("--lift: the guard kept cannot be lifted; remove the entry under kept in standing.yaml, or wait until it expires")
}

// UntilIsOver is a rejection that would end before the day of its plan.
func UntilIsOver(until, asOf day.Day) error {
	return fmt.Errorf("--until: %s is over on %s, the day of the plan", until, asOf)
}

// OutIsTaken is an --out that would write over something else.
func OutIsTaken(file string) error {
	return fmt.Errorf(
		"--out: %s is a file of this repository, and no plan; nothing was written. Name another file",
		file,
	)
}

// NoneKept is said where no export of a past day is kept; err says of which application.
func NoneKept(err error) error {
	return fmt.Errorf("%w; none is kept yet, and the next draft keeps what the exports hold", err)
}

// KeptSince is said where the exports that are kept begin later.
func KeptSince(err error, first string) error {
	return fmt.Errorf("%w; the first that is kept was taken on %s", err, first)
}

// GroupByAlone is a --group-by beside what it does not go with.
func GroupByAlone() error {
	return errors.New("--group-by counts rows, and goes with neither --columns nor --sort")
}

// UnfoldAlone is an --unfold without groups.
func UnfoldAlone() error {
	return errors.New("--unfold lists the changes of groups; use it with --group-by")
}

// PlotAlone is a --plot without --ahead.
func PlotAlone() error {
	return errors.New("--plot draws what is ahead, and goes with --ahead, for example P12M")
}

// PlotEnding is a --plot into a file of another kind.
func PlotEnding(file string) error {
	return fmt.Errorf("--plot: %q ends neither in .png nor in .svg", file)
}

// AheadBounds is an --ahead that is too short or too long.
func AheadBounds(ahead string, years int) error {
	return fmt.Errorf("--ahead %s: it must be between a day and %d years", ahead, years)
}

// ForBounds is a --for that is too short or too long.
func ForBounds(span string, years int) error {
	return fmt.Errorf("--for %s: it must be between no day and %d years", span, years)
}

// NoWalkAlone is a --no-walk that would leave nothing.
func NoWalkAlone() error { return errors.New("--no-walk goes with --keep DIR") }

// NoLedger is a question about a ledger that there is not.
func NoLedger() error {
	return errors.New("this repository has no ledger yet; it begins with the first draft")
}

// NotOnRecord is a run or a plan that the ledger does not know.
func NotOnRecord(name string) error {
	return fmt.Errorf("the ledger has no run or plan %q; see: pravet log", name)
}

// NothingOnRecord is a name of what neither the files nor the ledger know; near is the
// nearest in the files, or "".
func NothingOnRecord(what, name, near string) error {
	return fmt.Errorf(
		"neither the files nor the ledger knows %s %q%s",
		what,
		name,
		meant("; ", near, "see: pravet log"),
	)
}

// LedgerBroken is a ledger that does not hold all that was written.
func LedgerBroken(says string) error {
	return fmt.Errorf("the ledger is not whole: %s; put the whole ledger back", says)
}

// BadEntry is an entry of the ledger that is not what it should be.
func BadEntry(entry int64, err error) error {
	return fmt.Errorf("entry %d of the ledger cannot be read: %w; check it with: pravet log verify", entry, err)
}

// NoSuchHead is a noted head that the ledger does not have.
func NoSuchHead(head string) error {
	return fmt.Errorf(
		"the ledger is whole, and has no entry with the hash %s: it is not the one that was noted", head,
	)
}

// NoPlanYet is said where the newest plan is wanted and there is none.
func NoPlanYet() error { return errors.New("there is no plan yet; draft one with: pravet draft") }

// NoChange is a change that a plan does not have.
func NoChange(name, plan string) error {
	return fmt.Errorf("the plan has no change %q; list them with: pravet show %s --brief", name, plan)
}

// ManyChanges is a beginning of an id that several changes have.
func ManyChanges(n int, begin string) error {
	return fmt.Errorf("%d changes begin with %q; write more of the id", n, begin)
}

// WhichPlan is a number or a cause without a plan that was just shown.
func WhichPlan(word string) error {
	return fmt.Errorf(
		"which plan? Numbers and causes alone are those of the plan that was just shown on this terminal; "+
			"otherwise name it, for example: pravet accept 2w57bede %s", word,
	)
}

// NotANumber is a word that should be the number of a change.
func NotANumber(word string) error {
	return fmt.Errorf("%q is not the number of a change; for example: 3-9,14", word)
}

// NoNumbers is a number, or some, that no change of a plan has.
func NoNumbers(part string, n int) error {
	return fmt.Errorf("the plan has no changes %s; they are numbered from 1 to %d", part, n)
}

// NoCause is a cause or a fold that a plan does not have.
func NoCause(begin, plan string) error {
	return fmt.Errorf("the plan has no cause or fold :%s; see them with: pravet show %s --summary", begin, plan)
}

// ManyCauses is a beginning that several causes or folds have.
func ManyCauses(n int, begin string) error {
	return fmt.Errorf("%d causes or folds begin with :%s; write more of it", n, begin)
}

// NotInPlan is a name of what a plan has no change of; near is the nearest that it
// has, or "".
func NotInPlan(what, name, where, near string) error {
	return fmt.Errorf("there is no %s %q %s%s", what, name, where, meant("; ", near, ""))
}

// NotAnAssignment is a --with that sets nothing.
func NotAnAssignment(word string) error {
	return fmt.Errorf("--with %s: ATTRIBUTE=VALUE is expected, for example --with department=Planning", word)
}

// ThingBeside is a thing beside a question about all that a person has.
func ThingBeside(thing string) error {
	return fmt.Errorf("--with and --beside ask about all that a person has; leave out %s", thing)
}

// NoPersonThen is a person who was not there on a past day.
func NoPersonThen(name, on string) error {
	return fmt.Errorf("there was no person with the id or the user name %q on %s", name, on)
}

// NoPerson is a name that nobody has; near is the nearest, or "".
func NoPerson(name, near string) error {
	return fmt.Errorf(
		"there is no person with the id, the user name or the name %q%s", name,
		meant("; ", near, "list them with: pravet list people"),
	)
}

// ManyPeople is a name that several people have; they are listed, each in a line, and
// others are only counted.
func ManyPeople(name string, listed []string, n int) error {
	text := ""
	for _, l := range listed {
		text += "\n  " + l
	}
	if more := n - len(listed); more > 0 {
		text += "\n  and " + model.Count(more, "more", "more")
	}
	return fmt.Errorf(
		"%s called %q; name the one that you mean by id or user name:%s",
		model.Count(n, "person is", "people are"), name, text,
	)
}

// NotAThing is an address of an account where a thing is expected.
func NotAThing(address string) error {
	return fmt.Errorf("%s is an account; a group, role or license is expected", address)
}

// NoThing is a thing that an application does not have; near is the nearest, or "".
func NoThing(app string, kind model.Kind, name, near string) error {
	return fmt.Errorf("%s has no %s %q in its catalog%s", app, kind, name, meant("; ", near, "see: pravet list things"))
}

// Outside is a file that is not in the repository.
func Outside(file string) error {
	return fmt.Errorf(
		"--with: %s is not a file of this repository; name one below its folder, for example kits/new.yaml",
		file,
	)
}

// FolderNotEmpty is a folder in which nothing can be started.
func FolderNotEmpty(name string) error {
	return fmt.Errorf("%s: the folder is not empty; nothing was written. Name a new one", name)
}

// NotStarted is a repository that cannot be written.
func NotStarted(err error) error { return fmt.Errorf("the repository cannot be written: %w", err) }

// meant asks whether the nearest name was meant; where there is none, it gives a hint.
func meant(before, near, hint string) string {
	switch {
	case near != "":
		return before + "did you mean " + near + "?"
	case hint != "":
		return before + hint
	}
	return ""
}
