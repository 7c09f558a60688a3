package cli

import (
	"github.com/spf13/cobra"

	"pravet/internal/desk"
	"pravet/internal/post"
	"pravet/internal/say"
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
				c.tell(say.NoLetters())
			}
			return c.posted(sent)
		}
		due, err := d.Due()
		if err != nil {
			return err
		}
		if due == nil {
			c.tell(say.NoLetters())
			return nil
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

// preview shows letters as they would be sent.
func (c *program) preview(p *show.Printer, due *desk.Due) {
	for _, x := range due.Parcels {
		p.Line(show.Strong(say.LetterTo(&x.Letter, x.Way.Name())))
		for _, line := range say.LetterLines(&x.Letter) {
			p.Line("  " + line)
		}
		p.Line()
	}
	p.Line(say.LettersDue(len(due.Parcels)))
	for _, u := range due.Told.Unsure {
		p.Line(say.LetterUnsure(u.ID, u.To, u.Way, u.At))
	}
}

// posted says what became of letters.
func (c *program) posted(sent *desk.Sent) error {
	if sent == nil {
		return nil
	}
	for _, err := range sent.NoWay {
		c.tell(say.NoWay(err))
	}
	for _, w := range sent.Without {
		c.tell(w)
	}
	arrived := 0
	for _, r := range sent.Results {
		if r.Err == nil {
			arrived++
			continue
		}
		c.tell(say.LetterFailed(&r.Letter, r.Err, post.Arrived(r.Err)))
	}
	failed := sent.Failed()
	if arrived > 0 || failed == 0 {
		c.tell(say.LettersSent(arrived))
	}
	if failed > 0 {
		return &statusError{status: Failed}
	}
	return nil
}
