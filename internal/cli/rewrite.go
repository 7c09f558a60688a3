package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"pravet/internal/amend"
	"pravet/internal/core/access"
	"pravet/internal/core/model"
	"pravet/internal/core/words"
	"pravet/internal/desired"
	"pravet/internal/desk"
	"pravet/internal/show"
)

// rewriting is how commands that change files are told what to do with the changes.
type rewriting struct {
	write, commit, full, brief bool
	because, format            string
	subject                    string        // what is done, for the commit
	quiet                      bool          // what it comes to is not counted
	ends                       int           // how many people it may end, where they are many
	next                       func() string // once something was written: what comes next for somebody who starts; may be nil
}

func (r *rewriting) flags(cmd *cobra.Command) {
	if cmd.Flags().Lookup("format") == nil {
		formatFlag(cmd, &r.format, "table", "json")
	}
	cmd.Flags().BoolVar(&r.write, "write", false, "write the files; without it they are only shown as they would be")
	cmd.Flags().BoolVar(&r.commit, "commit", false, "write the files and commit them, and nothing else, to Git")
	cmd.Flags().StringVar(&r.because, "because", "", "why, for the files and for the commit")
	cmd.Flags().BoolVar(&r.brief, "brief", false, "say no more than what was written")
	cmd.Flags().BoolVar(&r.full, "full", false, "every line and every difference, however many there are")
	cmd.MarkFlagsMutuallyExclusive("brief", "full")
}

// rewrite shows what an amendment comes to, in the files and in whose access, and writes it
// where that was asked for.
func (c *program) rewrite(d *desk.Desk, repo *desired.Repo, a *amend.Amendment, r *rewriting) error {
	return c.amended(d, repo, a, r, func(w *desk.Amended) error {
		if r.brief {
			return nil
		}
		return c.showRewritten(w, r)
	})
}

// writeShown writes an amendment that has been shown already, if asked to, and counts whose access
// changes.
func (c *program) writeShown(d *desk.Desk, repo *desired.Repo, a *amend.Amendment, r *rewriting) error {
	return c.amended(d, repo, a, r, func(w *desk.Amended) error {
		if r.format != "table" || r.quiet || r.brief {
			return nil
		}
		p := show.NewPrinter(c.Stdout, c.Environ)
		p.Line()
		if r.full {
			p.Differences(w.Access, w.Warnings)
		} else {
			p.Line(show.DifferencesLine(w.Access))
		}
		return p.Err()
	})
}

// amended works out what an amendment comes to, has it said, and writes it where that was asked
// for.
func (c *program) amended(
	d *desk.Desk, repo *desired.Repo, a *amend.Amendment, r *rewriting, tell func(w *desk.Amended) error,
) error {
	w, err := d.Comes(repo, a)
	if err != nil {
		return err
	}
	if len(w.Texts) == 0 {
		c.tell(sayNothingToAmend())
		return nil
	}
	if err := tell(w); err != nil {
		return err
	}
	if r.format == "table" && !r.brief {
		if err := c.keeps(w); err != nil {
			return err
		}
	}
	if desk.ManyEnd(w.Ending, w.Here) && w.Ending != r.ends {
		c.tell("pravet: " + sayAmendmentEndsMany(w.Ending, w.Here).Error())
		return fail(Failed, sayNothingTakenIn(r.write || r.commit))
	}
	switch {
	case r.commit:
		message := r.subject
		if r.because != "" {
			message += "\n\n" + r.because
		}
		commit, err := w.Commit(message)
		if err != nil {
			return err
		}
		c.tell(sayCommitted(w.Names(), commit, strings.SplitN(message, "\n", 2)[0]))
		c.leads(r.next)
	case r.write:
		if err := w.Write(); err != nil {
			return err
		}
		c.tell(sayWrote(w.Names()))
		c.leads(r.next)
	default:
		c.tell(sayNotWrittenYet())
	}
	return nil
}

// mostKeeps is of how many people it is said one by one what they keep for a while.
const mostKeeps = 12

// keeps says who keeps what a kit gave for a while.
func (c *program) keeps(w *desk.Amended) error {
	p := show.NewPrinter(c.Stdout, c.Environ)
	for i, k := range w.Keeps {
		if i == mostKeeps {
			p.Line("  " + sayMore(len(w.Keeps)-i))
			break
		}
		p.Wrapped("", sayKeeps(words.Clean(k.Name), k.Person, k.Kit, k.Until))
	}
	if len(w.Keeps) == 0 && len(w.Access) > 0 {
		for _, kit := range w.Idle {
			p.Wrapped("", "Note: "+desk.SayIdleLinger(kit))
		}
	}
	return p.Err()
}

// sayKeeps is somebody who keeps what a kit gave for a while.
func sayKeeps(name, id, kit, until string) string {
	return fmt.Sprintf("%s (%s) keeps what kit %s gives until %s, because the kit lingers.", name, id, kit, until)
}

// leads names the next command of the road, for somebody who starts.
func (c *program) leads(next func() string) {
	if next == nil {
		return
	}
	if text := next(); text != "" {
		c.tell(text)
	}
}

func (c *program) showRewritten(w *desk.Amended, r *rewriting) error {
	rewrites, err := show.Rewrites(w.Texts)
	if err != nil {
		return err
	}
	if r.format == "json" {
		return show.PrintJSON(c.Stdout, struct {
			Files  []show.Rewritten    `json:"files"`
			Access []access.Difference `json:"access"`
			Keeps  []desk.Keeping      `json:"keeps,omitempty"`
		}{rewrites, w.Access, w.Keeps})
	}
	_, lines := show.Size(c.Stdout, c.Environ)
	return c.paged(func(p *show.Printer) error {
		p.Rewritten(rewrites, r.full)
		p.Line()
		if r.full || len(w.Access) <= lines/2 {
			p.Differences(w.Access, w.Warnings)
		} else {
			p.DifferencesFolded(w.Access, w.Warnings)
		}
		return p.Err()
	})
}

// sayAmendmentEndsMany is a change of the files that ends many.
func sayAmendmentEndsMany(n, of int) error {
	return fmt.Errorf("this ends %s of %s; if that is intended, add --ends %d",
		model.Thousands(n), model.Count(of, "person", "people"), n)
}

// sayNothingToAmend is said where the files say already what is asked for.
func sayNothingToAmend() string { return "The files say so already; nothing is to be written." }

// sayWrote names the files that were written.
func sayWrote(files []string) string { return "Wrote " + words.Several(files) + "." }

// sayCommitted names the files that were committed, and the commit.
func sayCommitted(files []string, commit, subject string) string {
	return fmt.Sprintf("Committed %s as %s: %s", words.Several(files), commit[:min(10, len(commit))], subject)
}
