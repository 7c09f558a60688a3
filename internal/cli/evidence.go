package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"pravet/internal/core/model"
	"pravet/internal/evidence"
	"pravet/internal/show"
)

func (c *program) evidence() *cobra.Command {
	var from, to, out string
	var pseudonyms bool
	cmd := &cobra.Command{
		Use:   "evidence",
		Short: "Write an archive of what is on record, which a stranger can prove",
		Long: `Evidence packs what is on record from one day to another: the entries, the plans, the
decisions with their signatures and the keys of their time, and what the exports held.
A README in it says how it is proved with sha256sum, sqlite3 and ssh-keygen alone, and
verify.sh does that. Made again of the same days, it is the same file.

With --pseudonyms people have other names, the same for each everywhere in it; the chain
can be seen then, and not be computed.`,
		Example: example("pravet report evidence --from 2026-11-01 --to 2026-11-30 --out november.tar.gz"),
		Args:    takes(0, 0, "", ""),
	}
	cmd.Flags().StringVar(&from, "from", "", "the first day, YYYY-MM-DD (required)")
	cmd.Flags().StringVar(&to, "to", "", "the last day, YYYY-MM-DD (default: today)")
	cmd.Flags().StringVar(&out, "out", "", "the file, which ends with .tar.gz (required)")
	cmd.Flags().BoolVar(&pseudonyms, "pseudonyms", false, "call people Person-00001 and so on, for auditors outside")
	cmd.RunE = func(*cobra.Command, []string) error {
		if !strings.HasSuffix(out, ".tar.gz") {
			return usage(sayArchiveEnding(out))
		}
		d, err := c.desk()
		if err != nil {
			return err
		}
		s, err := d.Evidence(from, to, out, pseudonyms)
		if err != nil {
			return err
		}
		p := show.NewPrinter(c.Stdout, c.Environ)
		p.Line(sayEvidence(out, s))
		if pseudonyms {
			p.Line(sayPseudonyms())
		} else {
			p.Line(sayProveIt(out))
		}
		if len(s.Missing) > 0 {
			p.Line(sayPlansMissing(s.Missing))
		}
		return p.Err()
	}
	return cmd
}

// sayEvidence is what an archive holds.
func sayEvidence(file string, s *evidence.Summary) string {
	return fmt.Sprintf(
		"Written to %s: %s up to %d (%.12s), %s, %s of which %d are signed, %s.",
		file, model.Count(s.Entries, "entry", "entries"), s.Last.Seq, s.Last.Hash, model.Count(s.Plans, "plan", "plans"),
		model.Count(s.Decisions, "decision", "decisions"), s.Signed, model.Count(s.States, "state of an export", "states of exports"),
	)
}

// sayProveIt is how an archive is proved.
func sayProveIt(file string) string {
	return fmt.Sprintf("Prove it with: tar xzf %s && sh evidence/verify.sh", file)
}

// sayPseudonyms is an archive without names.
func sayPseudonyms() string {
	return "People have other names in it. Reasons that somebody wrote may still tell who is meant; read them before you hand it on."
}

// sayPlansMissing is plans that are on record, and whose files are gone.
func sayPlansMissing(plans []string) string {
	return "Not in it, as their files are not here: plans " + strings.Join(plans, ", ") + "."
}

// sayArchiveEnding is an archive without its name.
func sayArchiveEnding(out string) error {
	return fmt.Errorf("--out %q: name a file that ends with .tar.gz", out)
}
