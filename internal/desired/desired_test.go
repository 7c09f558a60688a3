package desired_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pravet/examples/marrowick"
	"pravet/examples/start"
	"pravet/internal/core/day"
	"pravet/internal/desired"
	"pravet/internal/source"
)

// repo writes the repository that new starts with, some files replaced.
func repo(t testing.TB, replaced map[string]string) string {
	dir := t.TempDir()
	files := map[string]string{}
	for _, name := range []string{
		"pravet.yaml", "standing.yaml", "apps/tickets.yaml", "kits/desk.yaml", "people/people.csv",
	} {
		data, err := start.Files.ReadFile(name)
		require.NoError(t, err)
		files[name] = string(data)
	}
	for name, text := range replaced {
		files[name] = text
	}
	for name, text := range files {
		to := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(to), 0o755))
		require.NoError(t, os.WriteFile(to, []byte(text), 0o644))
	}
	return dir
}

func read(t testing.TB, dir string) *desired.Repo {
	tree, err := source.OpenTree(dir, nil)
	require.NoError(t, err)
	t.Cleanup(func() { tree.Close() })
	r := desired.Rules(context.Background(), tree)
	r.ReadPeople()
	return r
}

// problems are a repository's problems, one a line.
func problems(t testing.TB, replaced map[string]string) string {
	var out []string
	for _, p := range read(t, repo(t, replaced)).Problems.Sorted() {
		out = append(out, p.Error())
	}
	return strings.Join(out, "\n")
}

const app = `app: tickets
export: {format: csv, path: e.csv, columns: {userName: Login, active: State, roles: {column: R, split: ";"}}}
connect: {by: files}
match: userName
roles:
  seller: {}
  refund-approver: {}
groups: {}
`

const defined = `app: tickets
export: {format: csv, path: e.csv, columns: {userName: Login, active: State, roles: {column: R, split: ";"}}, definitions: {path: d.csv, columns: COLUMNS}}
connect: {by: files}
match: userName
roles:
  seller: {define: true, permissions: [sell], includes: [refund-approver]}
  refund-approver: {define: true}
groups: {}
`

const retired = `app: tickets
export: {format: csv, path: e.csv, columns: {userName: Login, active: State, roles: {column: R, split: ";"}}, definitions: {path: d.csv, columns: COLUMNS}}
connect: {by: files}
match: userName
roles:
  seller: {define: true, retire: true}
  refund-approver: {define: true}
groups: {}
`

// TestTwoValuesForOnePersonAreAProblemAtBothPlaces: of kits that set an attribute
// differently, where someone has both.
func TestTwoValuesForOnePersonAreAProblemAtBothPlaces(t *testing.T) {
	r := read(t, repo(t, map[string]string{
		"apps/tickets.yaml": strings.Replace(app, "userName: Login", "userName: Login, desk: Desk", 1),
		"kits/desk.yaml":    "kits:\n  a: {everyone: true, gives: {tickets: {set: {desk: north}}}}\n  b: {for: userName sw \"maren\", gives: {tickets: {set: {desk: south}}}}\n",
	}))
	require.Empty(t, r.Problems.Sorted())
	r.Clashes(20781)
	var got []string
	for _, p := range r.Problems.Sorted() {
		got = append(got, p.Error())
	}
	require.Equal(t, []string{
		`kits/desk.yaml:2:47: kit a sets desk to "north" here, and kit b sets it to "south" in kits/desk.yaml:3:57; 1 person has both, among them E0001; let one of them set it, or see that nobody has both`,
		`kits/desk.yaml:3:57: kit b sets desk to "south" here, and kit a sets it to "north" in kits/desk.yaml:2:47; 1 person has both, among them E0001; let one of them set it, or see that nobody has both`,
	}, got)
}

