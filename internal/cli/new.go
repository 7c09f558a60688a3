package cli

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"pravet/examples/start"
	"pravet/internal/desired"
	"pravet/internal/edit"
)

func (c *program) new() *cobra.Command {
	var empty bool
	var organization string
	cmd := &cobra.Command{
		Use:     "new DIR",
		Short:   "Start a commented repository that passes check",
		GroupID: keeping,
		Long: `New writes a small desired state with comments into a folder that is empty or
not there yet: one application, two kits, three people and an export to draft
from. Change it into your own, file by file.

With --empty it writes nothing but the settings, for your own people and applications:
take people in, adopt applications as they are, and find rules. Each command names the
next one.`,
		Example: example("pravet new access", "pravet new clients/north", "pravet new access --empty --organization 'Marrowick Ferries'"),
		Args:    takes(1, 1, "in which folder?", "pravet new access"),
		RunE: func(_ *cobra.Command, args []string) error {
			if organization != "" && !empty {
				return usage(sayOrganizationOfEmpty())
			}
			dir := c.path(args[0])
			if err := emptyFolder(dir, args[0]); err != nil {
				return err
			}
			if empty {
				if err := startEmpty(dir, cmp.Or(strings.TrimSpace(organization), filepath.Base(dir))); err != nil {
					return sayNotStarted(err)
				}
				_, err := fmt.Fprintln(c.Stdout, sayStartedEmpty(args[0]))
				return err
			}
			if err := startFull(dir); err != nil {
				return sayNotStarted(err)
			}
			_, err := fmt.Fprintln(c.Stdout, sayStarted(args[0]))
			return err
		},
	}
	cmd.Flags().BoolVar(&empty, "empty", false, "only the settings, without examples: for your own people and applications")
	cmd.Flags().StringVar(&organization, "organization", "", "with --empty: what the organization is called (default: as the folder)")
	return cmd
}

// startFull writes the example.
func startFull(dir string) error {
	return fs.WalkDir(start.Files, ".", func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		to := filepath.Join(dir, filepath.FromSlash(path))
		if d.IsDir() {
			return os.MkdirAll(to, 0o755)
		}
		if path == "gitignore" {
			to = filepath.Join(dir, ".gitignore")
		}
		data, err := start.Files.ReadFile(path)
		if err != nil {
			return err
		}
		return os.WriteFile(to, data, 0o644)
	})
}

// startEmpty writes the settings, and a folder for exports.
func startEmpty(dir, organization string) error {
	ignore, err := start.Files.ReadFile("gitignore")
	if err == nil {
		err = os.MkdirAll(filepath.Join(dir, "exports"), 0o755)
	}
	if err == nil {
		err = os.WriteFile(filepath.Join(dir, ".gitignore"), ignore, 0o644)
	}
	if err == nil {
		settings := strings.Replace(start.Empty, "ORGANIZATION", edit.Scalar(organization), 1)
		err = os.WriteFile(filepath.Join(dir, desired.Root), []byte(settings), 0o644)
	}
	return err
}

// emptyFolder makes sure that a folder is empty or not there.
func emptyFolder(dir, name string) error {
	entries, err := os.ReadDir(dir)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil
	case err != nil:
		return fmt.Errorf("%s: %w", name, err)
	case len(entries) > 0:
		return sayFolderNotEmpty(name)
	}
	return nil
}

// sayStarted is what to do in a new repository.
func sayStarted(folder string) string {
	return fmt.Sprintf(
		"Started a repository in %s. Look around, then:\n"+
			"  cd %s\n"+
			"  git init && git add . && git commit -m 'Start'\n"+
			"  pravet check\n"+
			"  pravet draft", folder, folder,
	)
}

// sayStartedEmpty is what to do in a repository that has only its settings.
func sayStartedEmpty(folder string) string {
	return fmt.Sprintf(
		"Started an empty repository in %s. Copy each application's export into %s/exports, then:\n"+
			"  cd %s\n"+
			"  pravet intake people.csv --write                      people first, from a spreadsheet\n"+
			"  pravet adopt --app ID exports/FILE --write            then each application as it is\n"+
			"  pravet propose --write                                rules in what people have\n"+
			"  pravet draft                                          a plan with 0 changes\n"+
			"  git init && git add . && git commit -m 'As it is'     and from now on every change is a commit",
		folder, folder, folder,
	)
}

// sayOrganizationOfEmpty is an organization for the example, which has one.
func sayOrganizationOfEmpty() error {
	return errors.New("--organization goes with --empty; the example has its own")
}

// sayFolderNotEmpty is a folder in which nothing can be started.
func sayFolderNotEmpty(name string) error {
	return fmt.Errorf("%s: the folder is not empty; nothing was written. Name a new one", name)
}

// sayNotStarted is a repository that cannot be written.
func sayNotStarted(err error) error { return fmt.Errorf("the repository cannot be written: %w", err) }
