// Package marrowick is the example that ships with Pravet: the desired state
// and the exports of Marrowick Ferries, a made-up ferry line on a made-up
// estuary.
package marrowick

import (
	"embed"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"
)

//go:embed pravet.yaml standing.yaml gitignore apps kits people exports intake
var files embed.FS

// Exported is when the example's exports were taken, and Today the morning on
// which its story is told.
var (
	Exported = time.Date(2026, 11, 23, 18, 0, 0, 0, time.UTC)
	Today    = time.Date(2026, 11, 24, 9, 0, 0, 0, time.UTC)
)

// User is who tells the story: the systems administrator.
const User = "Farah Linden"

// A commit is a step of the example's Git history. Its lines were not there
// before it, or stood there otherwise.
type commit struct {
	when    time.Time
	author  string
	message string
	lines   []line
}

type line struct{ file, now, before string }

var history = []commit{
	{time.Date(2026, 9, 1, 8, 30, 0, 0, time.UTC), User, "Keep people and their access in files", nil},
	{
		time.Date(2026, 11, 9, 10, 0, 0, 0, time.UTC),
		"Idris Keane",
		"Oskar Nyman moves from refunds to berth planning",
		[]line{
			{"people/ashore.csv", "Oskar Nyman,oskar.nyman@marrowick.example,Berth planner,Planning,Head office,",
				"Oskar Nyman,oskar.nyman@marrowick.example,Refund clerk,Ticketing,North Quay,"},
		},
	},
	{
		time.Date(2026, 11, 16, 14, 15, 0, 0, time.UTC),
		"Freja Holloway",
		"Two ticket clerks and a berth planner start",
		[]line{
			{
				"people/ashore.csv",
				"E0118,yara.solberg,Yara Solberg,yara.solberg@marrowick.example,Ticket clerk,Ticketing," +
					"South Quay,Employee,2026-11-23,,\n",
				"",
			},
			{
				"people/ashore.csv",
				"E0119,mikkel.thorne,Mikkel Thorne,mikkel.thorne@marrowick.example,Ticket clerk,Ticketing," +
					"North Quay,Employee,2026-11-23,,\n",
				"",
			},
			{
				"people/ashore.csv",
				"E0120,abel.rosen,Abel Rosen,abel.rosen@marrowick.example,Berth planner,Planning," +
					"Head office,Employee,2026-12-01,,\n",
				"",
			},
		},
	},
	{
		time.Date(2026, 11, 17, 9, 20, 0, 0, time.UTC),
		"Tomas Quill",
		"Refunds can be seen by a profile of their own; the night desk is closed",
		[]line{
			{
				"apps/tickets.yaml",
				"  refund-approver: {title: Approves refunds, define: true, permissions: [approve-refunds], " +
					"includes: [refund-viewer]}\n" +
					"  refund-viewer: {title: Sees refunds, define: true, permissions: [see-refunds]}\n",
				"  refund-approver: {title: Approves refunds}\n",
			},
			{
				"apps/tickets.yaml",
				", define: true, permissions: [read-reports]}\n" +
					"  night-desk: {title: Night desk, define: true, permissions: [sell], retire: true}\n",
				"}\n  night-desk: {title: Night desk}\n",
			},
		},
	},
	{
		time.Date(2026, 11, 18, 11, 5, 0, 0, time.UTC),
		"Freja Holloway",
		"An accountant starts, and the summer crew of 2027 is known",
		[]line{
			{
				"people/ashore.csv",
				"E0121,soren.dahl,Søren Dahl,soren.dahl@marrowick.example,Accountant,Finance,Head " +
					"office,Employee,2026-11-23,,\n",
				"",
			},
			{
				"people/season-2027.csv",
				"S2701,wren.castell,Wren Castell,wren.castell@marrowick.example,Ticket clerk,Ticketing," +
					"North Quay,Seasonal,2027-04-01,2027-10-31\n" +
					"S2702,hugo.lark,Hugo Lark,hugo.lark@marrowick.example,Ticket clerk,Ticketing," +
					"North Quay,Seasonal,2027-04-01,2027-10-31\n" +
					"S2703,amelie.rudd,Amelie Rudd,amelie.rudd@marrowick.example,Ticket clerk,Ticketing," +
					"South Quay,Seasonal,2027-05-01,2027-09-30\n" +
					"S2704,piet.solano,Piet Solano,piet.solano@marrowick.example,Deckhand,Deck," +
					"South Quay,Seasonal,2027-04-15,2027-10-31\n",
				"",
			},
		},
	},
	{
		time.Date(2026, 11, 20, 16, 40, 0, 0, time.UTC),
		User,
		"Noor Haddad leaves, Elsbeth Crane is away, Dagny Cole is back",
		[]line{
			{"people/ashore.csv", "South Quay,Employee,2021-02-01,2026-11-20,", "South Quay,Employee,2021-02-01,,"},
			{"people/ashore.csv", "North Quay,Employee,2018-09-01,,true", "North Quay,Employee,2018-09-01,,"},
		},
	},
	{time.Date(2026, 11, 23, 15, 30, 0, 0, time.UTC), "Tomas Quill", "Mirela Dunn helps out at the refund " +
		"desk", []line{
		{
			"kits/ashore.yaml",
			"    holders:\n      - {person: E0031, until: 2026-12-31, because: helps out at the refund desk in " +
				"December}\n",
			"",
		},
	}},
}

