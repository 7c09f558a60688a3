package say

import (
	"errors"
	"fmt"
	"strings"

	"pravet/internal/core/day"
	"pravet/internal/core/model"
)

// NothingToAmend is said where the files say already what is asked for.
func NothingToAmend() string { return "The files say so already; nothing is to be written." }

// WouldNotPass counts what would be wrong with files as they would be.
func WouldNotPass(n int) error {
	return fmt.Errorf(
		"as amended, the files would not pass: %s (above); nothing was "+
			"written", model.Count(n, "problem", "problems"),
	)
}

// NotWrittenYet is said of files that are only shown.
func NotWrittenYet() string {
	return "Nothing has been written. Add --write to write the files, or --commit to write and commit them."
}

// NoGit is a commit where there is no Git.
func NoGit(err error) error {
	return fmt.Errorf("--commit needs Git: %w; use --write instead. Nothing was written", err)
}

// Uncommitted are files that somebody has changed already.
func Uncommitted(files []string) error {
	return fmt.Errorf(
		"%s changes that are not committed, which would be committed along; commit or undo them first, "+
			"or use --write. Nothing was written",
		model.Plural(len(files), files[0]+" has", strings.Join(files, " and ")+" have"),
	)
}

// Wrote names the files that were written.
func Wrote(files []string) string { return "Wrote " + several(files) + "." }

// several names some files, the first of many.
func several(files []string) string {
	const most = 6
	if len(files) <= most {
		return strings.Join(files, ", ")
	}
	return strings.Join(files[:most], ", ") + " and " + model.Count(len(files)-most, "more file", "more files")
}

// NotCommitted is a commit that failed after the files were written.
func NotCommitted(files []string, err error) error {
	return fmt.Errorf(
		"%s written, and not committed: %w",
		model.Plural(len(files), files[0]+" was", several(files)+" were"),
		err,
	)
}

// Committed names the files that were committed, and the commit.
func Committed(files []string, commit, subject string) string {
	return fmt.Sprintf("Committed %s as %s: %s", several(files), commit[:min(10, len(commit))], subject)
}

// ForWhom asks for the people who are meant.
func ForWhom() error {
	return errors.New("for whom? Name them with --for E0042, with --only FILTER, or with --from LIST.csv")
}

// MatchesNobody is a filter that matches nobody.
func MatchesNobody(filter string) error {
	return fmt.Errorf("nobody matches %s; try it with: pravet list people --only '%s'", filter, filter)
}

// Amended is the first line of a commit.
func Amended(what string, args, people []string) string {
	text := strings.TrimSpace("Amend: " + what + " " + strings.Join(args, " "))
	switch {
	case len(people) > 3:
		text += " for " + model.Count(len(people), "person", "people")
	case len(people) > 0:
		text += " for " + strings.Join(people, ", ")
	}
	return text
}

// SetWhat asks for values.
func SetWhat() error {
	return errors.New(`set what? For example: pravet amend set title="Desk lead" --for E0042`)
}

// SetsNothing is a word that is no assignment.
func SetsNothing(word string) error {
	return fmt.Errorf("%q sets nothing; ATTRIBUTE=VALUE is expected, for example title=\"Desk lead\"", word)
}

// NoOtherID is an attempt to give a person another id.
func NoOtherID() error {
	return errors.New(
		"an id stays as it is, as the ledger and other files know the person by it; change userName instead",
	)
}

// BecauseOf asks for a reason that the file needs.
func BecauseOf() error {
	return errors.New(
		`because of what? Whoever holds a kit by name, or is left out of a rule, needs --because "REASON"`,
	)
}

// Like stands for the reason of a copy while nobody has given one.
func Like(id string) string { return "like " + id }

// LikeOneself is a person who is to become like themselves.
func LikeOneself() error { return errors.New("both are the same person; name two") }

// ListNamesNobody is a list without a column that names people.
func ListNamesNobody(file string) error {
	return fmt.Errorf("%s: neither a column id nor a column userName is in its header; add one", file)
}

// NobodyBy is a name in a list that nobody has.
func NobodyBy(name string) string { return fmt.Sprintf("there is no person %q", name) }

