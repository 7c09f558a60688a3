package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"pravet/internal/core/model"
	"pravet/internal/decisions"
	"pravet/internal/ledger"
	"pravet/internal/show"
)

func (c *program) decisions() *cobra.Command {
	cmd := &cobra.Command{
		Use:     "decisions",
		Short:   "Take decisions that somebody else has written to a file",
		GroupID: deciding,
		Long: `A decision can travel as a small text file: accept and reject write one with --out. It
comes by mail, by chat or in Git, and is proved and recorded where the plan is carried out.`,
		Example: example("pravet decisions"),
		Args:    takes(0, 0, "", ""),
		RunE:    func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	cmd.AddCommand(c.take())
	return cmd
}

func (c *program) take() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "take FILE...",
		Short: "Prove the decisions of files, and record them, each once",
		Long: `Take reads decisions that accept or reject have written with --out. Where they are signed,
it proves the signature, by the keys of the commit from which the plan was drafted;
where decisions must be signed, others are refused. Of each file it records all or
nothing, and what is on record already stays as it is.`,
		Example: example("pravet decisions take decisions/from-runa.txt"),
		Args:    takes(1, -1, "which file?", "pravet decisions take decisions/from-runa.txt"),
	}
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		d, err := c.desk()
		if err != nil {
			return err
		}
		taken, err := d.Take(args)
		p := show.NewPrinter(c.Stdout, c.Environ)
		for i := range taken {
			p.Line(sayTaken(&taken[i]))
		}
		if err != nil {
			return err
		}
		return p.Err()
	}
	return cmd
}

// sayTaken is a decision that was read from a file.
func sayTaken(x *decisions.Taken) string {
	d := &x.Decision
	var parts, because []string
	for _, part := range d.Parts() {
		what := model.Count(len(part.Changes), "change", "changes")
		if part.All || len(part.Changes) == 0 {
			what = "the whole plan"
		}
		parts = append(parts, map[string]string{"accept": "accepts", "reject": "rejects", "lift": "lifts a guard of"}[part.Verdict]+" "+what)
		if !slices.Contains(because, part.Because) {
			because = append(because, part.Because)
		}
	}
	did := strings.Join(parts, ", ")
	by := "by name"
	if x.Signed {
		by = "signed"
	}
	if x.Again {
		return fmt.Sprintf("On record already: %s %s, of plan %s (%s).", ledger.Who(x.By), did, d.Plan, by)
	}
	return fmt.Sprintf("Recorded: %s %s, of plan %s (%s): %s", ledger.Who(x.By), did, d.Plan, by, strings.Join(because, "; "))
}
