package pravet_test

import (
	"bytes"
	"context"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"pravet/examples/marrowick"
	"pravet/internal/cli"
	"pravet/internal/export"
	"pravet/internal/prepare"
	"pravet/internal/prepared"
	"pravet/internal/source"
	"pravet/internal/standin"
)

func TestMain(m *testing.M) {
	code := m.Run()
	if err := prepared.Remove(); err != nil {
		panic(err)
	}
	os.Exit(code)
}

// TestTheDocsAreTrue runs every command of the console blocks in README.md and
// docs/, page by page, on a fresh repository of the example and its clock, and
// compares what it prints. Blocks headed "yaml FILE" are put into a copy of the
// repository as that file, and must pass check; with "yaml +FILE" the page goes on with it.
//
// UPDATE=1 go test . writes what the commands print into the pages; read them.
func TestTheDocsAreTrue(t *testing.T) {
	pages, err := filepath.Glob("docs/*.md")
	require.NoError(t, err)
	for _, page := range append(pages, "README.md") {
		t.Run(filepath.Base(page), func(t *testing.T) {
			data, err := os.ReadFile(page)
			require.NoError(t, err)
			r := newReader(t)
			if strings.Contains(string(data), played) {
				r.play(t)
			}
			got := fences.ReplaceAllStringFunc(string(data), func(block string) string {
				m := fences.FindStringSubmatch(block)
				switch head := m[1]; {
				case head == "console":
					return "```console\n" + r.console(t, m[2]) + "```"
				case strings.HasPrefix(head, "yaml +"):
					name := strings.TrimPrefix(head, "yaml +")
					r.yaml(t, name, m[2])
					r.write(t, name, m[2])
				case strings.HasPrefix(head, "yaml "):
					r.yaml(t, strings.TrimPrefix(head, "yaml "), m[2])
				}
				return block
			})
			if os.Getenv("UPDATE") != "" {
				require.NoError(t, os.WriteFile(page, []byte(got), 0o644))
				return
			}
			require.Equal(t, string(data), got)
		})
	}
}

var fences = regexp.MustCompile("(?s)```([^\n]*)\n(.*?)```")

// A reader follows a page as its reader would.
type reader struct {
	dir string
	now time.Time
}

func newReader(t *testing.T) *reader {
	r := &reader{dir: filepath.Join(t.TempDir(), "marrowick"), now: marrowick.Today}
	require.NoError(t, prepared.Marrowick.Copy(r.dir))
	return r
}

// played is where pages find berth planning, played by a stand-in.
const played = "127.0.0.1:8441"

// play plays berth planning, with the accounts of its export.
func (r *reader) play(t *testing.T) {
	tree, err := source.OpenTree(r.dir, nil)
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, tree.Close()) })
	s := prepare.Rules(context.Background(), tree)
	require.NoError(t, s.Read(context.Background(), []string{"berths"}))
	a := s.Repo.App("berths")
	play, err := standin.New(standin.Options{Token: "made-up"})
	require.NoError(t, err)
	play.Fill(s.Repo.Apps[a], s.Exports[a].Accounts, func(attr string) []string {
		return export.SCIMPath(s.Repo.Exports[a], attr)
	})
	listener, err := net.Listen("tcp", played)
	require.NoError(t, err)
	web := &httptest.Server{Listener: listener, Config: &http.Server{Handler: http.StripPrefix("/berths", play)}}
	web.Start()
	t.Cleanup(web.Close)
}

// console runs the commands of a block and returns it with what they print.
func (r *reader) console(t *testing.T, block string) string {
	var out strings.Builder
	for _, line := range strings.Split(block, "\n") {
		command, ok := strings.CutPrefix(line, "$ ")
		if !ok {
			continue
		}
		fmt.Fprintln(&out, line)
		args := words(t, command)
		require.Equal(t, "pravet", args[0], command)
		out.WriteString(r.run(args[1:]))
	}
	return out.String()
}

func (r *reader) run(args []string) string {
	var out bytes.Buffer
	start := r.now
	r.now = r.now.Add(time.Minute)
	env := cli.Env{
		Version: "v0",
		Stdin:   strings.NewReader(""),
		Stdout:  &out,
		Stderr:  &out,
		Environ: []string{"NO_COLOR=1", "BERTHS_TOKEN=made-up"},
		Now:     func() time.Time { return start },
		Dir:     r.dir,
	}
	status := cli.Run(context.Background(), args, env)
	if status != 0 {
		fmt.Fprintf(&out, "(status %d)\n", status)
	}
	exports, _ := filepath.Glob(filepath.Join(r.dir, "exports", "*")) // the pattern is well-formed
	for _, e := range exports {
		if info, err := os.Stat(e); err == nil && !info.ModTime().Equal(marrowick.Exported) {
			_ = os.Chtimes(e, start, start) // the page's clock; a failure shows in the output
		}
	}
	// When a file was written is on record, so the head is another one each time.
	text := head.ReplaceAllString(out.String(), "The ledger ends with entry $1, 9f2c…")
	return strings.ReplaceAll(text, "\r\n", "\n")
}

var head = regexp.MustCompile(`The ledger ends with entry (\d+), [0-9a-f]{64}`)

// words splits a command as a shell does, with single quotes.
func words(t *testing.T, command string) []string {
	var out []string
	for i, part := range strings.Split(command, "'") {
		if i%2 == 1 {
			out[len(out)-1] += part
			continue
		}
		fields := strings.Fields(part)
		if i > 0 && part != "" && part[0] != ' ' && len(fields) > 0 {
			out[len(out)-1] += fields[0]
			fields = fields[1:]
		}
		out = append(out, fields...)
		if strings.HasSuffix(part, " ") {
			out = append(out, "")
		}
	}
	if out[len(out)-1] == "" {
		out = out[:len(out)-1]
	}
	require.NotEmpty(t, out)
	return out
}

// write puts a file into the repository of a page.
func (r *reader) write(t *testing.T, name, text string) {
	to := filepath.Join(r.dir, filepath.FromSlash(name))
	require.NoError(t, os.MkdirAll(filepath.Dir(to), 0o755))
	require.NoError(t, os.WriteFile(to, []byte(text), 0o644))
}

// yaml checks a file that a page shows.
func (r *reader) yaml(t *testing.T, name, text string) {
	other := newReader(t)
	other.write(t, name, text)
	out := other.run([]string{"check"})
	require.Contains(t, out, "0 errors", "%s:\n%s", name, out)
}

// TestEveryLinkLeadsSomewhere: pages and pictures that the pages name are there.
func TestEveryLinkLeadsSomewhere(t *testing.T) {
	pages, err := filepath.Glob("docs/*.md")
	require.NoError(t, err)
	for _, page := range append(pages, "README.md", "ARCHITECTURE.md", "CONTRIBUTING.md", "CHANGELOG.md") {
		data, err := os.ReadFile(page)
		require.NoError(t, err)
		for _, m := range regexp.MustCompile(`\]\(([^)#]+)[^)]*\)`).FindAllStringSubmatch(string(data), -1) {
			if strings.Contains(m[1], "://") {
				continue
			}
			_, err := os.Stat(filepath.Join(filepath.Dir(page), m[1]))
			require.NoError(t, err, "%s links to %s", page, m[1])
		}
	}
}
