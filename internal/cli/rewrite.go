package cli

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"pravet/internal/amend"
	"pravet/internal/core/access"
	"pravet/internal/core/day"
	"pravet/internal/core/words"
	"pravet/internal/desired"
	"pravet/internal/edit"
	"pravet/internal/gitrepo"
	"pravet/internal/prepare"
	"pravet/internal/say"
	"pravet/internal/show"
)

// rewriting is how commands that change files are told what to do with the changes.
type rewriting struct {
	write, commit, full, brief bool
	because, format            string
	subject                    string // what is done, for the commit
	quiet                      bool   // what it comes to is not counted
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

// today finds the repository of a command that is about today, and reads its files with its
// people.
func (c *program) today() (dir string, repo *desired.Repo, today day.Day, err error) {
	if dir, today, err = c.where(""); err != nil {
		return "", nil, 0, err
	}
	repo, err = c.wholeRepo(dir)
	return dir, repo, today, err
}

// wholeRepo reads the files of a repository with its people, and ends where they do not
// pass.
func (c *program) wholeRepo(dir string) (*desired.Repo, error) {
	repo, err := c.rules(dir)
	if err != nil {
		return nil, err
	}
	repo.ReadPeople()
	if repo.Problems.Errors() > 0 {
		return nil, c.problems(&prepare.State{Repo: repo})
	}
	return repo, nil
}

// rewrite shows what an amendment comes to, in the files and in whose access, and writes it
// where that was asked for.
func (c *program) rewrite(dir string, repo *desired.Repo, a *amend.Amendment, r *rewriting, today day.Day) error {
	return c.amended(dir, repo, a, r, today, func(w *written) error {
		if r.brief {
			return nil
		}
		return c.showRewritten(w.texts, w.access, w.warnings, r)
	})
}

// putDown counts whose access changes by an amendment that was shown already, and writes it
// where that was asked for.
func (c *program) putDown(dir string, repo *desired.Repo, a *amend.Amendment, r *rewriting, today day.Day) error {
	return c.amended(dir, repo, a, r, today, func(w *written) error {
		if r.format != "table" || r.quiet || r.brief {
			return nil
		}
		p := show.NewPrinter(c.Stdout, c.Environ)
		p.Line()
		if r.full {
			p.Differences(w.access, w.warnings)
		} else {
			p.Line(show.DifferencesLine(w.access))
		}
		return p.Err()
	})
}

// A written is what an amendment comes to.
type written struct {
	texts    []*edit.Text
	access   []access.Difference
	warnings []access.Warning
}

// amended works out what an amendment comes to, has it said, and writes it where that was asked
// for.
func (c *program) amended(
	dir string, repo *desired.Repo, a *amend.Amendment, r *rewriting, today day.Day, tell func(w *written) error,
) error {
	files, err := a.Files()
	if err != nil {
		return err
	}
	w := &written{texts: files.Changed()}
	if len(w.texts) == 0 {
		_, err := fmt.Fprintln(c.Stderr, say.NothingToAmend())
		return err
	}
	if w.access, w.warnings, err = c.comes(repo, files, today); err != nil {
		return err
	}
	if err := tell(w); err != nil {
		return err
	}
	if !r.write && !r.commit {
		fmt.Fprintln(c.Stderr, say.NotWrittenYet())
		return nil
	}
	return c.writeFiles(dir, files, w.texts, r)
}

// comes compares whose access differs with files as they would be. Where they would not pass,
// it says so.
func (c *program) comes(
	repo *desired.Repo, files *edit.Files, today day.Day,
) ([]access.Difference, []access.Warning, error) {
	contents, err := files.Contents()
	if err != nil {
		return nil, nil, err
	}
	after, view, err := prepare.At(c.ctx, repo.Tree.With(contents), "", today)
	if errors.Is(err, prepare.ErrProblems) {
		errs := after.Errors()
		for _, p := range errs {
			fmt.Fprintln(c.Stderr, p)
		}
		return nil, nil, fail(Failed, say.WouldNotPass(len(errs)))
	}
	if err != nil {
		return nil, nil, err
	}
	before := prepare.View(repo, today)
	list := access.Compare(before, view)
	known := map[string]bool{}
	for _, w := range before.Implied() {
		known[words.Of(&w.Fact)] = true
	}
	warnings := slices.DeleteFunc(view.Implied(), func(w access.Warning) bool { return known[words.Of(&w.Fact)] })
	return list, append(warnings, access.Gained(list)...), nil
}

func (c *program) showRewritten(
	texts []*edit.Text, list []access.Difference, warnings []access.Warning, r *rewriting,
) error {
	rewrites, err := show.Rewrites(texts)
	if err != nil {
		return err
	}
	if r.format == "json" {
		return show.PrintJSON(c.Stdout, struct {
			Files  []show.Rewritten    `json:"files"`
			Access []access.Difference `json:"access"`
		}{rewrites, list})
	}
	_, lines := show.Size(c.Stdout, c.Environ)
	return c.paged(func(p *show.Printer) error {
		p.Rewritten(rewrites, r.full)
		p.Line()
		if r.full || len(list) <= lines/2 {
			p.Differences(list, warnings)
		} else {
			p.DifferencesFolded(access.Fold(list), warnings)
		}
		return p.Err()
	})
}

// writeFiles writes files, and commits them where that was asked for.
func (c *program) writeFiles(dir string, files *edit.Files, texts []*edit.Text, r *rewriting) error {
	var names []string
	for _, t := range texts {
		names = append(names, t.Name)
	}
	if r.commit {
		dirty, err := gitrepo.Dirty(dir, names)
		if err != nil {
			return fail(Failed, say.NoGit(err))
		}
		if len(dirty) > 0 {
			return fail(Failed, say.Uncommitted(dirty))
		}
	}
	if err := files.Write(); err != nil {
		return err
	}
	if !r.commit {
		_, err := fmt.Fprintln(c.Stderr, say.Wrote(names))
		return err
	}
	message := r.subject
	if r.because != "" {
		message += "\n\n" + r.because
	}
	commit, err := gitrepo.CommitFiles(c.ctx, dir, names, message)
	if err != nil {
		return say.NotCommitted(names, err)
	}
	_, err = fmt.Fprintln(c.Stderr, say.Committed(names, commit, strings.SplitN(message, "\n", 2)[0]))
	return err
}
