package cli

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"pravet/internal/ledger"
	history "pravet/internal/past"
	"pravet/internal/say"
	"pravet/internal/show"
)

// kinds are the kinds of entries that --kind chooses.
var kinds = []string{"export", "stood", "plan", "decision", "run", "step", "outcome", "run-end", "letter"}

func (c *program) log() *cobra.Command {
	var format string
	var want logFilter
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
	want.flags(c, cmd)
	cmd.ValidArgsFunction = c.completeLog
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		subject := ""
		if len(args) == 1 {
			subject = args[0]
		}
		l, err := c.existingLedger()
		if err != nil {
			return err
		}
		defer l.Close()
		if err := want.prepare(c); err != nil {
			return err
		}
		entries, err := logEntries(l, &want, subject)
		if err != nil {
			return err
		}
		if subject != "" && len(entries) == 0 {
			return fail(Failed, say.NotOnRecord(subject))
		}
		if len(entries) == 0 {
			if err := want.missing(c, l); err != nil {
				return err
			}
		}
		table, err := logTable(l, entries, want.narrow())
		if err != nil {
			return err
		}
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

// overview is what the log shows of everything: not the single steps and
// outcomes of runs.
var overview = []ledger.Kind{ledger.ExportSeen, ledger.PlanDrafted, ledger.Decided, ledger.RunStarted, ledger.RunEnded}

// logEntries reads the entries of a kind ("" for an overview), or those that
// concern a run or a plan (or the beginning of a plan's id).
func logEntries(l ledger.Ledger, want *logFilter, subject string) ([]*ledger.Entry, error) {
	entries := []*ledger.Entry{}
	kind := want.kind
	add := func(e *ledger.Entry) error {
		fits, err := want.fits(e)
		if fits {
			entries = append(entries, e)
		}
		return err
	}
	if subject == "" {
		kinds := overview
		switch {
		case kind != "":
			kinds = []ledger.Kind{ledger.Kind(kind)}
		case want.narrow():
			kinds = []ledger.Kind{ledger.Decided, ledger.Outcome}
		}
		err := l.Scan(ledger.Query{Kinds: kinds, Person: want.person}, add)
		return entries, err
	}
	subjects := map[string]bool{}
	err := l.Scan(
		ledger.Query{Kinds: []ledger.Kind{ledger.PlanDrafted, ledger.Decided, ledger.RunStarted}},
		func(e *ledger.Entry) error {
			var about struct{ Run, Plan string }
			if err := json.Unmarshal(e.Body, &about); err != nil {
				return say.BadEntry(e.Seq, err)
			}
			if about.Run == subject || about.Plan != "" && strings.HasPrefix(about.Plan, subject) {
				subjects[e.Subject] = true
			}
			return nil
		},
	)
	for _, s := range slices.Sorted(maps.Keys(subjects)) {
		if err != nil {
			break
		}
		err = l.Scan(ledger.Query{Subject: s}, func(e *ledger.Entry) error {
			if kind == "" || string(e.Kind) == kind {
				return add(e)
			}
			return nil
		})
	}
	slices.SortFunc(entries, func(a, b *ledger.Entry) int { return cmp.Compare(a.Seq, b.Seq) })
	return entries, err
}

// logTable is entries as a table; with narrow, outcomes tell who decided them.
func logTable(l ledger.Ledger, entries []*ledger.Entry, narrow bool) (*show.Table, error) {
	t := &show.Table{
		Headers: []string{"entry", "when", "who", "what", "about", "says"},
		Keys:    []string{"seq", "at", "by", "kind", "subject", "says"},
		Items:   entries,
		Right:   map[int]bool{0: true},
	}
	for _, e := range entries {
		text := say.Entry(e)
		if narrow && e.Kind == ledger.Outcome {
			o, err := ledger.Decode[ledger.ChangeOutcome](e)
			if err != nil {
				return nil, err
			}
			by, because, err := history.Decider(l, o.Plan, o.Change)
			if err != nil {
				return nil, err
			}
			if by != "" {
				text += say.AcceptedBy(by, because)
			}
		}
		t.Rows = append(
			t.Rows,
			[]string{fmt.Sprint(e.Seq), say.Minute(e.At), say.Name(e.By), string(e.Kind), e.Subject, text},
		)
	}
	return t, nil
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
		l, err := c.existingLedger()
		if err != nil {
			return &ranError{err}
		}
		defer l.Close()
		v, err := whole(l)
		if err != nil {
			return err
		}
		if err := l.Cut(); err != nil {
			return fail(Failed, err)
		}
		if head != "" {
			found := false
			err := l.Scan(ledger.Query{}, func(e *ledger.Entry) error { found = found || e.Hash == head; return nil })
			if err != nil {
				return &ranError{err}
			}
			if !found {
				return fail(Failed, say.NoSuchHead(head))
			}
		}
		fmt.Fprintln(c.Stdout, say.Whole(int(v.Entries), v.Head))
		return nil
	}
	return cmd
}

// whole proves the chain of a ledger.
func whole(l ledger.Ledger) (*ledger.Verdict, error) {
	v, err := l.Verify()
	if err != nil {
		return nil, &ranError{err}
	}
	if v.Broken != 0 {
		return nil, fail(Failed, say.LedgerBroken(v.Says))
	}
	return v, nil
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
		dir, err := c.dir()
		if err != nil {
			return err
		}
		l, err := c.anyLedger(dir)
		if err != nil {
			return &ranError{err}
		}
		defer l.Close()
		v, err := whole(l)
		if err != nil {
			return err
		}
		cut := l.Cut()
		if cut == nil {
			_, err := fmt.Fprintln(c.Stdout, say.NothingToTrust())
			return err
		}
		if err := l.Trust(because); err != nil {
			return &ranError{err}
		}
		_, err = fmt.Fprintln(c.Stdout, say.Trusted(int(v.Entries)+1))
		return err
	}
	return cmd
}

// existingLedger opens the repository's ledger for reading, if there is one.
func (c *program) existingLedger() (ledger.Ledger, error) {
	dir, err := c.dir()
	if err != nil {
		return nil, err
	}
	l, err := ledger.OpenReading(dir, c.ledgerOptions())
	if err == nil && l == nil {
		err = fail(Failed, say.NoLedger())
	}
	return l, err
}
