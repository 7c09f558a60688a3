package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"pravet/internal/core/day"
	"pravet/internal/core/entitle"
	"pravet/internal/core/model"
	"pravet/internal/desk"
	"pravet/internal/ledger"
	"pravet/internal/show"
)

func (c *program) log() *cobra.Command {
	var format string
	var want desk.Logging
	cmd := &cobra.Command{
		Use:     "log [RUN|PLAN]",
		Short:   "Show what is on record: exports, plans, decisions, runs and outcomes",
		GroupID: carrying,
		Long: `Log shows the ledger: who did what, when and why. With the name of a run or a
plan it shows all that concerns it, with the outcome of every change; with --person,
--thing or --app what became of them, who decided that, and why.

Each entry is chained to the one before by SHA-256; log verify checks the chain.`,
		Example: example("pravet log", "pravet log run-1", "pravet log 2w57bede --format json",
			"pravet log --person E0042 --since 2026-11-01", "pravet log verify"),
		Args: takes(0, 1, "", "pravet log run-1"),
	}
	formatFlag(cmd, &format, "table", "json", "csv")
	c.loggingFlags(cmd, &want)
	cmd.ValidArgsFunction = c.completeLog
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		if len(args) == 1 {
			want.Subject = args[0]
		}
		d, err := c.desk()
		if err != nil {
			return err
		}
		entries, err := d.Log(want)
		if err != nil {
			return err
		}
		table := logTable(entries, d.Zone())
		if format != "table" {
			return show.Output(c.Stdout, c.Environ, format, table)
		}
		return c.paged(func(p *show.Printer) error {
			p.Print(table)
			return p.Err()
		})
	}
	cmd.AddCommand(c.verify(), c.trust())
	return cmd
}

func (c *program) loggingFlags(cmd *cobra.Command, w *desk.Logging) {
	f := cmd.Flags()
	f.StringVar(&w.Kind, "kind", "", "only entries of this kind: "+strings.Join(desk.LogKinds, ", "))
	f.StringVar(&w.Person, "person", "", "only what was decided and done about this person, by id or user name")
	f.StringVar(
		&w.Thing,
		"thing",
		"",
		"only what was decided and done about this thing or account, as APPLICATION/KIND/NAME",
	)
	f.StringVar(&w.App, "app", "", "only what was decided and done in this application")
	f.StringVar(&w.By, "by", "", "only what this person did: a part of the name")
	f.StringVar(&w.SinceText, "since", "", "only from this day on, YYYY-MM-DD")
	f.StringVar(&w.UntilText, "until", "", "only until the end of this day, YYYY-MM-DD")
	offer(cmd, "kind", cobra.FixedCompletions(desk.LogKinds, noFiles))
	offer(cmd, "person", c.completePeople)
	offer(cmd, "thing", c.completeThings)
	offer(cmd, "app", c.completeApps)
}

// logTable is entries as a table, outcomes with who decided them where that is known.
func logTable(list []desk.Logged, zone day.Zone) *show.Table {
	entries := []*ledger.Entry{}
	t := &show.Table{Columns: []show.Column{
		{Title: "entry", Key: "seq", Number: true}, {Title: "when", Key: "at"}, {Title: "who", Key: "by"},
		{Title: "what", Key: "kind"}, {Title: "about", Key: "subject"}, {Title: "says", Key: "says"},
	}}
	for _, x := range list {
		e := x.Entry
		entries = append(entries, e)
		text := sayEntry(e, zone)
		if x.Decider != "" {
			text += sayAcceptedBy(x.Decider, x.Because)
		}
		t.Rows = append(t.Rows, []any{e.Seq, zone.MinuteOf(e.At), ledger.Who(e.By), string(e.Kind), e.Subject, text})
		if x.Who != "" {
			t.Rows[len(t.Rows)-1][2] = x.Who
		}
	}
	t.Items = entries
	return t
}

func (c *program) verify() *cobra.Command {
	var head string
	cmd := &cobra.Command{
		Use:   "verify",
		Short: "Check that no entry of the ledger was changed, taken away or put in",
		Long: `Verify recomputes the chain of hashes over all entries and names the first one
that does not fit. Note the head that it prints somewhere else; with --head it
also proves that the ledger still holds what it held then.`,
		Example: example("pravet log verify", "pravet log verify --repo ."),
		Args:    takes(0, 0, "", ""),
	}
	cmd.Flags().StringVar(&head, "head", "", "a head that was noted before, and must still be in the chain")
	cmd.RunE = func(*cobra.Command, []string) error {
		d, err := c.desk()
		if err != nil {
			return err
		}
		v, err := d.Verify(head)
		if err != nil {
			return err
		}
		fmt.Fprintln(c.Stdout, sayWhole(int(v.Entries), v.Head))
		return nil
	}
	return cmd
}