// CorrectTheList is what to do about it.
func CorrectTheList() string { return "correct the list, or take in the person first: pravet intake" }

// ListWrong counts what is wrong in a list.
func ListWrong(file string, n int) error {
	return fmt.Errorf("%s has %s (above); nothing was written", file, model.Count(n, "problem", "problems"))
}

// OddColumns are columns of a list that are no attributes of people.
func OddColumns(file string, columns []string) error {
	return fmt.Errorf(
		"%s: %s no attribute of people; take %s out, or name %s extra.NAME", file,
		model.Plural(len(columns), "the column "+columns[0]+" is", "the columns "+strings.Join(columns, ", ")+" are"),
		model.Plural(len(columns), "it", "them"), model.Plural(len(columns), "it", "them"),
	)
}

// IntakeWhat asks for a spreadsheet.
func IntakeWhat(sources []string) error {
	text := "take in what? Name a spreadsheet, for example: pravet intake monday.csv"
	if len(sources) > 0 {
		text += "; or a source of pravet.yaml: " + strings.Join(sources, ", ")
	}
	return errors.New(text)
}

// NotAMapping is a --map that maps nothing.
func NotAMapping(text string) error {
	return fmt.Errorf("--map %s: ATTRIBUTE=COLUMN is expected, for example --map email=Mail", text)
}

// NoDigits is a --number without a place for digits.
func NoDigits(text string) error {
	return fmt.Errorf("--number %s has no # where digits are to stand; write it like E####", text)
}

// OneCharacter is a --delimiter that is none.
func OneCharacter(text string) error {
	return fmt.Errorf(`--delimiter %q is not one character; use for example ";" or "\t"`, text)
}

// NotAPeopleFile is an --into that people are not read from.
func NotAPeopleFile(name string) error {
	return fmt.Errorf("--into %s: people are read from people/NAME.csv or people/NAME.yaml", name)
}

// SourceFailed is a source whose program gave nothing.
func SourceFailed(name string, err error) error {
	return fmt.Errorf("the program of source %s failed: %w; nothing was taken in", name, err)
}

// RowsWrong counts rows that are wrong.
func RowsWrong(n int) error {
	return fmt.Errorf("%s wrong (above); correct %s, or leave %s out with --skip-wrong",
		model.Count(n, "row is", "rows are"), model.Plural(n, "it", "them"), model.Plural(n, "it", "them"))
}

// MayBeThere counts new people who may be there already.
func MayBeThere(n int) error {
	return fmt.Errorf(
		"%s there already (above); put the id of that person into the row, or take in somebody of the same name "+
			"with --with-doubles",
		model.Count(n, "new person may be", "new people may be"),
	)
}

// EndsMany is a spreadsheet that ends many.
func EndsMany(n, of int) error {
	return fmt.Errorf("these rows end %s of %s; if that is meant, add --ends %d",
		model.Thousands(n), model.Count(of, "person", "people"), n)
}

// IntoWhich asks for the file that new people come into.
func IntoWhich() error {
	return errors.New(
		"there are several files of people; say which the new ones come into, for example --into people/ashore.csv",
	)
}

// NothingTakenIn is said where something keeps rows from being written.
func NothingTakenIn(asked bool) error {
	if asked {
		return errors.New("nothing was written")
	}
	return errors.New("nothing would be written as it is")
}

// TookIn is the first line of a commit.
func TookIn(file string, fresh, changed int) string {
	return fmt.Sprintf("Take in %s: %s new, %s changed", file, model.Thousands(fresh), model.Thousands(changed))
}

// BetweenHalfAndAll is a --sure that says nothing.
func BetweenHalfAndAll() error { return errors.New("--sure is a percentage from 50 to 100") }

// FoundOn is the title of a kit that was found.
func FoundOn(on day.Day) string { return fmt.Sprintf("Found on %s in what people hold", on) }

// LacksToday is why somebody is an exception of a rule that was found.
func LacksToday(on day.Day) string {
	return fmt.Sprintf("did not hold it on %s, when the rule was found", on)
}