// Write writes the example into a folder, which is made. With git it gets a
// history of a few commits; the same each time.
func Write(dir string, git bool) error {
	if err := writeFiles(dir); err != nil {
		return err
	}
	if !git {
		return nil
	}
	if err := run(dir, nil, "init", "--quiet", "--initial-branch=main"); err != nil {
		return err
	}
	for _, setting := range [][2]string{
		{"user.name", User}, {"user.email", email(User)}, {"commit.gpgsign", "false"}, {"core.autocrlf", "false"},
	} {
		if err := run(dir, nil, "config", setting[0], setting[1]); err != nil {
			return err
		}
	}
	// What people are handed over in is nobody's to commit.
	exclude := filepath.Join(dir, ".git", "info", "exclude")
	if err := os.MkdirAll(filepath.Dir(exclude), 0o755); err != nil {
		return err
	}
	if err := os.WriteFile(exclude, []byte("intake/\n"), 0o644); err != nil {
		return err
	}
	for n := range history {
		if err := commitStep(dir, n); err != nil {
			return err
		}
	}
	return nil
}

func email(name string) string {
	return strings.ToLower(strings.ReplaceAll(name, " ", ".")) + "@marrowick.example"
}

func writeFiles(dir string) error {
	return fs.WalkDir(files, ".", func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		to := filepath.Join(dir, filepath.FromSlash(path))
		if d.IsDir() {
			return os.MkdirAll(to, 0o755)
		}
		data, err := files.ReadFile(path)
		if err != nil {
			return err
		}
		if path == "gitignore" {
			to = filepath.Join(dir, ".gitignore")
		}
		if err := os.WriteFile(to, data, 0o644); err != nil {
			return err
		}
		if strings.HasPrefix(path, "exports/") {
			return os.Chtimes(to, Exported, Exported)
		}
		return nil
	})
}

// commitStep commits the files as they were after step n.
func commitStep(dir string, n int) error {
	changed := map[string]string{}
	for _, later := range history[n+1:] {
		for _, l := range later.lines {
			if changed[l.file] == "" {
				data, err := files.ReadFile(l.file)
				if err != nil {
					return err
				}
				changed[l.file] = string(data)
			}
			before := strings.Replace(changed[l.file], l.now, l.before, 1)
			if before == changed[l.file] {
				return fmt.Errorf("the example's history does not fit: %s has no %q", l.file, l.now)
			}
			changed[l.file] = before
		}
	}
	if err := writeFiles(dir); err != nil {
		return err
	}
	for file, text := range changed {
		if err := os.WriteFile(filepath.Join(dir, filepath.FromSlash(file)), []byte(text), 0o644); err != nil {
			return err
		}
	}
	c := history[n]
	if err := run(dir, nil, "add", "--all"); err != nil {
		return err
	}
	date := c.when.Format(time.RFC3339)
	return run(
		dir,
		[]string{"GIT_AUTHOR_NAME=" + c.author, "GIT_AUTHOR_EMAIL=" + email(c.author), "GIT_AUTHOR_DATE=" + date,
			"GIT_COMMITTER_NAME=" + c.author, "GIT_COMMITTER_EMAIL=" + email(c.author), "GIT_COMMITTER_DATE=" + date},
		"commit",
		"--quiet",
		"--message",
		c.message,
	)
}

// run runs git, away from the user's own settings.
func run(dir string, env []string, args ...string) error {
	cmd := exec.Command("git", append([]string{"-C", dir}, args...)...)
	cmd.Env = append(append(os.Environ(), "GIT_CONFIG_GLOBAL=/dev/null", "GIT_CONFIG_SYSTEM=/dev/null"), env...)
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("git %s: %w: %s", args[0], err, strings.TrimSpace(string(out)))
	}
	return nil
}
