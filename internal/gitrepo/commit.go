package gitrepo

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strings"
)

// Dirty lists those of some files that differ from the last commit. It is an error where
// there is no Git repository.
func Dirty(dir string, files []string) ([]string, error) {
	if _, err := git(dir, "rev-parse", "--git-dir"); err != nil {
		return nil, errors.New("this folder is in no Git repository")
	}
	_, dirty, err := state(dir, files...)
	if err != nil {
		return nil, fmt.Errorf("git status: %w", err)
	}
	return dirty, nil
}

// CommitFiles commits some files as they are now, and nothing else that is staged, and
// returns the commit.
func CommitFiles(ctx context.Context, dir string, files []string, message string) (string, error) {
	run := func(args ...string) error {
		cmd := exec.CommandContext(ctx, "git", append([]string{"-C", dir}, args...)...)
		cmd.Env = append(os.Environ(), "GIT_LITERAL_PATHSPECS=1")
		var said bytes.Buffer
		cmd.Stdout, cmd.Stderr = &said, &said
		if err := cmd.Run(); err != nil {
			if text := strings.TrimSpace(said.String()); text != "" {
				err = errors.New(text)
			}
			return fmt.Errorf("git %s: %w", args[0], err)
		}
		return nil
	}
	if err := run(append([]string{"add", "--intent-to-add", "--"}, files...)...); err != nil {
		return "", err
	}
	if err := run(append([]string{"commit", "--quiet", "--only", "--message", message, "--"}, files...)...); err != nil {
		return "", err
	}
	commit, _, err := Revision(dir)
	return commit, err
}
