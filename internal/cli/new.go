package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"pravet/examples/start"
)

func (c *program) new() *cobra.Command {
	return &cobra.Command{
		Use:     "new DIR",
		Short:   "Start a commented repository that passes check",
		GroupID: keeping,
		Long: `New writes a small desired state with comments into a folder that is empty or
not there yet: one application, two kits, three people and an export to draft
from. Change it into your own, file by file.`,
		Example: example("pravet new access", "pravet new clients/north"),
		Args:    takes(1, 1, "in which folder?", "pravet new access"),
		RunE: func(_ *cobra.Command, args []string) error {
			dir := c.path(args[0])
			if err := emptyFolder(dir, args[0]); err != nil {
				return err
			}
			err := fs.WalkDir(start.Files, ".", func(path string, d fs.DirEntry, err error) error {
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
			if err != nil {
				return sayNotStarted(err)
			}
			_, err = fmt.Fprintln(c.Stdout, sayStarted(args[0]))
			return err
		},
	}
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

// sayFolderNotEmpty is a folder in which nothing can be started.
func sayFolderNotEmpty(name string) error {
	return fmt.Errorf("%s: the folder is not empty; nothing was written. Name a new one", name)
}

// sayNotStarted is a repository that cannot be written.
func sayNotStarted(err error) error { return fmt.Errorf("the repository cannot be written: %w", err) }
