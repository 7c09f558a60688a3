//go:build unix

package main_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/require"
)

// garden is a botanical garden of 130 people with three applications, made up.
type garden struct {
	dir    string
	people [][]string // id, userName, displayName, email, department, title, ends
	kits   string
}

const gardenKits = `kits:
  staff: {everyone: true, gives: {beds: {}, shop: {}}}
  beds: {for: department eq "Glasshouses" or department eq "Borders", gives: {beds: {groups: [growers], roles: [reader]}}}
  visitors: {for: department eq "Visitor services", gives: {shop: {groups: [desk], roles: [seller], licenses: [till]}}}
  trees: {for: department eq "Arboretum", gives: {beds: {groups: [climbers], roles: [reader]}}}
  leads: {for: title eq "Head gardener", gives: {beds: {roles: [planner]}}}
`

func newGarden(t *testing.T) *garden {
	g := &garden{dir: filepath.Join(t.TempDir(), "garden"), kits: gardenKits}
	departments := []string{"Glasshouses", "Borders", "Visitor services", "Arboretum", "Office"}
	for i := range 130 {
		title := "Gardener"
		if i%13 == 0 {
			title = "Head gardener"
		}
		user := fmt.Sprintf("gardener.%03d", i)
		g.people = append(g.people, []string{
			fmt.Sprintf("G%03d", i), user, fmt.Sprintf("Gardener %03d", i), user + "@thistle.example",
			departments[i%5], title, "",
		})
	}
	apps := map[string]string{
		"apps/beds.yaml": `app: beds
title: Beds and borders
export: {format: csv, path: exports/beds.csv, columns: {userName: login, displayName: name, email: mail, active: active, groups: {column: groups, split: ;}, roles: {column: roles, split: ;}}}
connect: {by: files}
match: userName
account: {userName: userName, displayName: displayName, email: email}
groups: {growers: , climbers: }
roles: {reader: , planner: {sensitive: true}, auditor: }
`,
		"apps/shop.yaml": `app: shop
title: Shop and tickets
export: {format: csv, path: exports/shop.csv, columns: {userName: login, department: dept, active: active, groups: {column: groups, split: ;}, roles: {column: roles, split: ;}, licenses: {column: seats, split: ;}}}
connect: {by: files}
match: userName
account: {userName: userName, department: department}
groups: {desk: , guides: }
roles: {seller: , refunds: }
licenses: {till: }
`,
		"exports/beds.csv": "login,name,mail,active,groups,roles\n",
		"exports/shop.csv": "login,dept,active,groups,roles,seats\n",
		"pravet.yaml": `organization: Thistle Garden
guards: {removals: 100%, suspensions: 100%, narrowing: 100%, exportShrink: 100%, rosterShrink: 100%, exportAge: P10Y}
`,
	}
	for _, p := range g.people {
		apps["exports/beds.csv"] += strings.Join([]string{p[1], p[2], p[3], "true", "", ""}, ",") + "\n"
		apps["exports/shop.csv"] += strings.Join([]string{p[1], p[4], "true", "", "", ""}, ",") + "\n"
	}
	write(t, g.dir, apps)
	g.git(t, "init", "-q", "-b", "main")
	return g
}

// save writes the people and the kits, and commits them as someone on a day.
func (g *garden) save(t *testing.T, who, on, message string) {
	var rows strings.Builder
	rows.WriteString("id,userName,displayName,email,department,title,ends\n")
	for _, p := range g.people {
		rows.WriteString(strings.Join(p, ",") + "\n")
	}
	write(
		t,
		g.dir,
		map[string]string{
			"people/all.csv": rows.String(),
			"kits/all.yaml":  g.kits,
			".gitignore":     "exports\nplans\n.pravet\n",
		},
	)
	g.git(t, "add", "-A")
	email := strings.ToLower(strings.ReplaceAll(who, " ", ".")) + "@thistle.example"
	cmd := exec.Command("git", "-C", g.dir, "commit", "-q", "-m", message)
	cmd.Env = append(
		os.Environ(),
		"GIT_AUTHOR_NAME="+who,
		"GIT_AUTHOR_EMAIL="+email,
		"GIT_AUTHOR_DATE="+on+"T10:00:00Z",
		"GIT_COMMITTER_NAME="+who,
		"GIT_COMMITTER_EMAIL="+email,
		"GIT_COMMITTER_DATE="+on+"T10:00:00Z",
	)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
}

func (g *garden) git(t *testing.T, args ...string) {
	out, err := exec.Command("git", append([]string{"-C", g.dir}, args...)...).CombinedOutput()
	require.NoError(t, err, string(out))
}

// lines runs the program in a terminal of some columns and 24 lines.
func (g *garden) lines(t *testing.T, columns int, args ...string) []string {
	cmd := command(g.dir, args...)
	cmd.Env = append(os.Environ(), fmt.Sprint("COLUMNS=", columns), "LINES=24")
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	return strings.Split(strings.TrimSuffix(string(out), "\n"), "\n")
}

