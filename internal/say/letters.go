package say

import (
	"fmt"
	"strings"

	"pravet/internal/core/letter"
	"pravet/internal/core/model"
)

// NoLetters is that nobody is to be told anything.
func NoLetters() string {
	return "No letter is due: pravet.yaml does not say who is told what. " +
		"Add letters: {from: ADDRESS, readers: [...], by: [...]}"
}

// LetterTo says to whom a letter goes, and how.
func LetterTo(l *letter.Letter, way string) string {
	return fmt.Sprintf("To %s <%s>, by %s: %s", l.Reader, l.Address, way, l.Subject)
}

// LetterLines are the lines of a letter.
func LetterLines(l *letter.Letter) []string {
	return strings.Split(strings.TrimRight(l.Body, "\n"), "\n")
}

// LettersDue counts letters that are due.
func LettersDue(n int) string {
	if n == 0 {
		return "No letter is due."
	}
	return fmt.Sprintf("%s due; send %s with: pravet letters --send",
		model.Count(n, "letter is", "letters are"), model.Plural(n, "it", "them"))
}

// LetterUnsure is a letter of which nobody knows whether it arrived.
func LetterUnsure(id, to, way, at string) string {
	return fmt.Sprintf(
		"Letter %s to %s, by %s on %s, may not have arrived; it is not sent again.", id, to, way, Minute(at),
	)
}

// LettersSent counts letters that were sent.
func LettersSent(n int) string { return model.Count(n, "letter was", "letters were") + " sent." }

// LetterFailed is a letter that was not sent, or may not have arrived.
func LetterFailed(l *letter.Letter, err error, arrived bool) string {
	if arrived {
		return fmt.Sprintf("The letter to %s may not have arrived, and is not sent again: %v", l.Address, err)
	}
	return fmt.Sprintf("The letter to %s was not sent, and goes with the next: %v", l.Address, err)
}

// NoWay is a way by which no letter can go.
func NoWay(err error) string { return fmt.Sprintf("No letter goes this way: %v", err) }

// LettersLater is that letters could not be sent after a run.
func LettersLater(err error) string {
	text := "Not all letters were sent; the run is not touched by that. Send them with: pravet letters --send"
	if says := err.Error(); says != "" {
		text += " (" + says + ")"
	}
	return text
}