func (c *program) trust() *cobra.Command {
	var because string
	cmd := &cobra.Command{
		Use:   "trust",
		Short: "Go on with a ledger that does not end where it once did",
		Long: `Trust records that the newest ledger entries are missing for a known reason, such
as restoring an older copy of the repository. Decisions and runs that were
in them are not known any more: what was rejected may be planned again. Who says
so, and why, becomes an entry of its own.

A ledger with a changed entry, or one that is missing in the middle, is not
trusted; put the whole ledger back.`,
		Example: example("pravet log trust --because 'put back from the backup of Monday'"),
		Args:    takes(0, 0, "", ""),
	}
	cmd.Flags().StringVar(&because, "because", "", "the reason, for the ledger (required)")
	cmd.RunE = func(*cobra.Command, []string) error {
		if strings.TrimSpace(because) == "" {
			return usage(sayNoReason())
		}
		d, err := c.desk()
		if err != nil {
			return err
		}
		entry, err := d.Trust(because)
		switch {
		case err != nil:
			return err
		case entry == 0:
			_, err = fmt.Fprintln(c.Stdout, sayNothingToTrust())
		default:
			_, err = fmt.Fprintln(c.Stdout, sayTrusted(int(entry)))
		}
		return err
	}
	return cmd
}

// sayEntry is an entry of the ledger in words.
func sayEntry(e *ledger.Entry, zone day.Zone) string {
	switch e.Kind {
	case ledger.ExportSeen:
		return entryOf(e, func(x *ledger.Export) string {
			return fmt.Sprintf("%s, taken %s", model.Count(x.Accounts, "account", "accounts"), zone.MinuteOf(x.TakenAt))
		})
	case ledger.StoodSince:
		return entryOf(e, stoodWords)
	case ledger.PlanDrafted:
		return entryOf(e, draftedWords)
	case ledger.Decided:
		return entryOf(e, decisionWords)
	case ledger.RunStarted:
		return entryOf(e, func(x *ledger.Run) string {
			return fmt.Sprintf("began %s of plan %s", model.Count(x.Changes, "change", "changes"), x.Plan)
		})
	case ledger.StepTaken:
		return entryOf(e, func(x *ledger.Step) string {
			return fmt.Sprintf("%s: writing %s", x.App, model.Count(len(x.Changes), "change", "changes"))
		})
	case ledger.Outcome:
		return entryOf(e, outcomeWords)
	case ledger.LetterSent:
		return entryOf(e, letterState)
	case ledger.RunEnded:
		return entryOf(e, endWords)
	}
	return ""
}

// entryOf decodes what an entry holds and tells it; where it cannot, the error is told.
func entryOf[T ledger.Body](e *ledger.Entry, tell func(*T) string) string {
	x, err := ledger.Decode[T](e)
	if err != nil {
		return err.Error()
	}
	return tell(&x)
}

func draftedWords(x *ledger.Plan) string {
	text := fmt.Sprintf(
		"drafted for %s: %s, %d held, %d set aside",
		x.AsOf,
		model.Count(x.Totals.Changes, "change", "changes"),
		x.Totals.Held,
		x.SetAside,
	)
	if x.Undoes != "" {
		text += ", undoes " + x.Undoes
	}
	if x.Environment != "" {
		text += ", for the environment " + x.Environment
	}
	return text
}

func outcomeWords(x *ledger.ChangeOutcome) string {
	switch {
	case x.Settled:
		return "settled: " + x.What
	case x.Result == ledger.Waiting:
		return "waiting: " + x.What + "; " + x.Says
	}
	return "not settled: " + x.What + "; " + x.Says
}

func endWords(x *ledger.RunEnd) string {
	text := fmt.Sprintf(
		"%d settled, %d not settled, %d held, %d left alone",
		x.Settled,
		x.NotSettled,
		x.Held,
		x.Left,
	)
	if x.Waiting > 0 {
		text += fmt.Sprintf(", %d waiting for somebody", x.Waiting)
	}
	if x.Error != "" {
		text += "; stopped: " + x.Error
	}
	if x.After != "" {
		text += "; afterwards: " + x.After
	}
	for _, b := range x.Beside {
		text += "; changed by others meanwhile: " + b
	}
	return text
}