// TestEachProblemHasItsPlaceAndRemedy is a table of what can be wrong within
// one file, besides what the program's own tests show.
func TestEachProblemHasItsPlaceAndRemedy(t *testing.T) {
	for _, c := range []struct{ file, text, want string }{
		{"apps/tickets.yaml", app + "strays: delete\n", `apps/tickets.yaml:9:9: strays cannot be "delete"; did you mean remove?|use one of report, suspend, remove`},
		{
			"apps/tickets.yaml", app + "connect: {by: files}\n",
			"the key connect stands here again; the first is in line 3",
		},
		{"apps/tickets.yaml", strings.Replace(app, "match: userName", "match: email", 1), "accounts are matched " +
			"by email, and columns does not say which column that is; add email: COLUMN under columns"},
		{
			"apps/tickets.yaml", strings.Replace(app, "app: tickets", "app: Tickets", 1),
			`apps/tickets.yaml:1:6: "Tickets" is not an id: small letters, digits and hyphens`,
		},
		{
			"apps/tickets.yaml", app + "account: {displayName: displayName}\n",
			"displayName is kept, and columns does not say which column that is",
		},
		{
			"apps/tickets.yaml", app + "account: {userName: usrName}\n",
			`apps/tickets.yaml:9:21: a person has no attribute "usrName"; did you mean userName?`,
		},
		{"apps/tickets.yaml", app + "fixed: [email]\n", "email is not under account, so it is never changed anyway"},
		{
			"apps/tickets.yaml", strings.Replace(app, "seller: {}", "seller: {atLeast: none}", 1),
			`atLeast is expected to be a whole number of at least 1, not "none"`,
		},
		{
			"apps/tickets.yaml", strings.Replace(app, "seller: {}", "\"sell;er\": {}", 1),
			`"sell;er" holds ";", by which the column R is split`,
		},
		{
			"apps/tickets.yaml",
			strings.Replace(app, "groups: {}", "groups: {north-quay: {brings: {roles: [seler]}}}", 1),
			`tickets has no role "seler" in its catalog; did you mean seller?`,
		},
		{
			"apps/tickets.yaml", app + "licenses: {seat: {seats: -1}}\n",
			`seats is expected to be a whole number of at least 0, not "-1"`,
		},
		{
			"apps/tickets.yaml", app + "guards: {exportAge: 1 day}\n",
			`exportAge is expected to be a duration, not "1 day"; for example P1D`,
		},
		{
			"apps/tickets.yaml", app + "scope: userType\n",
			"apps/tickets.yaml:9:16: filter, column 9: a comparison is expected",
		},
		{"apps/more.yaml", app, "the application tickets is described in apps/more.yaml:1:6 already"},
		{"apps/empty.yaml", "", "apps/empty.yaml:1: the file describes no application; add app: ID"},
		{
			"kits/desk.yaml", "kits:\n  a: {gives: {tickets: {roles: [seller, seller]}}}\n",
			"seller is listed twice under roles; the first is in line 2",
		},
		{
			"kits/desk.yaml", "kits:\n  a: {gives: {tickets: {roles: [seller]}}, holders: [{person: E0001}]}\n",
			"an entry of holders has no because",
		},
		{
			"kits/desk.yaml", "kits:\n  a: {for: 'id pr', everyone: true, gives: {tickets: {}}}\n",
			"the kit a has both for and everyone",
		},
		{"kits/desk.yaml", "kits:\n  a: {everyone: true}\n", "kits/desk.yaml:2:3: the kit gives nothing"},
		{
			"kits/more.yaml", "kits:\n  a: {everyone: true, with: [tickt-desk]}\n",
			`kits/more.yaml:2:30: there is no kit "tickt-desk"; did you mean ticket-desk?`,
		},
		{
			"kits/more.yaml", "kits:\n  a: {with: [b]}\n  b: {with: [c]}\n  c: {with: [a]}\n",
			"kits/more.yaml:2:3: these kits come with each other in a circle: a, b, c, a; take one step out",
		},
		{
			"kits/desk.yaml", "kits:\n  a: {everyone: true, gives: {tickets: {groups: [seller]}}}\n",
			`tickets has no group "seller" in its catalog; it is a role there`,
		},
		{
			"kits/desk.yaml", "kits:\n  a: {everyone: true, gives: {tickets: {set: {colour: blue}}}}\n",
			"tickets does not say where its export shows colour",
		},
		{
			"kits/desk.yaml", "kits:\n  a: {for: 'extra.badge pr', gives: {tickets: {}}}\n",
			"kits/desk.yaml:2:13: no people file gives extra.badge",
		},
		{
			"kits/more.yaml", "kits:\n  ticket-desk: {everyone: true, gives: {tickets: {}}}\n",
			"kits/more.yaml:2:3: the kit ticket-desk is in kits/desk.yaml:4:3 already",
		},
		{
			"kits/desk.yaml",
			"kits:\n  a: {everyone: true, gives: {tickets: {}}, holders: [{person: maren.holt, because: x}]}\n",
			"people are named by id here: E0001",
		},
		{
			"people/more.yaml", "people:\n  - {id: E9, userName: x, away: {from: 2026-02-01, to: 2026-01-01}}\n",
			"away.to 2026-01-01 is before away.from 2026-02-01",
		},
		{"people/more.yaml", "people:\n  - {id: E9}\n", "people/more.yaml:2:5: the person has no id or userName"},
		{"people/more.csv", "id,userName,badge\n", "people/more.csv:1:13: a person has no attribute \"badge\"; " +
			"an organization's own attributes are named extra.badge"},
		{"people/more.csv", "id,userName,ID\n", "people/more.csv:1:13: there are two columns named ID"},
		{
			"people/more.csv", "id,userName,away\nE9,x,maybe\n",
			`people/more.csv:2:6: away: "maybe" is not true or false`,
		},
		{
			"standing.yaml", "lifted:\n  - {guard: removal, until: 2027-01-01, because: x}\n",
			`standing.yaml:2:13: guard cannot be "removal"; did you mean removals?`,
		},
		{
			"standing.yaml", "lifted:\n  - {guard: removals, because: x}\n",
			"a guard is not lifted for ever; add until: YYYY-MM-DD",
		},
		{
			"standing.yaml", "lifted:\n  - {guard: removals, app: tikets, until: 2027-01-01, because: x}\n",
			`there is no application "tikets"; did you mean tickets?`,
		},
		{"people/more.CSV", "id,userName\n", "people/more.CSV: this is not read; files of people end in .csv or " +
			".yaml or .yml and stand in the folder itself"},
		{"kits/2026/desk.yaml", "kits: {}\n", "kits/2026: this is not read"},
		{
			"apps/tickets.yaml",
			strings.Replace(app, "userName: Login", "userName: Login, active: {column: S, true: x}", 1),
			"the words for true and false are expected to be two different words",
		},
		{
			"apps/tickets.yaml",
			strings.Replace(app, "userName: Login", "userName: {column: Login, true: x, false: y}", 1),
			"only active has words for true and false",
		},
		{
			"pravet.yaml",
			"organization: X\nseparation: [{name: a, apart: [tickets/role/seller, tickets/role/seler]}]\n",
			`tickets has no role "seler" in its catalog; did you mean seller?`,
		},
		{
			"pravet.yaml",
			"organization: X\nseparation: [{name: a, apart: [tickets/role/seller, tickets/role/seller]}]\n",
			"fewer than two different things",
		},
		{
			"pravet.yaml", "organization: X\nseparation: [{name: a, apart: [seller, tickets/account/x]}]\n",
			"is an account, and a group, role or license is expected",
		},
		{
			"apps/tickets.yaml", app + "licenses: {seat: {seats: 4, price: 11.50}}\n",
			`apps/tickets.yaml:9:36: price: "11.50" is not a price; write it like 11.50 EUR/month`,
		},
		{
			"apps/tickets.yaml", app + "licenses: {seat: {seats: many}}\n",
			`seats is expected to be a whole number of at least 0, not "many"`,
		},
		{
			"apps/tickets.yaml", strings.Replace(app, "path: e.csv,", "path: 'x/{taken}/e.csv',", 1),
			"x/{taken}/e.csv has {taken} elsewhere than once in the file's own name; name the files in one folder",
		},
		{
			"apps/tickets.yaml", strings.Replace(app, "path: e.csv,", "path: 'e-{taken}.csv', taken: Login,", 1),
			"the names of the files say already when the export was taken, by {taken}; take one of them out",
		},
		{"apps/tickets.yaml", app + "tidy: everything\n", `apps/tickets.yaml:9:7: tidy cannot be "everything"; use one of doubles`},
		{"apps/tickets.yaml", strings.Replace(app, "path: e.csv,", "path: e.csv, shows: efective,", 1), `shows cannot be "efective"; did you mean effective?`},
		{
			"apps/tickets.yaml", strings.Replace(app, "path: e.csv,", "path: e.csv, shows: {role: direct},", 1),
			`shows has no key "role"; did you mean roles?`,
		},
		{
			"apps/tickets.yaml", strings.Replace(app, "seller: {}", "seller: {define: true}", 1),
			"role seller is Pravet's own (define: true), and the export does not show which definitions there " +
				"are; add definitions:",
		},
		{
			"apps/tickets.yaml", strings.Replace(app, "seller: {}", "seller: {permissions: [sell]}", 1),
			"role seller is not Pravet's own, so its definition is left alone; add define: true",
		},
		{
			"apps/tickets.yaml", strings.Replace(defined, "COLUMNS", "{title: T}", 1),
			"definitions are told apart by name, and columns does not say which column that is",
		},
		{
			"apps/tickets.yaml", strings.Replace(defined, "COLUMNS", "{name: N, rights: R}", 1),
			`columns of definitions has no key "rights"`,
		},
		{
			"apps/tickets.yaml", strings.Replace(defined, "COLUMNS", "{name: N}", 1),
			"the export does not show permissions|the export does not show which roles come along",
		},
		{
			"apps/tickets.yaml",
			strings.Replace(
				strings.Replace(app, "seller: {}", "seller: {includes: [refund-approver]}", 1), "refund-approver: {}",
				"refund-approver: {includes: [seller]}", 1,
			),
			"apps/tickets.yaml:7:3: these bring each other along in a circle: role refund-approver, role seller, " +
				"role refund-approver; take one step out",
		},
		{
			"apps/tickets.yaml", strings.Replace(app, "seller: {}", "seller: {atLeast: 9}", 1),
			"apps/tickets.yaml:6:3: at least 9 must hold role seller, and there are 3 people; correct atLeast",
		},
		{
			"kits/more.yaml", "kits:\n  a: {everyone: true, rank: first, gives: {tickets: {roles: [seller]}}}\n",
			`rank is expected to be a whole number of at least 1, not "first"`,
		},
		{
			"pravet.yaml",
			"organization: X\n" +
				"separation: [{name: a, apart: [tickets/role/seller, tickets/role/refund-approver]}]\n" +
				"|kits/more.yaml|kits:\n" +
				"  both: {everyone: true, gives: {tickets: {roles: [seller, refund-approver]}}}\n",
			"kits/more.yaml:2:3: the kit both by itself gives tickets/role/seller and " +
				"tickets/role/refund-approver, which are kept apart in pravet.yaml:2:14: a",
		},
		{
			"pravet.yaml",
			"organization: X\nseparation: [{name: a, apart: [tickets/role/seller, tickets/role/refund-approver]}]\n|apps/tickets.yaml|" + strings.Replace(
				app, "seller: {}", "seller: {includes: [refund-approver]}", 1,
			),
			"pravet.yaml:2:14: tickets/role/seller brings tickets/role/refund-approver along, so nobody could " +
				"hold it: a",
		},
		{
			"standing.yaml", "exceptions:\n  - {separation: a, person: E0001, because: x}\n",
			`standing.yaml:2:5: an exception does not last for ever; add until: YYYY-MM-DD|there is no separation "a"`,
		},
		{
			"kits/more.yaml",
			"kits:\n  a: {everyone: true, gives: {tickets: {roles: [seller]}}}\n|apps/tickets.yaml|" + strings.Replace(
				retired, "COLUMNS", "{name: N}", 1,
			),
			"kits/more.yaml:2:49: role seller of tickets is to be retired, and the kit gives it",
		},
		{"kits/more.yaml", "kits:\n  a: {with: [b], gives: {tickets: {set: {desk: north}}}}\n  b: {gives: {tickets: {set: {desk: south}}}}\n|apps/tickets.yaml|" + strings.Replace(
			app, "userName: Login", "userName: Login, desk: Desk", 1,
		),
			`kits/more.yaml:2:42: kit a sets desk to "north" here, and kit b sets it to "south" in kits/more.yaml:3:31; both come with kit a`},
	} {
		files := map[string]string{}
		for parts := strings.Split(c.file+"|"+c.text, "|"); len(parts) > 1; parts = parts[2:] {
			files[parts[0]] = parts[1]
		}
		got := problems(t, files)
		ok := false
		for _, want := range strings.Split(c.want, "|") {
			ok = ok || strings.Contains(got, want)
		}
		assert.True(t, ok, "%s:\n%s\nwant %q in\n%s", c.file, c.text, c.want, got)
	}
}

