// Package gitrepo asks the git program about the repository that the files
// are kept in. Everything works without Git too; then there is no revision.
package gitrepo

import (
	"archive/tar"
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"time"
)

// paths are the parts of a desired-state repository that plans follow from.
var paths = []string{"pravet.yaml", "people", "apps", "kits", "standing.yaml"}

func git(dir string, args ...string) (string, error) {
	cmd := exec.Command("git", append([]string{"-C", dir}, args...)...)
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
	tracked, err := git(dir, append([]string{"diff", "--name-only", "--relative", revision, "--"}, paths...)...)
	if err != nil {
		return nil
	}
	others, err := git(dir, append([]string{"ls-files", "--others", "--exclude-standard", "--"}, paths...)...)
	if err != nil {
		return nil
	}
	out := strings.FieldsFunc(tracked+"\n"+others, func(r rune) bool { return r == '\n' })
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

// Files writes the files of the desired state as they are in a revision into a
// folder.
func Files(dir, revision, into string) error {
	commit, err := Commit(dir, revision)
	if err != nil {
		return err
	}
	there, err := git(dir, append([]string{"ls-tree", "--name-only", commit, "--"}, paths...)...)
	if err != nil {
		return fmt.Errorf("git ls-tree: %w", err)
	}
	if there == "" {
		return fmt.Errorf("%w: %q holds no file of a desired state in this folder", ErrNoRevision, revision)
	}
	cmd := exec.Command("git", append([]string{"-C", dir, "archive", "--format=tar", commit, "--"}, strings.Split(there, "\n")...)...)
	out, err := cmd.StdoutPipe()
	if err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("git archive: %w", err)
	}
	err = unpack(out, into)
	if err != nil {
		_ = cmd.Process.Kill() // it waits for a reader that is gone
	}
	return errors.Join(err, cmd.Wait())
}

// unpack writes the plain files of an archive below a folder, and nothing
// elsewhere: what leads out of it, and links, are passed over.
func unpack(archive io.Reader, into string) error {
	root, err := os.OpenRoot(into)
	if err != nil {
		return err
	}
	defer root.Close()
	left := int64(maxTree)
	for t := tar.NewReader(archive); ; {
		h, err := t.Next()
		if err == io.EOF {
			_, err := io.Copy(io.Discard, archive)
			return err
		}
		if err != nil {
			return err
		}
		name := path.Clean(h.Name)
		if h.Typeflag != tar.TypeReg {
			continue
		}
		if left -= h.Size; left < 0 {
			return errors.New("the revision holds more than can be read")
		}
		if err := root.MkdirAll(path.Dir(name), 0o700); err != nil {
			return err
		}
		f, err := root.OpenFile(name, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
		if err != nil {
			return err
		}
		_, err = io.Copy(f, t)
		if err := errors.Join(err, f.Close()); err != nil {
			return err
		}
	}
}

// A Change is who changed a line last, and in which commit. By is "" for a line
// that is not committed yet.
type Change struct {
	By     string
	On     time.Time
	Commit string
}

// maxBlamed is how large a file may be whose lines are asked for, in bytes: Git
// reads every version of it.
const maxBlamed = 8 << 20

// Line tells who changed a line of a file last; ok is false where Git does not
// know.
func Line(dir, file string, line int) (c Change, ok bool) {
	if info, err := os.Stat(filepath.Join(dir, filepath.FromSlash(file))); err != nil || info.Size() > maxBlamed {
		return Change{}, false
	}
	out, err := git(dir, "blame", "--porcelain", "-L", fmt.Sprintf("%d,%d", line, line), "--", file)
	if err != nil {
		return Change{}, false
	}
	head, rest, _ := strings.Cut(out, "\n")
	c.Commit, _, _ = strings.Cut(head, " ")
	for _, l := range strings.Split(rest, "\n") {
		key, value, _ := strings.Cut(l, " ")
		switch key {
		case "author":
			c.By = value
		case "author-time":
			seconds, err := strconv.ParseInt(value, 10, 64)
			if err != nil {
				return Change{}, false
			}
			c.On = time.Unix(seconds, 0).UTC()
		}
	}
	if strings.Trim(c.Commit, "0") == "" {
		return Change{}, true
	}
	return c, true
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
