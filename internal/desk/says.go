package desk

import (
	"fmt"
	"strings"
	"time"
)

// SayNotOneOf is a value of a flag that takes only some.
func SayNotOneOf(flag, value string, known []string) error {
	return fmt.Errorf("--%s cannot be %q; use one of %s", flag, value, strings.Join(known, ", "))
}

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

// sayNobodyIsTold is that pravet.yaml says nothing of letters.
func sayNobodyIsTold() string {
	return "No letter is due: pravet.yaml does not say who is told what. " +
		"Add letters: {from: ADDRESS, readers: [...], by: [...]}"
}

// sayNotOfEnvironment is an environment for which no letters are sent.
func sayNotOfEnvironment(here string) string {
	return fmt.Sprintf("No letter is due: letters are not sent for the environment %s. "+
		"To send them for it as well, name it under environments of letters", here)
}

// sayClockBehind is a clock that shows an earlier time than the newest entry of the ledger.
func sayClockBehind(now, newest string) string {
	return fmt.Sprintf("The clock says %s, and the newest entry of the ledger is of %s: one of the two is wrong. "+
		"What ended by then stays ended; correct the clock before something is carried out", now, newest)
}

// sayOthersWrite is that other calls write files all the time.
func sayOthersWrite(after time.Duration) error {
	return fmt.Errorf(
		"others write files of this repository just now, and were still at it after %.0f seconds; nothing was changed. "+
			"Try again",
		after.Seconds(),
	)
}

// sayHeldUp is an application that waits until somebody can tell what a run that was cut off has left there.
func sayHeldUp(app, run string, err error) error {
	return fmt.Errorf("%s waits, and nothing else: %s was cut off there, and what it left cannot be told: %w. Once "+
		"that is mended, say it again; the others go on with --only 'app ne \"%s\"'", app, run, err, app)
}

// sayPlanNotKept is a plan that would not be the same if it were written again.
func sayPlanNotKept(id string) error {
	return fmt.Errorf("plan %s cannot be kept in plans/ as it is, so nothing was carried out; draft it again", id)
}
