package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"pravet/internal/core/decide"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/core/words"
	"pravet/internal/desk"
	"pravet/internal/show"
)

func (c *program) waiting() *cobra.Command {
	var format string
	cmd := &cobra.Command{
		Use:   "waiting [PLAN]",
		Short: "List which changes of a plan wait for whose decision, and since when",
		Long: `Waiting lists, for the changes of a plan that are neither decided nor done, who may decide
about them by the rules under deciders in pravet.yaml, how many of them it still takes,
and since when. Without PLAN it is about the newest.`,
		Example:           example("pravet list waiting", "pravet list waiting 2w57bede --format json"),
		Args:              takes(0, 1, "", "pravet list waiting"),
		ValidArgsFunction: c.completePlans,
	}
	formatFlag(cmd, &format, "table", "json", "csv")
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		d, err := c.desk()
		if err != nil {
			return err
		}
		name := ""
		if len(args) > 0 {
			name = args[0]
		}
		list, err := d.Waiting(name)
		if err != nil {
			return err
		}
		table := waitingTable(d, list)
		if format != "table" {
			return show.Output(c.Stdout, c.Environ, format, table)
		}
		if len(list) == 0 {
			_, err := fmt.Fprintln(c.Stdout, sayNothingWaits())
			return err
		}
		return c.paged(func(p *show.Printer) error {
			p.Print(table)
			return p.Err()
		})
	}
	return cmd
}

// A waitsFor is a row of the list as JSON has it.
type waitsFor struct {
	Plan    string   `json:"plan"`
	Since   string   `json:"since"`
	Who     string   `json:"who"`
	Left    int      `json:"left"`
	Rule    string   `json:"rule,omitempty"` // where it stands
	Changes []string `json:"changes"`
}

func waitingTable(d *desk.Desk, list []*desk.Waiting) *show.Table {
	t := &show.Table{Columns: []show.Column{
		{Title: "for whom", Key: "who"}, {Title: "changes", Key: "changes", Number: true}, {Title: "since", Key: "since"},
		{Title: "plan", Key: "plan"}, {Title: "for example", Key: "example"},
	}}
	items := []waitsFor{}
	for _, w := range list {
		x := waitsFor{Plan: w.Plan, Since: w.Since, Who: w.Who(), Left: max(w.Left, 1)}
		if w.Rule != nil {
			x.Rule = w.Rule.Pos.String()
		}
		for _, ch := range w.Changes {
			x.Changes = append(x.Changes, ch.ID)
		}
		items = append(items, x)
		p, first := w.Of, w.Changes[0]
		t.Rows = append(t.Rows, []any{x.Who, len(w.Changes), d.Zone().MinuteOf(w.Since), w.Plan, words.Sentence(p, first)})
	}
	t.Items = items
	return t
}

// stillWaits says for whom changes wait that were accepted by some.
func stillWaits(p *show.Printer, pl *plan.Plan, s *decide.PlanDecisions) {
	counts := map[string]int{}
	var order []string
	for i := range pl.Changes {
		c := &pl.Changes[i]
		if !s.Wanted(c) || s.Done[c.ID] || s.Verdicts[c.ID] == decide.Rejected {
			continue
		}
		for _, w := range s.Waits[c.ID] {
			who := w.Rule.Who(c.App, w.Left())
			if counts[who] == 0 {
				order = append(order, who)
			}
			counts[who]++
		}
	}
	for _, who := range order {
		p.Line(sayStillWaits(counts[who], who))
	}
}

// sayStillWaits is what was accepted by too few.
func sayStillWaits(n int, who string) string {
	return fmt.Sprintf("%s for %s as well.", model.Count(n, "change still waits", "changes still wait"), who)
}

// sayNothingWaits is a plan that nobody has to decide about.
func sayNothingWaits() string { return "Nothing waits for anybody's decision." }

// sayIgnored is a decision that counts for nothing.
func sayIgnored(entry int64, by, says string) string {
	return fmt.Sprintf("Entry %d of the ledger, a decision by %s, counts for nothing: %s.", entry, by, says)
}