func decisionWords(d *ledger.Decision) string {
	var parts []string
	for _, part := range d.Parts() {
		parts = append(parts, partWords(&part))
	}
	text := strings.Join(parts, "; ")
	switch {
	case d.Signed != nil:
		text += " (signed)"
	case d.Of != "":
		text += " (as " + ledger.Who(d.Of) + " wrote)"
	}
	return text
}

// partWords is one of the decisions that were made together.
func partWords(d *ledger.Decision) string {
	what := model.Count(len(d.Changes), "change", "changes")
	if d.All {
		what = "the whole plan"
	}
	switch d.Verdict {
	case "lift":
		return fmt.Sprintf("lifted %s, because %s", strings.Join(d.Guards, ", "), d.Because)
	case "trust":
		return "took the ledger for whole, as it was cut off, because " + d.Because
	case "accept":
		what = "accepted " + what
	default:
		what = "rejected " + what
		if d.Until != "" {
			what += " until " + d.Until
		}
		if d.Standing {
			what += " in standing.yaml"
		}
	}
	if len(d.Along) > 0 {
		what += fmt.Sprintf(" and %d along with them", len(d.Along))
	}
	return what + ", because " + d.Because
}

// sayAcceptedBy goes on after an outcome with who decided it, and why.
func sayAcceptedBy(by, because string) string {
	return fmt.Sprintf("; accepted by %s: %s", ledger.Who(by), because)
}

// stoodWords says what began to be so about accounts on their way out, and what is so no more.
func stoodWords(x *ledger.Stood) string {
	var parts []string
	add := func(before string, list []ledger.Marks) {
		for _, m := range list {
			what := "upon path " + m.Path
			switch {
			case x.Kit != "":
				parts = append(parts, before+heldWords(strings.Count(m.People, "\n"), x.Kit, m.Step))
				continue
			case m.Path == "" && m.Step == entitle.MarkRemoved:
				what = "removed"
			case m.Path == "" && m.Step == entitle.MarkUnanswered:
				what = "with no answer to the last invitation"
			case m.Path == "" && m.Step != model.DoSuspend.String():
				what = "with " + strings.Replace(m.Step, "invited", "invitation", 1) + " pending"
			case m.Path == "":
				what = "of nobody and blocked"
			case m.Step == entitle.MarkOpened:
				what = "on path " + m.Path + " and opened by hand"
			case m.Step != "":
				what = "on path " + m.Path + " with " + m.Step + " done"
			}
			parts = append(parts, before+model.Count(len(m.Accounts), "account", "accounts")+" "+what)
		}
	}
	add("", x.Came)
	add("no more: ", x.Went)
	return strings.Join(parts, "; ")
}

// heldWords says how many people hold a kit that lingers, or keep what it gave.
func heldWords(n int, kit, step string) string {
	if step == ledger.Lingers {
		return model.Count(n, "person keeps", "people keep") + " what kit " + kit + " gave"
	}
	return model.Count(n, "person holds", "people hold") + " kit " + kit
}

// letterState says what became of a letter.
func letterState(x *ledger.Letter) string {
	text := "letter " + x.ID + " by " + x.Way + ": "
	switch x.State {
	case ledger.LetterBegun:
		return text + "about to be sent, with " + model.Count(len(x.Keys), "thing", "things") + " to tell"
	case ledger.LetterArrived:
		return text + "sent"
	case ledger.LetterUnknown:
		return text + "may not have arrived: " + x.Says
	}
	return text + "not sent: " + x.Says
}

// sayWhole is a ledger whose chain holds.
func sayWhole(entries int, head string) string {
	return fmt.Sprintf("The ledger is whole: %s, head %s", model.Count(entries, "entry", "entries"), head)
}

// sayNothingToTrust is said of a ledger that ends where it did, or later.
func sayNothingToTrust() string {
	return "The ledger ends where it did, or later; there is nothing to trust."
}

// sayTrusted is a ledger that is gone on with as it is.
func sayTrusted(entries int) string {
	return fmt.Sprintf("The ledger is taken for whole as it is, with %s.", model.Count(entries, "entry", "entries"))
}