func TestWhatShipsPassesCheck(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, marrowick.Write(dir, false))
	today, err := day.Parse("2026-11-24")
	require.NoError(t, err)
	for _, dir := range []string{dir, repo(t, nil)} {
		r := read(t, dir)
		r.Matches(today, false)
		require.Empty(t, r.Problems.Sorted())
	}
}

// TestTheDigestTellsWhatIsDesired: of standing.yaml only lifted guards count.
func TestTheDigestTellsWhatIsDesired(t *testing.T) {
	base := read(t, repo(t, nil)).Digest()
	require.Equal(t, base, read(t, repo(t, nil)).Digest())
	require.NotEqual(t, base, read(t, repo(t, map[string]string{"people/more.csv": "id,userName\n"})).Digest())
	require.NotEqual(
		t,
		base,
		read(
			t,
			repo(t, map[string]string{"standing.yaml": "lifted: [{guard: removals, until: 2027-01-01, because: x}]\n"}),
		).Digest(),
	)
	require.Equal(
		t,
		base,
		read(t, repo(t, map[string]string{"standing.yaml": "rejections: [{change: abc, because: x}]\n"})).Digest(),
	)
}

func TestRejectionsAreAddedAndTheRestStays(t *testing.T) {
	until, err := day.Parse("2027-01-31")
	require.NoError(t, err)
	add := []desired.StandingRejection{
		{
			Change:  "abc",
			What:    "tickets: grant role a: b",
			Because: "it's \"so\" # yes\nreally",
			By:      "Farah",
			Until:   until,
		},
	}
	entry := func(pad, end string) string {
		return strings.ReplaceAll(
			pad+"- change: abc\n"+pad+"  what: 'tickets: grant role a: b'\n"+pad+"  until: 2027-01-31\n"+pad+"  because: \"it's \\\"so\\\" # yes\\nreally\"\n"+pad+"  by: Farah\n",
			"\n",
			end,
		)
	}
	for _, c := range []struct{ name, before, after string }{
		{"a new file", "", "rejections:\n" + entry("  ", "\n")},
		{"only comments", "# Decisions\n", "# Decisions\n\nrejections:\n" + entry("  ", "\n")},
		{
			"an empty list", "# a\nrejections: []  # none\n\nlifted: []\n",
			"# a\nrejections:  # none\n" + entry("  ", "\n") + "\nlifted: []\n",
		},
		{"no value", "rejections:\nlifted: []\n", "rejections:\n" + entry("  ", "\n") + "lifted: []\n"},
		{"behind the last entry", "rejections:\n    # first\n    - change: x\n      because: |\n        one\n        two\n    # about the next key\n\n# lifted\nlifted: []\n",
			"rejections:\n    # first\n    - change: x\n      because: |\n        one\n        two\n" + entry("    ", "\n") + "    # about the next key\n\n# lifted\nlifted: []\n"},
		{
			"entries that are not indented", "rejections:\n- {change: x, because: y}\nlifted: []",
			"rejections:\n- {change: x, because: y}\n" + entry("", "\n") + "lifted: []\n",
		},
		{"no key yet, Windows line ends", "lifted: []\r\n", "lifted: []\r\n\r\nrejections:\r\n" + entry("  ", "\r\n")},
		{
			"last key, no line end", "lifted: []\nrejections:\n  - change: x\n    because: y",
			"lifted: []\nrejections:\n  - change: x\n    because: y\n" + entry("  ", "\n"),
		},
	} {
		got, err := desired.AddRejections([]byte(c.before), add)
		require.NoError(t, err, c.name)
		require.Equal(t, c.after, string(got), c.name)
	}
	for _, c := range []struct{ before, says string }{
		{"rejections: [{change: x, because: y}]\n", "write it one entry a line"},
		{"rejections: {a: b}\n", "write it one entry a line"},
		{"rejections:\n\t- x\n", "a tab stands in the indentation"},
	} {
		_, err := desired.AddRejections([]byte(c.before), add)
		require.ErrorContains(t, err, c.says)
	}
}
