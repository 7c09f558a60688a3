package gitrepo

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"pravet/internal/core/day"
)

// A Change is who changed a line last, and in which commit. By is "" for a line
// that is not committed yet.
type Change struct {
	By     string
	On     time.Time
	Commit string
}

// maxBlamed is how large a file may be of which one line is asked for, in bytes, and
// maxWhole one of which all are: Git reads every version of it.
const (
	maxBlamed = 8 << 20
	maxWhole  = 256 << 10
)

// Line tells who changed a line of a file last, as it is now or in a revision; ok is
// false where Git does not know.
func Line(dir, revision, file string, line int) (c Change, ok bool) {
	args := []string{"-L", fmt.Sprintf("%d,%d", line, line)}
	if revision != "" {
		args = append(args, revision)
	}
	c, ok = blame(dir, file, maxBlamed, args...)[line]
	return c, ok
}

// Lines tells who changed each line of a file last; it is empty for a large file,
// and where Git does not know.
func Lines(dir, file string) map[int]Change { return blame(dir, file, maxWhole) }

// blame asks Git who changed the lines of a file last, by their numbers.
func blame(dir, file string, limit int64, args ...string) map[int]Change {
	out := map[int]Change{}
	info, err := os.Stat(filepath.Join(dir, filepath.FromSlash(file)))
	if err == nil && info.Size() > limit {
		return out
	}
	text, err := git(dir, append(append([]string{"blame", "--porcelain"}, args...), "--", file)...)
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
		case key == "author-time":
			seconds, err := strconv.ParseInt(value, 10, 64)
			if err != nil {
				return map[int]Change{}
			}
			at.On = time.Unix(seconds, 0).UTC()
		}
	}
	for n, commit := range lines {
		c := *commits[commit]
		if strings.Trim(commit, "0") == "" {
			c = Change{Commit: commit}
		}
		out[n] = c
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

// Before is the last commit that was made by the end of a day, in UTC; "" where there
// is none.
func Before(dir string, on day.Day) string {
	commit, err := git(dir, "rev-list", "-1", "--before="+on.String()+"T23:59:59Z", "HEAD")
	if err != nil {
		return ""
	}
	return commit
}
