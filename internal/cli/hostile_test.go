package cli

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"pravet/examples/marrowick"
	"pravet/internal/core/words"
)

// evil does things to a terminal: it clears it, titles it, hides and turns text
// around, and rings.
const evil = "\x1b[2J\x1b]0;x\x07\u202eevil\u2066\u009b8m\u2028"

// TestNoTextFromFilesReachesTheTerminalRaw: every command, on a repository with
// evil in every field that takes text, writes nothing that a terminal obeys.
func TestNoTextFromFilesReachesTheTerminalRaw(t *testing.T) {
	t.Parallel()
	d := atWork(t)
	quoted := `"` + strings.NewReplacer("\x1b", `\e`, "\x07", `\a`, "\u202e", `\u202e`, "\u2066", `\u2066`, "\u009b", `\x9b`, "\u2028", `\u2028`).
		Replace(evil) +
		`"`
	edit := func(name, before, after string) {
		file := filepath.Join(d.dir, name)
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		require.Contains(t, string(data), before, name)
		require.NoError(t, os.WriteFile(file, []byte(strings.ReplaceAll(string(data), before, after)), 0o644))
		require.NoError(t, os.Chtimes(file, marrowick.Exported, marrowick.Exported))
	}
	edit("pravet.yaml", "organization: Marrowick Ferries", "organization: "+quoted)
	edit("pravet.yaml", "name: sets fares and approves refunds", "name: "+quoted)
	edit("people/ashore.csv", "Oskar Nyman", "Oskar"+evil)
	edit("people/ashore.csv", "Ticket clerk", "Clerk"+evil)
	edit("people/ashore.csv", "E0031,mirela.dunn,Mirela Dunn", "E0031,mirela.dunn,Mirela"+evil)
	edit("apps/tickets.yaml", "title: Ticket sales and refunds", "title: "+quoted)
	edit("kits/ashore.yaml", "because: helps out at the refund desk in December", "because: "+quoted)
	edit("exports/tickets.csv", "kiosk2", "kiosk"+evil)
	edit("exports/tickets.csv", "kiosk-display", "kiosk-display"+evil)
	require.NoError(
		t,
		os.WriteFile(
			filepath.Join(d.dir, "kits", "b"+evil+".yaml"),
			[]byte("kits:\n  more:\n    for: nope eq 3\n    gives: {}\n"),
			0o644,
		),
	)
	check := func(args ...string) {
		status := d.run(args...)
		require.NotEqual(t, WrongUsage, status, "%v: %s", args, d.err.String())
		for _, stream := range []string{d.out.String(), d.err.String()} {
			require.False(
				t,
				strings.ContainsFunc(strings.ReplaceAll(stream, "\r\n", "\n"), words.Hostile),
				"%v: %q",
				args,
				stream,
			)
		}
	}
	check("check")
	check("check", "--format", "json")
	check("draft", "--on", "2026-11-24")
	require.NoError(t, os.Remove(filepath.Join(d.dir, "kits", "b"+evil+".yaml")))
	check("draft", "--on", "2026-11-24")
	plans, err := filepath.Glob(filepath.Join(d.dir, "plans", "*.json"))
	require.NoError(t, err)
	require.Len(t, plans, 1)
	id := strings.TrimSuffix(filepath.Base(plans[0]), ".json")
	for _, format := range []string{"table", "json", "csv", "markdown"} {
		check("show", id, "--format", format)
		check("compare", "HEAD", "--on", "2026-11-24", "--format", format)
	}
	for _, format := range []string{"table", "json", "csv"} {
		for _, subject := range []string{"people", "accounts", "things", "strays"} {
			check("list", subject, "--on", "2026-11-24", "--format", format)
		}
		check("why", "E0042", "--on", "2026-11-24", "--format", format)
		check("why", "mirela.dunn", "tickets/role/refund-approver", "--on", "2026-11-24", "--format", format)
		check("holders", "tickets/role/seller", "--effective", "--on", "2026-11-24", "--format", format)
		check("seats", "--on", "2026-11-24", "--format", format)
	}
	for _, as := range []string{"--summary", "--brief", "--full", "--group-by=cause", "--group-by=title"} {
		check("show", id, as)
	}
	check("why", "E0042", "--beside", "E0031", "--on", "2026-11-24")
	check("why", "E0042", "--with", "title=Clerk"+evil, "--on", "2026-11-24")
	check("draft", "--dry", "--on", "2026-11-24")
	check("compare", "--with", "kits/ashore.yaml", "--on", "2026-11-24")
	check("check", "--rules")
	check("reject", id, "--person", "E0118", "--because", "not"+evil)
	check("accept", id, "--because", "yes"+evil)
	check("apply", id)
	check("log")
	check("log", "run-1")
	check("log", "--format", "csv")
	check("log", "--person", "E0118")
	check("holders", "tickets/role/seller", "--effective", "--at", "2026-11-24")
	check("why", "E0042", "--at", "2026-11-24")
	check("list", "accounts", "--at", "2026-11-24")
	check("log", "verify")
}
