package gitrepo

import (
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"
)

// A Change is who changed a line last, and in which commit. By is "" for a line that is not committed yet, and for one
// that was last changed Beyond what this clone has.
type Change struct {
	By      string
	On      time.Time
	Commit  string
	Subject string // of the commit: the first line of its message
	Beyond  bool
}

// maxBlamed is how large a file may be of which one line is asked for, in bytes, and
// maxWhole one of which all are: Git reads every version of it.
const (
	maxBlamed = 8 << 20
	maxWhole  = 256 << 10
)

// Lines tells who changed lines of a file last, by their numbers, as it is now or in a
// revision; all lines where none is named. A line that Git knows nothing about is not
// among them, and neither is any of a large file.
func Lines(dir, revision, file string, lines ...int) map[int]Change {
	limit := int64(maxBlamed)
	if len(lines) == 0 {
		limit = maxWhole
	}
	if revision == "" {
		// Git looks at a file of the working tree much longer than at one that is committed.
		if _, changed, err := state(dir, file); err == nil && len(changed) == 0 {
			revision = "HEAD"
		}
	}
	var args []string
	for _, line := range lines {
		args = append(args, "-L", fmt.Sprintf("%d,%d", line, line))
	}
	if revision != "" {
		args = append(args, revision)
	}
	out := blame(dir, file, limit, args...)
	if len(out) == 0 && len(lines) > 1 { // one that is not there is the end of all
		for _, line := range lines {
			maps.Copy(out, Lines(dir, revision, file, line))
		}
	}
	return out
}

// blame asks Git who changed the lines of a file last, by their numbers.
func blame(dir, file string, limit int64, args ...string) map[int]Change {
	out := map[int]Change{}
	info, err := os.Stat(filepath.Join(dir, filepath.FromSlash(file)))
	if err == nil && info.Size() > limit {
		return out
	}
	text, err := git(dir, append(append([]string{"blame", "--porcelain", "--no-textconv"}, args...), "--", file)...)
	if err != nil {
		return out
	}
	commits := map[string]*Change{}
	lines := map[int]string{}
	var at *Change
	for _, l := range strings.Split(text, "\n") {
		if strings.HasPrefix(l, "\t") {
			at = nil // the line itself; the next one is a commit's
			continue
		}
		key, value, _ := strings.Cut(l, " ")
		switch {
		case at == nil: // COMMIT LINE-THERE LINE-HERE
			f := strings.Fields(value)
			if len(f) < 2 {
				return map[int]Change{}
			}
			n, err := strconv.Atoi(f[1])
			if err != nil {
				return map[int]Change{}
			}
			lines[n] = key
			if at = commits[key]; at == nil {
				at = &Change{Commit: key}
				commits[key] = at
			}
		case key == "author":
			at.By = value
		case key == "summary":
			at.Subject = value
		case key == "author-time":
			seconds, err := strconv.ParseInt(value, 10, 64)
			if err != nil {
				return map[int]Change{}
			}
			at.On = time.Unix(seconds, 0).UTC()
		}
	}
	ends := boundary(dir)
	for n, commit := range lines {
		c := *commits[commit]
		if ends[commit] {
			c = Change{Beyond: true}
		}
		if strings.Trim(commit, "0") == "" {
			c = Change{Commit: commit}
		}
		out[n] = c
	}
	return out
}

// boundary are the commits at which a shallow clone ends: what is in them may be of any that came before.
func boundary(dir string) map[string]bool {
	data, err := os.ReadFile(inside(dir, "shallow"))
	if err != nil {
		return nil // it is whole
	}
	out := map[string]bool{}
	for _, commit := range strings.Fields(string(data)) {
		out[commit] = true
	}
	return out
}

// Since lists the commits that have come since another; ok is false where Git does
// not know that one any more.
func Since(dir, base string) (commits map[string]bool, ok bool) {
	list, err := git(dir, "rev-list", base+"..HEAD")
	if err != nil {
		return nil, false
	}
	commits = map[string]bool{}
	for _, c := range strings.Fields(list) {
		commits[c] = true
	}
	return commits, true
}

// Difference is what a commit has changed in a file, as a unified difference without context; "" where that cannot be told.
func Difference(dir, commit, file string) string {
	text, err := git(dir, "show", "--format=", "--unified=0", "--no-color", "--no-ext-diff", "--no-textconv", commit, "--", file)
	if err != nil {
		return ""
	}
	return text
}

// Before is the last commit that was made before a moment; "" where there is none.
func Before(dir string, end time.Time) string {
	commit, err := git(dir, "rev-list", "-1", fmt.Sprintf("--before=%d", end.Unix()-1), "HEAD")
	if err != nil {
		return ""
	}
	return commit
}
