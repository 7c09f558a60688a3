package cli

import (
	"errors"
	"fmt"
	"strconv"
	"strings"

	"pravet/internal/core/day"
	"pravet/internal/core/decide"
	"pravet/internal/core/model"
	"pravet/internal/ledger"
)

// sayRejectedBy is an earlier rejection, beside what it is about.
func sayRejectedBy(r *decide.Rejection) string {
	text := "rejected"
	if r.Until != day.None {
		text += " until " + r.Until.String()
	}
	return text + " by " + ledger.Who(r.By) + ": " + r.Because
}

// sayReading is how far reading an application has come.
func sayReading(app string, accounts int) string {
	return fmt.Sprintf("%s: %s read so far", app, model.Count(accounts, "account", "accounts"))
}

// sayNotWrittenYet is said of files that are only shown.
func sayNotWrittenYet() string {
	return "Nothing has been written. Add --write to write the files, or --commit to write and commit them."
}

// sayAmended is the first line of a commit.
func sayAmended(what string, args, people []string) string {
	text := strings.TrimSpace("Amend: " + what + " " + strings.Join(args, " "))
	switch {
	case len(people) > 3:
		text += " for " + model.Count(len(people), "person", "people")
	case len(people) > 0:
		text += " for " + strings.Join(people, ", ")
	}
	return text
}

// sayBecauseOf asks for a reason that the file needs.
func sayBecauseOf() error {
	return errors.New(
		`because of what? Whoever holds a kit by name, or is left out of a rule, needs --because "REASON"`,
	)
}

// sayInterrupted is said where the user interrupts before anything was carried out.
func sayInterrupted() error { return errors.New("interrupted; nothing was changed") }

// sayLeftAlone is how many changes are left alone, and why; "" where there are none. today
// is the day of the run.
func sayLeftAlone(state decide.State, n int, today string) string {
	why := map[decide.State]string{
		decide.Completed:      "done already",
		decide.NotAccepted:    "not accepted, left alone",
		decide.StateRejected:  "rejected, left alone",
		decide.Held:           "held by a guard, left alone",
		decide.Lacking:        "skipped: something it needs is not carried out",
		decide.AwaitingPerson: "waiting for somebody to carry them out, left alone",
		decide.NoLongerDue:    "no longer due on " + today + ", left alone",
	}[state]
	if n == 0 || why == "" {
		return ""
	}
	if state == decide.AwaitingPerson && n == 1 {
		why = "waiting for somebody to carry it out, left alone"
	}
	if state == decide.Lacking && n > 1 {
		why = "skipped: something they need is not carried out"
	}
	return model.Count(n, "change", "changes") + " " + why
}

// sayMore counts what is not named.
func sayMore(n int) string { return "and " + model.Count(n, "more", "more") }

// sayFlag is what is wrong with the value of a flag.
func sayFlag(name string, err error) error { return fmt.Errorf("--%s: %w", name, err) }

// sayFilterColumn is what is wrong in a filter, at a column of it.
func sayFilterColumn(column int, err error) error {
	return fmt.Errorf("--only, column %d: %w", column, err)
}

// sayTooManyWords is more words than a command takes.
func sayTooManyWords(words []string, command, example string) error {
	quoted := make([]string, len(words))
	for i, w := range words {
		quoted[i] = strconv.Quote(w)
	}
	return fmt.Errorf("%s more than this command takes: %s; for example: %s",
		model.Plural(len(words), "there is a word", "there are words"), strings.Join(quoted, " "), example)
}

// sayNoReason is a decision without --because.
func sayNoReason() error { return errors.New("a decision needs a reason: --because 'why'") }

// sayHeldUp is an application that waits until somebody can tell what a run that was cut off has left there.
func sayHeldUp(app, run string, err error) string {
	return fmt.Sprintf("%s was cut off, and what it left in %s cannot be told: %v. Until it can, %s waits, and nothing else.", run, app, err, app)
}
