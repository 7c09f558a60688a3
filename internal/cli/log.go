package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"pravet/internal/desk"
	"pravet/internal/ledger"
	"pravet/internal/say"
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
		table := logTable(entries)
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
func logTable(list []desk.Logged) *show.Table {
	entries := []*ledger.Entry{}
	t := &show.Table{
		Headers: []string{"entry", "when", "who", "what", "about", "says"},
		Keys:    []string{"seq", "at", "by", "kind", "subject", "says"},
		Right:   map[int]bool{0: true},
	}
	for _, x := range list {
		e := x.Entry
		entries = append(entries, e)
		text := say.Entry(e)
		if x.Decider != "" {
			text += say.AcceptedBy(x.Decider, x.Because)
		}
		t.Rows = append(
			t.Rows,
			[]string{fmt.Sprint(e.Seq), say.Minute(e.At), say.Name(e.By), string(e.Kind), e.Subject, text},
		)
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
		fmt.Fprintln(c.Stdout, say.Whole(int(v.Entries), v.Head))
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
			return usage(say.NoReason())
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
			_, err = fmt.Fprintln(c.Stdout, say.NothingToTrust())
		default:
			_, err = fmt.Fprintln(c.Stdout, say.Trusted(int(entry)))
		}
		return err
	}
	return cmd
}
