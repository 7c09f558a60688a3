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
	"io/fs"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"sort"
	"strings"
	"sync"
	"time"
)

// paths are the parts of a desired-state repository that plans follow from.
var paths = []string{"pravet.yaml", "people", "apps", "kits", "paths", "lists", "standing.yaml"}

// Desired reports whether a file, by its name in the folder, is one that plans follow from.
func Desired(name string) bool {
	first, _, _ := strings.Cut(path.Clean(name), "/")
	return slices.Contains(paths, first)
}

// quiet are settings under which looking starts no program that a repository's own configuration names, writes nothing,
// and asks nobody on the network.
var quiet = []string{
	"--no-pager", "-c", "core.fsmonitor=false", "-c", "core.hooksPath=" + os.DevNull, "-c", "diff.external=",
	"-c", "submodule.recurse=false", "-c", "diff.ignoreSubmodules=all", "-c", "core.alternateRefsCommand=",
	"-c", "core.untrackedCache=false",
}

// named are programs that the configuration of a repository names for some files, by the folder: each is set to none.
var named sync.Map

// driven are keys of configuration under which a program stands.
var driven = regexp.MustCompile(`^(filter\..+)\.(clean|smudge|process|required)$|^(diff\..+)\.(command|textconv)$`)

// silenced are settings by which no driver of a folder's repository runs: filters, textconv, external differences.
func silenced(dir string) []string {
	if known, ok := named.Load(dir); ok {
		return known.([]string)
	}
	if namesNone(dir) {
		return nil
	}
	cmd := exec.Command(
		"git", append(append([]string{"-C", dir}, quiet...), "config", "--list", "--show-scope", "--name-only", "-z")...,
	)
	cmd.Env = environ()
	list, err := cmd.Output()
	out := []string{}
	if err == nil {
		fields := strings.Split(string(list), "\x00")
		for i := 0; i+1 < len(fields); i += 2 {
			name := fields[i+1]
			if fields[i] != "local" && fields[i] != "worktree" {
				continue // it is the user's own, or the system's
			}
			switch m := driven.FindStringSubmatch(name); {
			case m == nil:
			case m[2] == "required":
				out = append(out, "-c", name+"=false")
			default:
				out = append(out, "-c", name+"=")
			}
		}
	}
	named.Store(dir, out)
	return out
}

// namesNone reports whether the configuration of a folder's repository is one file that cannot name a driver, so that
// git need not be asked.
func namesNone(dir string) bool {
	at, _ := kept(dir)
	if info, err := os.Lstat(at); err != nil || !info.IsDir() {
		return false
	}
	if _, err := os.Lstat(filepath.Join(at, "config.worktree")); err == nil {
		return false
	}
	data, err := os.ReadFile(filepath.Join(at, "config"))
	text := bytes.ToLower(data)
	return err == nil && !bytes.Contains(text, []byte("filter")) && !bytes.Contains(text, []byte("diff")) &&
		!bytes.Contains(text, []byte("include"))
}

// inside is a file of Git's own folder; "" where that cannot be told.
func inside(dir, name string) string {
	at, _ := kept(dir)
	if info, err := os.Lstat(at); err == nil && info.IsDir() {
		return filepath.Join(at, name)
	}
	file, err := git(dir, "rev-parse", "--path-format=absolute", "--git-path", name)
	if err != nil {
		return ""
	}
	return file
}

// environ is the environment of git when it looks: objects are what they are, nothing is locked or fetched.
func environ() []string {
	return append(os.Environ(), "GIT_NO_REPLACE_OBJECTS=1", "GIT_OPTIONAL_LOCKS=0", "GIT_LITERAL_PATHSPECS=1",
		"GIT_NO_LAZY_FETCH=1", "GIT_EXTERNAL_DIFF=", "GIT_TERMINAL_PROMPT=0")
}

// command is a call of git that looks at something.
func command(ctx context.Context, dir string, args ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, "git", slices.Concat([]string{"-C", dir}, quiet, silenced(dir), args)...)
	cmd.Env = environ()
	return cmd
}

func git(dir string, args ...string) (string, error) {
	cmd := command(context.Background(), dir, args...)
	var out bytes.Buffer
	cmd.Stdout = &out
	err := cmd.Run()
	return strings.TrimSpace(out.String()), err
}

// kept finds the .git of the repository that a folder is in, and what the folder is called below that, with a slash at
// the end; both are "" where it is in none. Links are followed, as git does.
func kept(dir string) (at, prefix string) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return "", ""
	}
	if real, err := filepath.EvalSymlinks(dir); err == nil {
		dir = real
	}
	for top := dir; ; top = filepath.Dir(top) {
		if _, err := os.Lstat(filepath.Join(top, ".git")); err == nil {
			if rel, err := filepath.Rel(top, dir); err == nil && rel != "." {
				prefix = filepath.ToSlash(rel) + "/"
			}
			return filepath.Join(top, ".git"), prefix
		}
		if top == filepath.Dir(top) {
			return "", ""
		}
	}
}