// month makes the edits of a month after everything was carried out once: some 200
// changes by ten causes.
func (g *garden) month(t *testing.T) {
	g.save(t, "Wren Alder", "2026-10-01", "Keep people and their access in files")
	drafted(t, g.dir)
	out, status := run(t, g.dir, "apply", g.newest(t), "--yes")
	require.Zero(t, status, out)

	set := func(column int, value string, which func(i int, p []string) bool) {
		for i, p := range g.people {
			if which(i, p) {
				p[column] = value
			}
		}
	}
	is := func(department string) func(int, []string) bool {
		return func(_ int, p []string) bool { return p[4] == department }
	}
	set(4, "Guest services", is("Visitor services")) // a department is renamed, the kit is not
	set(4, "Arboretum", func(i int, _ []string) bool { return i == 1 || i == 6 || i == 11 })
	set(6, "2026-10-31", func(i int, _ []string) bool { return i == 4 || i == 9 || i == 14 })
	for i := 20; i < 28; i++ { // eight new emails
		g.people[i][3] = fmt.Sprintf("g%03d@thistle.example", i)
	}
	for i := range 3 {
		g.people = append(g.people, []string{
			fmt.Sprintf(
				"N%02d",
				i,
			), fmt.Sprintf("new.%02d", i), fmt.Sprintf("New %02d", i), fmt.Sprintf("new.%02d@thistle.example", i),
			"Borders", "Gardener", "",
		})
	}
	g.save(t, "Hazel Reed", "2026-11-09", "Visitor services are guest services; some move, some leave, some come")
	g.kits += "  audit: {for: title eq \"Head gardener\", gives: {beds: {roles: [auditor]}}}\n"
	g.save(t, "Rowan Birch", "2026-11-16", "Head gardeners audit")
	g.kits += "  borders: {for: department eq \"Borders\", gives: {shop: {groups: [guides]}}}\n"
	g.kits += "  glass: {for: department eq \"Glasshouses\", gives: {shop: {groups: [guides]}}}\n"
	g.save(t, "Wren Alder", "2026-11-20", "Gardeners guide visitors")

	// By hand: some rights taken away in an application, an account blocked.
	data, err := os.ReadFile(filepath.Join(g.dir, "exports", "beds.csv"))
	require.NoError(t, err)
	rows := strings.Split(string(data), "\n")
	taken := 0
	for i, row := range rows {
		if strings.Contains(row, ",climbers,") && taken < 6 {
			rows[i] = strings.Replace(row, ",climbers,", ",,", 1)
			taken++
		}
	}
	write(t, g.dir, map[string]string{"exports/beds.csv": strings.Join(rows, "\n")})
	drafted(t, g.dir)
}

// newest is the id of the newest plan.
func (g *garden) newest(t *testing.T) string {
	out, status := run(t, g.dir, "show", "--summary")
	require.Zero(t, status, out)
	return strings.Fields(out)[1]
}

// TestTwoHundredChangesOfTenCausesFitOneScreen is a new user's month.
func TestTwoHundredChangesOfTenCausesFitOneScreen(t *testing.T) {
	g := newGarden(t)
	g.month(t)
	screen := g.lines(t, 80, "show")
	full := g.lines(t, 80, "show", "--full")
	brief := g.lines(t, 80, "show", "--brief")
	t.Logf("summary %d lines, brief %d, full %d\n%s", len(screen), len(brief), len(full), strings.Join(screen, "\n"))
	require.LessOrEqual(t, len(screen), 23, "with the prompt below it")
	causes := screen[slices.IndexFunc(screen, func(l string) bool { return strings.Contains(l, "because") })+1:]
	require.Regexp(t, `^ *\d+  shop: .*department was "Visitor +:[a-z2-9]{5}$`, causes[0])
	text := strings.Join(g.lines(t, 200, "show"), "\n")
	for _, want := range []string{"Rowan Birch 2026-11-16", "no longer here", "new in the people files", "email changed", "as before"} {
		require.Contains(t, text, want)
	}

	// Every screen keeps to its width.
	for _, columns := range []int{80, 120, 200} {
		for _, args := range [][]string{
			{"show"}, {"show", "--brief"}, {"show", "--full"}, {"show", "--group-by", "department"},
			{"show", "--group-by", "cause", "--unfold"},
			{"list", "people"}, {"list", "accounts"}, {"log"}, {"why", "G000"}, {"why", "G001", "--beside", "G002"},
			{"why", "G003", "--with", "department=Borders"}, {"compare", "HEAD~3"}, {"check"}, {"holders", "beds/group/growers"},
		} {
			for _, line := range g.lines(t, columns, args...) {
				require.LessOrEqual(t, ansi.StringWidth(line), columns, "%v at %d: %s", args, columns, line)
			}
		}
	}

	// A cause is accepted as one, and what was decided is told.
	ref := causes[0][strings.LastIndex(causes[0], ":"):]
	out, status := run(t, g.dir, "accept", g.newest(t), ref, "--because", "the kit follows next week")
	require.Zero(t, status, out)
	n := strings.Fields(causes[0])[0]
	require.Contains(t, out, "Accepted "+n+" changes of plan ")
	require.Contains(t, strings.Join(g.lines(t, 80, "show"), "\n"), "Decided: "+n+" accepted")
}
