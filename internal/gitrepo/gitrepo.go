// Package gitrepo asks the git program about the repository that the files
// are kept in. Everything works without Git too; then there is no revision.
package gitrepo

import (
	"bytes"
	"os/exec"
	"sort"
	"strings"
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
