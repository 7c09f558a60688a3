package say

import (
	"fmt"

	"pravet/internal/core/model"
)

// Interruptions is that so many steps cannot be interrupted.
func Interruptions(n int) error {
	return fmt.Errorf("--interruptions: %d is not between 0 and 90 of a hundred steps", n)
}

// NoNumber is a flag that takes a whole number and was given something else, in quotes.
func NoNumber(flag, quoted string) string {
	return flag + ": " + quoted + " is no whole number that fits here"
}

// Rehearsed is how many changes of a plan were settled on copies.
func Rehearsed(plan string, settled, of int) string {
	return fmt.Sprintf("Plan %s on copies of the applications: %d of %s settled.",
		plan, settled, model.Count(of, "change", "changes"))
}

// RehearsedSteps is in how many steps, with how many interruptions.
func RehearsedSteps(steps, thrown int, seed uint64) string {
	return fmt.Sprintf("%s, there and back; %s thrown in (seed %d), and the run went on after each.",
		model.Count(steps, "step", "steps"), model.Count(thrown, "interruption was", "interruptions were"), seed)
}

// RehearsedNot is how many changes would not be settled.
func RehearsedNot(n int) string {
	return model.Count(n, "change", "changes") + " would not be settled:"
}

// RehearsedBroken is that something did not hold after a step.
func RehearsedBroken() string { return "After some step this did not hold, which did before:" }

// RehearsedHeld is that all that must hold at every step did.
func RehearsedHeld() string {
	return "After every step there were enough seats, everyone who must stay was there, and nobody newly held separated duties."
}

// RehearsedUndone is how many changes were undone.
func RehearsedUndone(n int) string {
	return fmt.Sprintf("Undone again: %s.", model.Count(n, "change", "changes"))
}

// StartAgain is that the start was reached again.
func StartAgain() string {
	return "The start is reached again: the applications are just as they were."
}

// StartBut is that the start was not quite reached again.
func StartBut() string { return "Everything is back as it was at the start, except:" }