// ProposedKits is the first line of a commit.
func ProposedKits(n int) string {
	return "Make rules of what people hold: " + model.Count(n, "kit", "kits")
}

// AdoptWhich asks for what is to be adopted.
func AdoptWhich() error {
	return errors.New(
		"which changes? For example: pravet adopt PLAN 4 7; an application is taken over with --app ID, an " +
			"account with --for PERSON",
	)
}

// NotBelow is a file that is not in the repository.
func NotBelow(file string) error {
	return fmt.Errorf("%s is outside the repository; put it below, for example into exports/", file)
}

// NotAnID is a name that no application can have.
func NotAnID(id string) error {
	return fmt.Errorf("--app %q is not an id: small letters, digits and hyphens", id)
}

// HasThatExport is an export that belongs to an application already.
func HasThatExport(file, at string) error {
	return fmt.Errorf("%s is the export that %s names already", file, at)
}

// NoSuchAccount is an account that an export does not show.
func NoSuchAccount(name, app string) error {
	return fmt.Errorf("the export of %s shows no account %q", app, name)
}

// AdoptedApp is the first line of a commit.
func AdoptedApp(app string) string { return "Take over " + app + " as it is" }

// IsSomebodys is an account that belongs to somebody else.
func IsSomebodys(account, name, id string) error {
	return fmt.Errorf("%s is the account of %s (%s) already", account, name, id)
}

// HasAnAccount is somebody who has an account already.
func HasAnAccount(name, account, app string) error {
	return fmt.Errorf("%s has the account %s in %s already; nobody can have two", name, account, app)
}

// BecauseOfAdoption asks for a reason that the files need.
func BecauseOfAdoption() error {
	return errors.New(`because of what? What was done by hand comes into the files with a reason: --because "REASON"`)
}

// AdoptedBecause is the reason of what was done by hand, with who took it over.
func AdoptedBecause(because, by string, on day.Day) string {
	return fmt.Sprintf("%s; done by hand, taken over by %s on %s", because, by, on)
}

// StillThere is a change that the files as they would be do not make unnecessary.
func StillThere(change string) error {
	return fmt.Errorf(
		"change %s would still be in the next draft; correct the files by hand. Nothing was written",
		change,
	)
}

// MoreChanges counts changes that come into the next draft.
func MoreChanges(n int) string {
	return fmt.Sprintf("The next draft has %s by this that %s not in the last one; look at it before you apply.",
		model.Count(n, "change", "changes"), model.Plural(n, "was", "were"))
}

// NotAnEnvironment is a name that no environment can have.
func NotAnEnvironment(name string) error {
	return fmt.Errorf("%q is not a name of an environment: small letters, digits and hyphens", name)
}

// OtherEnvironment is a plan of one environment in another.
func OtherEnvironment(plan, of, here string) error {
	called := func(name string) string {
		if name == "" {
			return "live"
		}
		return name
	}
	return fmt.Errorf(
		"plan %s is for the environment %s, and this is %s; it runs nowhere else: --env %s",
		plan,
		called(of),
		called(here),
		called(of),
	)
}

// OutEnding is an --out whose ending tells no format.
func OutEnding(file string) error {
	return fmt.Errorf("--out %s: the ending tells the format: .html, .csv, .json or .md", file)
}

// OneReportAsCSV is a CSV file of several reports, or of none.
func OneReportAsCSV(names []string) error {
	return fmt.Errorf("CSV holds one report; name one of %s", strings.Join(names, ", "))
}

// SpanTurned is a span that ends before it begins.
func SpanTurned(from, to day.Day) error {
	return fmt.Errorf("--from %s is after --to %s; exchange them", from, to)
}

// BeforeTheLedger is a past day of which nothing is known.
func BeforeTheLedger(on string) error {
	return fmt.Errorf(
		"nothing is on record of %s: neither a plan, nor an export, nor a commit of the files by then",
		on,
	)
}

// WholePlan is what a decision is about that names no change.
func WholePlan(guards []string) string {
	if len(guards) > 0 {
		return model.Plural(len(guards), "guard ", "guards ") + strings.Join(guards, ", ")
	}
	return "the whole plan"
}
