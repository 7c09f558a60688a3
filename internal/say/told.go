package say

import (
	"fmt"
	"strings"

	"pravet/internal/core/model"
)

// Hint is what every wrong usage ends with.
func Hint() string { return "See: pravet --help, or pravet COMMAND --help" }

// Read is what check has read.
func Read(files, people, apps, kits, rules, errors, warnings int) string {
	return fmt.Sprintf(
		"Read %s: %s, %s, %s, %s; %s, %s.", model.Count(files, "file", "files"),
		model.Count(people, "person", "people"), model.Count(apps, "application", "applications"),
		model.Count(kits, "kit", "kits"), model.Count(rules, "rule", "rules"),
		model.Count(errors, "error", "errors"), model.Count(warnings, "warning", "warnings"),
	)
}

// NotCompared is said where check cannot tell who gains something sensitive.
func NotCompared(revision string) string {
	return "The files of revision " + revision + " do not pass, so nothing is said of who would gain something sensitive."
}

// NoLedgerToCompare is said where check cannot tell what was carried out last.
func NoLedgerToCompare(err error) string {
	return fmt.Sprintf("What was carried out last is not known, so the last commit is compared with: %v", err)
}

// AsOf is what an answer about a past day follows from: the files of a revision, or ""
// where none of that day is known, and exports.
func AsOf(on, revision string, exports []string) string {
	files := "the files as they are now, for no revision of that day is on record"
	if revision != "" {
		files = "the files of revision " + revision
	}
	text := fmt.Sprintf("As of %s, by %s", on, files)
	if len(exports) > 0 {
		text += "; " + strings.Join(exports, ", ")
	}
	return text + "."
}

// NotByARun is why someone holds what no run gave: it was given in the application.
func NotByARun() string { return "not by a run; first seen in the export of that day" }

// Dry is said below what a plan would be.
func Dry() string {
	return "This is what the plan would be; nothing was written. Write it with: pravet draft"
}

// Drafted is where a plan is, and how it is read; name is its id, or its file.
func Drafted(file, name string) (where, next string) {
	return "Written to " + file, "Read it with: pravet show " + name
}

// Drawn is where a chart is.
func Drawn(file string) string { return "Drawn into " + file }

// Started is what to do in a new repository.
func Started(folder string) string {
	return fmt.Sprintf(
		"Started a repository in %s. Look around, then:\n"+
			"  cd %s\n"+
			"  git init && git add . && git commit -m 'Start'\n"+
			"  pravet check\n"+
			"  pravet draft", folder, folder,
	)
}

// Whole is a ledger whose chain holds.
func Whole(entries int, head string) string {
	return fmt.Sprintf("The ledger is whole: %s, head %s", model.Count(entries, "entry", "entries"), head)
}

// NothingToTrust is said of a ledger that ends where it did, or later.
func NothingToTrust() string {
	return "The ledger ends where it did, or later; there is nothing to trust."
}

// Trusted is a ledger that is gone on with as it is.
func Trusted(entries int) string {
	return fmt.Sprintf("The ledger is taken for whole as it is, with %s.", model.Count(entries, "entry", "entries"))
}