// Unreadable says that a folder is in a Git repository, and why Git tells nothing of it; nil where it does, and where
// there is none.
func Unreadable(dir string) error {
	at, _ := kept(dir)
	if at == "" {
		return nil
	}
	if _, err := exec.LookPath("git"); err != nil {
		return fmt.Errorf("these files are kept in Git (%s), and there is no program git in PATH to tell their revision; "+
			"install it, or correct PATH", at)
	}
	cmd := command(context.Background(), dir, "rev-parse", "--git-dir")
	var said bytes.Buffer
	cmd.Stderr = &said
	if err := cmd.Run(); err != nil {
		first, _, _ := strings.Cut(strings.TrimPrefix(strings.TrimSpace(said.String()), "fatal: "), "\n")
		if strings.HasPrefix(first, "not a git repository") {
			return nil
		}
		return fmt.Errorf("these files are kept in Git (%s), and git does not tell their revision: %s", at, first)
	}
	return nil
}

// locked is how long Git may be at work on what is checked out, before it is looked at all the same.
const locked = 2 * time.Second

// Revision returns the commit that is checked out, and whether the files of the desired state are as committed. Outside
// Git, revision is "". While Git checks out something else, it waits.
func Revision(dir string) (revision string, clean bool, err error) {
	if at, _ := kept(dir); at == "" {
		return "", false, nil
	}
	lock := inside(dir, "index.lock")
	for until := time.Now().Add(locked); ; time.Sleep(20 * time.Millisecond) {
		head, changed, err := state(dir, paths...)
		if err != nil {
			return "", false, Unreadable(dir)
		}
		if _, none := os.Lstat(lock); none != nil || time.Now().After(until) {
			return head, head != "" && len(changed) == 0 && len(overlooked(dir)) == 0, nil
		}
	}
}

// overlooked are files of the desired state of which Git was told not to look whether they are as committed, each with
// the sign that git ls-files -v gives it.
func overlooked(dir string) map[string]byte {
	list, err := git(dir, append([]string{"ls-files", "-v", "-z", "--"}, paths...)...)
	if err != nil {
		return nil
	}
	out := map[string]byte{}
	for entry := range strings.SplitSeq(list, "\x00") {
		if sign, name, ok := strings.Cut(entry, " "); ok && sign != "H" && len(sign) == 1 {
			out[name] = sign[0]
		}
	}
	return out
}

// Missing lists files of the desired state that a commit has and that are not here, as only a part of the repository is
// checked out; sorted.
func Missing(dir string) (out []string) {
	if at, _ := kept(dir); at == "" {
		return nil
	}
	for name, sign := range overlooked(dir) {
		if sign != 'S' && sign != 's' {
			continue
		}
		if _, err := os.Lstat(filepath.Join(dir, filepath.FromSlash(name))); errors.Is(err, fs.ErrNotExist) {
			out = append(out, name)
		}
	}
	sort.Strings(out)
	return out
}

// Changed lists the files of the desired state that differ from how they are in a commit, sorted; nil when Git does not
// know. Git's own index stays as it is.
func Changed(dir, revision string) []string {
	if revision == "" {
		return nil
	}
	since, err := git(dir, append([]string{
		"diff-tree", "-r", "--no-renames", "--name-only", "-z", "--relative", revision, "HEAD", "--",
	}, paths...)...)
	if err != nil {
		return nil
	}
	_, now, err := state(dir, paths...)
	if err != nil {
		return nil
	}
	var out []string
	for name := range strings.SplitSeq(since, "\x00") {
		if name != "" && !slices.Contains(now, name) {
			out = append(out, name)
		}
	}
	for _, name := range now {
		was, err := git(dir, "rev-parse", "--verify", "--quiet", "--end-of-options", revision+":./"+name)
		if err != nil {
			was = ""
		}
		if is, err := git(dir, "hash-object", "--no-filters", "--", name); err != nil || is != was {
			out = append(out, name)
		}
	}
	sort.Strings(out)
	return out
}

// state is the commit that is checked out, "" before the first, and those of some files that are not as it has them,
// by their names in the folder. Both are of one moment.
func state(dir string, files ...string) (head string, changed []string, err error) {
	cmd := command(context.Background(), dir, append([]string{
		"status", "--porcelain=v2", "--branch", "--no-renames", "--untracked-files=all", "-z", "--",
	}, files...)...)
	list, err := cmd.Output()
	if err != nil {
		return "", nil, err
	}
	_, prefix := kept(dir)
	// What stands before the name of a file, by the first sign of its line (git-status(1), Porcelain Format Version 2).
	before := map[string]int{"1": 8, "u": 10, "?": 1, "!": 1}
	for line := range strings.SplitSeq(string(list), "\x00") {
		if oid, ok := strings.CutPrefix(line, "# branch.oid "); ok && oid != "(initial)" {
			head = oid
		}
		sign, _, _ := strings.Cut(line, " ")
		if n := before[sign]; n > 0 {
			if fields := strings.SplitN(line, " ", n+1); len(fields) == n+1 {
				changed = append(changed, strings.TrimPrefix(fields[n], prefix))
			}
		}
	}
	return head, changed, nil
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

// File is a file as it was in a revision.
func File(dir, revision, name string) ([]byte, error) {
	if revision == "" || name == "" {
		return nil, errors.New("no revision, or no file, is named")
	}
	out, err := git(dir, "cat-file", "blob", revision+":./"+name)
	return []byte(out), err
}
