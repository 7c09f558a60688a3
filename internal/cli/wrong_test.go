package cli

import (
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// contents is every file of a repository but the ledger and Git's own, by name.
func (d *atDesk) contents(t *testing.T) map[string]string {
	out := map[string]string{}
	err := filepath.WalkDir(d.dir, func(path string, e fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case e.IsDir() && (e.Name() == ".git" || e.Name() == ".pravet"):
			return fs.SkipDir
		case e.IsDir():
			return nil
		}
		data, err := os.ReadFile(path)
		out[path] = string(data)
		return err
	})
	require.NoError(t, err)
	return out
}

// TestEveryCommandRefusesWrongInput: of each kind that it takes, with one clear
// message, the status that is documented, and nothing changed.
func TestEveryCommandRefusesWrongInput(t *testing.T) {
	d := atWork(t)
	require.Equal(t, Done, d.run("draft", "--on", "2026-11-24"))
	plan := filepath.Join(d.dir, "plans", "2w57bede.json")
	whole, err := os.ReadFile(plan)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(d.dir, "broken.json"), whole[:len(whole)/2], 0o644))
	before := d.contents(t)
	because := []string{"--because", "x"}
	for _, c := range []struct {
		status int
		says   string
		args   []string
	}{
		{Failed, "the folder is not empty", []string{"new", "people"}},
		{Failed, "broken.json: not a directory", []string{"new", "broken.json"}},
		{Failed, "there is no such folder", []string{"check", "--repo", "gone"}},
		{Failed, "there is no pravet.yaml in this folder", []string{"check", "--repo", "people"}},
		{WrongUsage, "there is no schema", []string{"check", "--schema", "person"}},
		{WrongUsage, `no application "ticket"; did you mean tickets?`, []string{"draft", "--app", "ticket"}},
		{Failed, "this is a folder", []string{"draft", "--out", "people"}},
		{Failed, "no such file or directory", []string{"draft", "--out", "gone/plan.json"}},
		{WrongUsage, "is not a date", []string{"draft", "--on", "24.11.2026"}},
		{WrongUsage, "no closing quote", []string{"draft", "--only", `department eq "Deck`}},
		{Failed, "gone.json: there is no such file", []string{"show", "gone.json"}},
		{Failed, "broken.json: this is not a plan", []string{"show", "broken.json"}},
		{Failed, "this is not a plan", []string{"show", "people/ashore.csv"}},
		{
			WrongUsage, `"E0041" with a change in the plan; did you mean`,
			[]string{"show", "2w57bede", "--person", "E0041"},
		},
		{Failed, "gone.json: there is no such file", append([]string{"accept", "gone.json"}, because...)},
		{Failed, "broken.json: this is not a plan", append([]string{"accept", "broken.json"}, because...)},
		{WrongUsage, `no change "nnnn"`, append([]string{"accept", "2w57bede", "nnnn"}, because...)},
		{
			WrongUsage, `no guard "seat"; did you mean seats?`,
			append([]string{"accept", "2w57bede", "--lift", "seat"}, because...),
		},
		{Failed, "gone.json: there is no such file", append([]string{"reject", "gone.json"}, because...)},
		{Failed, "broken.json: this is not a plan", append([]string{"reject", "broken.json"}, because...)},
		{WrongUsage, "is over on 2026-11-24", append([]string{"reject", "2w57bede", "--until", "2026-11-23"}, because...)},
		{WrongUsage, "is not an address", append([]string{"reject", "2w57bede", "--thing", "seller"}, because...)},
		{Failed, "gone.json: there is no such file", []string{"apply", "gone.json", "--yes"}},
		{Failed, "broken.json: this is not a plan", []string{"apply", "broken.json", "--yes"}},
		{WrongUsage, "there is no terminal to ask on", []string{"apply", "2w57bede"}},
		{Failed, `no run or plan "run-7"`, []string{"log", "run-7"}},
		{WrongUsage, `--kind cannot be "runs"`, []string{"log", "--kind", "runs"}},
		{Failed, "it is not the one that was noted", []string{"log", "verify", "--head", strings.Repeat("0", 64)}},
		{WrongUsage, `no person with the id, the user name or the name "E0041"; did you mean E0`, []string{"why", "E0041"}},
		{
			WrongUsage, `tickets has no role "sellr" in its catalog; did you mean tickets/role/seller?`,
			[]string{"why", "E0042", "tickets/role/sellr"},
		},
		{WrongUsage, "is not an address", []string{"why", "E0042", "seller"}},
		{
			WrongUsage, `there is no application "ticket"; did you mean tickets?`,
			[]string{"holders", "ticket/role/seller"},
		},
		{
			WrongUsage, "is an account; a group, role or license is expected",
			[]string{"holders", "tickets/account/root"},
		},
		{WrongUsage, `there is no list of "persons"; there are people`, []string{"list", "persons"}},
		{
			WrongUsage, `--only, column 1: there is no column "departmnt"; did you mean department?`,
			[]string{"list", "people", "--only", `departmnt eq "Deck"`},
		},
		{WrongUsage, "no closing quote", []string{"list", "people", "--only", `department eq "Deck`}},
		{
			WrongUsage, "cannot be compared with the number 5 by co",
			[]string{"list", "people", "--only", `department co 5`},
		},
		{
			WrongUsage, `--columns: there is no column "titel"; did you mean title?`,
			[]string{"list", "people", "--columns", "id,titel"},
		},
		{WrongUsage, `pravet: --sort: there is no column "size"`, []string{"list", "kits", "--sort", "-size"}},
		{WrongUsage, `--group-by: there is no column "room"`, []string{"list", "people", "--group-by", "room"}},
		{
			WrongUsage, "goes with neither --columns nor --sort",
			[]string{"list", "people", "--group-by", "title", "--sort", "id"},
		},
		{WrongUsage, `no application "ticket"; did you mean tickets?`, []string{"list", "accounts", "--app", "ticket"}},
		{WrongUsage, "--ahead: ", []string{"seats", "--ahead", "12 months"}},
		{WrongUsage, "it must be between a day and 10 years", []string{"seats", "--ahead", "P11Y"}},
		{WrongUsage, "goes with --ahead", []string{"seats", "--plot", "x.png"}},
		{
			WrongUsage, `"x.gif" ends neither in .png nor in .svg`,
			[]string{"seats", "--ahead", "P1M", "--plot", "x.gif"},
		},
		{Failed, "no such file or directory", []string{"seats", "--ahead", "P1M", "--plot", "gone/x.png"}},
		{WrongUsage, `there is no such revision: "gone"`, []string{"compare", "gone"}},
		{WrongUsage, "is not a date", []string{"compare", "--on", "yesterday"}},
		{WrongUsage, `--format cannot be "html"`, []string{"compare", "--format", "html"}},
		{Failed, "the folder is not empty", []string{"demo", "--keep", "people"}},
		{WrongUsage, `there is no list of "cats"; there are people, accounts, things`, []string{"list", "cats"}},
		{WrongUsage, "--with: ../x.yaml is not a file of this repository", []string{"compare", "--with", "../x.yaml"}},
		{WrongUsage, "--with: /etc/hosts is not a file of this repository", []string{"compare", "--with", "/etc/hosts"}},
		{
			WrongUsage, `neither the files nor the ledger knows the application "ticket"; did you mean tickets?`,
			[]string{"log", "--app", "ticket"},
		},
		{
			WrongUsage, `neither the files nor the ledger knows the person "nobody"`,
			[]string{"log", "--person", "nobody"},
		},
		{
			WrongUsage, `tickets has no role "sellr" in its catalog; did you mean tickets/role/seller?`,
			[]string{"log", "--thing", "tickets/role/sellr"},
		},
	} {
		require.Equal(t, c.status, d.run(c.args...), "%v: %s", c.args, d.err.String())
		require.Contains(t, d.err.String(), c.says, "%v", c.args)
		require.Equal(t, 1, strings.Count(d.err.String(), "pravet: "), "one message: %s", d.err.String())
	}
	require.Equal(t, before, d.contents(t))
}
