package prepare_test

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/tools/txtar"

	"pravet/internal/core/day"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/core/words"
	"pravet/internal/ledger"
	"pravet/internal/prepare"
	"pravet/internal/source"
)

// TestWorlds drafts the plan of each small world in testdata/worlds and
// compares it with the plan written there. A world is a text file: what must
// hold, the files of a repository, and under "plan" what is expected. The day
// is 2026-11-24 and exports are of the day before, unless a line "day D" or
// "exported D" of the file "world" says otherwise; "before APP N" and "people
// before N" tell how many there were. A pravet.yaml and people that nobody
// needs are added.
//
// UPDATE=1 go test ./internal/prepare writes the expected plans anew; read them.
func TestWorlds(t *testing.T) {
	eachWorld(t, "worlds", "plan", func(t *testing.T, w *smallWorld, _ string) string { return render(w.draft(t)) })
}

// eachWorld reads the small worlds of a folder, and compares what answer makes
// of each with what the world's file of a name says, or writes that anew.
func eachWorld(t *testing.T, folder, name string, answer func(t *testing.T, w *smallWorld, want string) string) {
	files, err := filepath.Glob(filepath.Join("testdata", folder, "*.txt"))
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, file := range files {
		t.Run(strings.TrimSuffix(filepath.Base(file), ".txt"), func(t *testing.T) {
			ar, err := txtar.ParseFile(file)
			require.NoError(t, err)
			at := slices.IndexFunc(ar.Files, func(f txtar.File) bool { return f.Name == name })
			require.GreaterOrEqual(t, at, 0, "the world says nothing under %q", name)
			want := string(ar.Files[at].Data)
			got := answer(t, readWorld(t, ar), want)
			if os.Getenv("UPDATE") != "" {
				ar.Files[at].Data = []byte(got)
				require.NoError(t, os.WriteFile(file, txtar.Format(ar), 0o644))
				return
			}
			require.Equal(t, want, got)
		})
	}
}

// A smallWorld is a world that was written to a folder.
type smallWorld struct {
	dir    string
	today  day.Day
	before []ledger.Record
}

func readWorld(t *testing.T, ar *txtar.Archive) *smallWorld {
	w := &smallWorld{dir: t.TempDir()}
	var err error
	w.today, err = day.Parse("2026-11-24")
	require.NoError(t, err)
	exported := "2026-11-23"
	files := map[string]string{"pravet.yaml": "organization: A small world\n"}
	for _, f := range ar.Files {
		files[f.Name] = string(f.Data)
	}
	for _, line := range strings.Split(strings.TrimSpace(files["world"]), "\n") {
		var app, d string
		var n int
		switch {
		case line == "":
		case scan(line, "day %s", &d):
			w.today, err = day.Parse(d)
			require.NoError(t, err)
		case scan(line, "exported %s", &exported):
		case scan(line, "people before %d", &n):
			w.before = append(
				w.before,
				ledger.Record{Kind: ledger.PlanDrafted, Subject: "before", Body: ledger.Plan{People: n}},
			)
		case scan(line, "before %s %d", &app, &n):
			w.before = append(
				w.before,
				ledger.Record{Kind: ledger.ExportSeen, Subject: app, Body: ledger.Export{App: app, Accounts: n}},
			)
		default:
			t.Fatalf("the world says %q", line)
		}
	}
	for _, ours := range []string{"plan", "answers", "world"} {
		delete(files, ours)
	}
	taken, err := time.Parse(time.DateOnly, exported)
	require.NoError(t, err)
	for name, text := range files {
		to := filepath.Join(w.dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(to), 0o755))
		require.NoError(t, os.WriteFile(to, []byte(text), 0o644))
		require.NoError(t, os.Chtimes(to, taken, taken))
	}
	return w
}

// tree is the folder of the world, or one below it.
func (w *smallWorld) tree(t *testing.T, below string) *source.Tree {
	tree, err := source.OpenTree(filepath.Join(w.dir, below), nil)
	require.NoError(t, err)
	t.Cleanup(func() { tree.Close() })
	return tree
}

func scan(line, format string, into ...any) bool {
	n, err := fmt.Sscanf(line, format, into...)
	return err == nil && n == len(into)
}

func (w *smallWorld) draft(t *testing.T) *plan.Plan {
	l, err := ledger.Open(t.TempDir(), ledger.Options{By: "nobody", Now: time.Now})
	require.NoError(t, err)
	defer l.Close()
	require.NoError(t, l.Append(w.before...))
	s, err := prepare.Read(context.Background(), w.tree(t, ""), nil)
	if err != nil {
		for _, p := range s.Problems() {
			t.Log(p)
		}
	}
	require.NoError(t, err)
	p, err := prepare.Draft(s, l, w.today, w.today, nil)
	require.NoError(t, err)
	return p
}

// render writes a plan as the worlds have it.
func render(p *plan.Plan) string {
	var b strings.Builder
	byID := map[string]*plan.Change{}
	for i := range p.Changes {
		byID[p.Changes[i].ID] = &p.Changes[i]
	}
	for i := range p.Changes {
		c := &p.Changes[i]
		fmt.Fprintf(&b, "%s %s: %s (%s)\n", c.App, c.Account, words.What(c), c.Effect)
		if after := c.After.Fields(); after != nil {
			fmt.Fprintf(&b, "  with %v\n", after)
		}
		if means := words.Means(c); means != "" {
			fmt.Fprintf(&b, "  in the end: %s\n", means)
		}
		for _, r := range p.Because(c) {
			fmt.Fprintf(&b, "  because %s:%d %s\n", r.File, r.Line, r.Says)
		}
		for _, id := range c.Needs {
			n := byID[id]
			if n.Verb != model.Create && n.Verb != model.Restore { // an account comes before what is in it
				fmt.Fprintf(&b, "  after %s: %s\n", cmp.Or(n.Account, n.App), words.What(n))
			}
		}
		for _, h := range c.Holds {
			fmt.Fprintf(&b, "  held by %s: %s\n", h.Guard, h.Says)
		}
	}
	for _, s := range p.SetAside {
		fmt.Fprintf(&b, "aside: %s %s: %s: %s\n", s.Change.App, s.Change.Account, words.What(&s.Change), s.Because)
	}
	for _, c := range p.Costs {
		fmt.Fprintf(&b, "cost: %s before, %s after, %s a month\n", c.Before, c.After, c.Currency)
	}
	for _, n := range p.Notices {
		fmt.Fprintf(&b, "notice: %s: %s\n", n.App, n.Says)
	}
	return b.String()
}
