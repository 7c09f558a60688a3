// Package gitrepo asks the git program about the repository that the files
// are kept in. Everything works without Git too; then there is no revision.
package gitrepo

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path"
	"sort"
	"strings"
)

// paths are the parts of a desired-state repository that plans follow from.
var paths = []string{"pravet.yaml", "people", "apps", "kits", "paths", "lists", "standing.yaml"}

// command is a call of git that takes objects for what they are.
func command(ctx context.Context, dir string, args ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, "git", append([]string{"-C", dir}, args...)...)
	cmd.Env = append(os.Environ(), "GIT_NO_REPLACE_OBJECTS=1", "GIT_OPTIONAL_LOCKS=0", "GIT_LITERAL_PATHSPECS=1")
	return cmd
}

func git(dir string, args ...string) (string, error) {
	cmd := command(context.Background(), dir, args...)
	var out bytes.Buffer
	cmd.Stdout = &out
	err := cmd.Run()
	return strings.TrimSpace(out.String()), err
}

// Revision returns the commit that is checked out, and whether the files of
// the desired state are as committed. Outside Git, revision is "".
func Revision(dir string) (revision string, clean bool) {
	revision, err := git(dir, "rev-parse", "--verify", "--quiet", "HEAD")
	if err != nil {
		return "", false
	}
	status, err := git(dir, append([]string{"status", "--porcelain", "--"}, paths...)...)
	return revision, err == nil && status == ""
}

// Changed lists the files of the desired state that differ from how they are in
// a commit, sorted; nil when Git does not know.
func Changed(dir, revision string) []string {
	if revision == "" {
		return nil
	}
	tracked, err := git(dir, append([]string{"diff", "--name-only", "-z", "--relative", revision, "--"}, paths...)...)
	if err != nil {
		return nil
	}
	others, err := git(dir, append([]string{"ls-files", "--others", "-z", "--exclude-standard", "--"}, paths...)...)
	if err != nil {
		return nil
	}
	out := strings.FieldsFunc(tracked+"\x00"+others, func(r rune) bool { return r == 0 })
	sort.Strings(out)
	return out
}

// ErrNoRevision says that there is no such revision, or no Git.
var ErrNoRevision = errors.New("there is no such revision")

// Commit finds the commit that a revision names: a branch, a tag, HEAD~2.
func Commit(dir, revision string) (string, error) {
	commit, err := git(dir, "rev-parse", "--verify", "--quiet", "--end-of-options", revision+"^{commit}")
	if err != nil || commit == "" {
		return "", fmt.Errorf("%w: %q; list them with: git log --oneline", ErrNoRevision, revision)
	}
	return commit, nil
}

// maxTree is how many bytes the files of a revision may have together.
const maxTree = 16 << 30

// An entry is a file of a commit.
type entry struct {
	mode, object, name string
}

// Files writes the files of the desired state as they are in a revision into a
// folder. They are read from Git's objects, so that nothing that a commit holds,
// attributes among it, can leave one out. Links and modules of other
// repositories are errors: what they lead to is not in the revision.
func Files(ctx context.Context, dir, revision, into string) error {
	commit, err := Commit(dir, revision)
	if err != nil {
		return err
	}
	list, err := git(dir, append([]string{"ls-tree", "-r", "-z", commit, "--"}, paths...)...)
	if err != nil {
		return fmt.Errorf("git ls-tree: %w", err)
	}
	var entries []entry
	for _, line := range strings.Split(list, "\x00") {
		head, name, ok := strings.Cut(line, "\t")
		f := strings.Fields(head)
		if !ok || len(f) != 3 {
			continue
		}
		if f[1] != "blob" || f[0] == "120000" {
			return fmt.Errorf("%s is a link in revision %s, and the file itself is expected there", name, revision)
		}
		entries = append(entries, entry{f[0], f[2], name})
	}
	if len(entries) == 0 {
		return fmt.Errorf("%w: %q holds no file of a desired state in this folder", ErrNoRevision, revision)
	}
	root, err := os.OpenRoot(into)
	if err != nil {
		return err
	}
	defer root.Close()
	return contents(ctx, dir, entries, root)
}

// contents writes the contents of entries below a folder.
func contents(ctx context.Context, dir string, entries []entry, root *os.Root) error {
	cmd := command(ctx, dir, "cat-file", "--batch")
	var ask strings.Builder
	for _, e := range entries {
		ask.WriteString(e.object + "\n")
	}
	cmd.Stdin = strings.NewReader(ask.String())
	out, err := cmd.StdoutPipe()
	if err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("git cat-file: %w", err)
	}
	err = unpack(bufio.NewReaderSize(out, 1<<16), entries, root)
	if err != nil {
		_ = cmd.Process.Kill() // it waits for a reader that is gone
	}
	return errors.Join(err, cmd.Wait())
}

// unpack reads what git cat-file --batch writes: of each object a line with its
// name, type and size in bytes, its content, and a line end.
func unpack(in *bufio.Reader, entries []entry, root *os.Root) error {
	left := int64(maxTree)
	for _, e := range entries {
		head, err := in.ReadString('\n')
		if err != nil {
			return fmt.Errorf("git cat-file: %s: %w", e.name, err)
		}
		var object, kind string
		var size int64
		if _, err := fmt.Sscanf(head, "%s %s %d", &object, &kind, &size); err != nil || object != e.object ||
			kind != "blob" {
			return fmt.Errorf("git cat-file: %s: %q", e.name, strings.TrimSpace(head))
		}
		if left -= size; left < 0 {
			return errors.New("the revision holds more than can be read")
		}
		if err := root.MkdirAll(path.Dir(e.name), 0o700); err != nil {
			return err
		}
		f, err := root.OpenFile(e.name, os.O_CREATE|os.O_WRONLY|os.O_EXCL, 0o600)
		if err != nil {
			return err
		}
		_, err = io.CopyN(f, in, size)
		if err := errors.Join(err, f.Close()); err != nil {
			return err
		}
		if _, err := in.Discard(1); err != nil {
			return err
		}
	}
	return nil
}

// User is the name and the address that Git would commit under, or "".
func User(dir string) string {
	name, err := git(dir, "config", "user.name")
	if err != nil || name == "" {
		return ""
	}
	if email, err := git(dir, "config", "user.email"); err == nil && email != "" {
		name += " <" + email + ">"
	}
	return name
}

// Revisions lists branches, tags and the last commits, each with a tab and what it is.
func Revisions(dir string) []string {
	refs, err := git(dir, "for-each-ref", "--format=%(refname:short)%09%(subject)", "refs/heads", "refs/tags")
	if err != nil {
		return nil
	}
	commits, err := git(dir, "log", "-20", "--format=%h%x09%ad %an: %s", "--date=short")
	if err != nil {
		return nil
	}
	return strings.FieldsFunc(refs+"\n"+commits, func(r rune) bool { return r == '\n' })
}
