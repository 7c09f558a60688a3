package cli

import (
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"pravet/internal/core/letter"
	"pravet/internal/core/model"
	"pravet/internal/delivery"
	"pravet/internal/desk"
	"pravet/internal/show"
)

func (c *program) letters() *cobra.Command {
	var format string
	var send bool
	cmd := &cobra.Command{
		Use:     "letters",
		Short:   "Show who is to be told what, and send it",
		GroupID: carrying,
		Long: `Letters shows the letters that are due: one for each reader whom pravet.yaml names,
with what runs of the last days have carried out, and which removals fall due and
what expires in the days to come. Nobody is told the same thing twice.

With --send they are sent. Apply sends them by itself, after a run.`,
		Example: example("pravet letters", "pravet letters --send"),
		Args:    takes(0, 0, "", ""),
	}
	formatFlag(cmd, &format, "text", "json", "csv")
	cmd.Flags().BoolVar(&send, "send", false, "send them")
	cmd.RunE = func(*cobra.Command, []string) error {
		d, err := c.desk()
		if err != nil {
			return err
		}
		if send {
			sent, err := d.SendLetters()
			if err != nil {
				return err
			}
			if sent == nil {
				return c.letterless(d)
			}
			return c.posted(sent)
		}
		due, err := d.Due()
		if err != nil {
			return err
		}
		if due == nil {
			return c.letterless(d)
		}
		for _, w := range due.Without {
			c.tell(w)
		}
		if format != "text" {
			return show.Output(c.Stdout, c.Environ, format, show.LetterTable(due.Letters()))
		}
		return c.paged(func(p *show.Printer) error {
			c.preview(p, due)
			return p.Err()
		})
	}
	return cmd
}

// letterless says why nobody is told anything.
func (c *program) letterless(d *desk.Desk) error {
	why, err := d.Letterless()
	if err == nil {
		c.tell(why)
	}
	return err
}

// preview shows letters as they would be sent.
func (c *program) preview(p *show.Printer, due *desk.Due) {
	for _, x := range due.Parcels {
		p.Line(show.Strong(sayLetterTo(&x.Letter, x.Way.Name())))
		for _, line := range sayLetterLines(&x.Letter) {
			p.Line("  " + line)
		}
		p.Line()
	}
	p.Line(sayLettersDue(len(due.Parcels)))
	for _, u := range due.Told.Unsure {
		p.Line(sayLetterUnsure(u.ID, u.To, u.Way, due.Zone.MinuteOf(u.At)))
	}
}

// posted says what became of letters.
func (c *program) posted(sent *desk.Sent) error {
	if sent == nil {
		return nil
	}
	for _, err := range sent.NoWay {
		c.tell(sayNoWay(err))
	}
	for _, w := range sent.Without {
		c.tell(w)
	}
	if sent.Others {
		c.tell(sayOthersSend())
		return nil
	}
	arrived := 0
	for _, r := range sent.Results {
		if r.Err == nil {
			arrived++
			continue
		}
		c.tell(sayLetterFailed(&r.Letter, r.Err, delivery.Arrived(r.Err)))
	}
	if sent.Left > 0 {
		c.tell(sayLettersLeft(sent.Left, delivery.Longest))
	}
	failed := sent.Failed()
	if arrived > 0 || failed == 0 {
		c.tell(sayLettersSent(arrived))
	}
	if failed > 0 {
		return &statusError{status: Failed}
	}
	return nil
}

// sayLetterTo says to whom a letter goes, and how.
func sayLetterTo(l *letter.Letter, way string) string {
	return fmt.Sprintf("To %s <%s>, by %s: %s", l.Reader, l.Address, way, l.Subject)
}

// sayLetterLines are the lines of a letter.
func sayLetterLines(l *letter.Letter) []string {
	return strings.Split(strings.TrimRight(l.Body, "\n"), "\n")
}

// sayLettersDue counts letters that are due.
func sayLettersDue(n int) string {
	if n == 0 {
		return "No letter is due."
	}
	return fmt.Sprintf("%s due; send %s with: pravet letters --send",
		model.Count(n, "letter is", "letters are"), model.Plural(n, "it", "them"))
}

// sayLetterUnsure is a letter of which nobody knows whether it arrived.
func sayLetterUnsure(id, to, way, at string) string {
	return fmt.Sprintf(
		"Letter %s to %s, by %s on %s, may not have arrived; it is not sent again.", id, to, way, at,
	)
}

// sayLettersSent counts letters that were sent.
func sayLettersSent(n int) string { return model.Count(n, "letter was", "letters were") + " sent." }

// sayLetterFailed is a letter that was not sent, or may not have arrived.
func sayLetterFailed(l *letter.Letter, err error, arrived bool) string {
	if arrived {
		return fmt.Sprintf("The letter to %s may not have arrived, and is not sent again: %v", l.Address, err)
	}
	return fmt.Sprintf("The letter to %s was not sent, and goes with the next: %v", l.Address, err)
}

// sayNoWay is a way by which no letter can go.
func sayNoWay(err error) string { return fmt.Sprintf("No letter goes this way: %v", err) }

// sayOthersSend is that another call sends letters just now.
func sayOthersSend() string {
	return "Letters are being sent by another call just now; what is left after that is sent with: pravet letters --send"
}

// sayLettersLeft is letters that were not begun, as there was no more time.
func sayLettersLeft(n int, longest time.Duration) string {
	return fmt.Sprintf("%s not sent within %.0f minutes, and %s with the next.",
		model.Count(n, "letter was", "letters were"), longest.Minutes(), model.Plural(n, "goes", "go"))
}
