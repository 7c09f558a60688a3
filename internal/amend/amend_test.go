package amend_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"pravet/internal/amend"
	"pravet/internal/core/day"
	"pravet/internal/core/model"
	"pravet/internal/desired"
	"pravet/internal/source"
)

// files are a repository with a comment in every place where one is lost easily.
var files = map[string]string{
	"pravet.yaml": "organization: Marrowick Ferries\n",
	"people/ashore.csv": "id,userName,displayName,extra.note,department\n" +
		"E1,ada.holt,\"Holt, Ada\",\"says \"\"hi\"\"\",Harbour\n" +
		"E2,bo.lind,Bo Lind,,Tickets\n",
	"people/others.yaml": "people:\n" +
		"  # by hand\n" +
		"  - {id: E3, userName: cy.moe, department: Deck}   # the cook\n" +
		"  - id: E4\n" +
		"    userName: di.kron\n" +
		"    department: Deck   # for now\n",
	"apps/till.yaml": "app: till   # the tills\n" +
		"export: {format: csv, path: exports/till.csv, columns: {userName: Login, active: State, groups: Teams, roles: Profiles}}\n" +
		"connect: {by: files}\n" +
		"match: userName\n" +
		"account: {userName: userName}\n" +
		"groups:\n" +
		"  quay: {brings: {roles: [seller]}}   # who sells here\n" +
		"roles:\n" +
		"  seller: {}\n" +
		"  lead: {includes: [seller]}\n" +
		"alone:\n" +
		"  - old.master   # nobody knows\n",
	"kits/desks.yaml": "kits:\n" +
		"  # whoever sells\n" +
		"  desk:\n" +
		"    for: department eq \"Tickets\"\n" +
		"    gives: {till: {groups: [quay], roles: [seller]}}   # both\n" +
		"    except:\n" +
		"      - {person: E2, because: on loan}   # until spring\n" +
		"  lead:\n" +
		"    gives:\n" +
		"      till: {roles: [lead]}\n" +
		"    holders:\n" +
		"      - person: E1\n" +
		"        because: leads   # since ever\n" +
		"      - {person: E3, because: leads too}\n" +
		"  listed:\n" +
		"    gives: {till: {roles: [seller]}}\n" +
		"    holders: {listed: lists/sellers.csv}\n",
	"lists/sellers.csv": "person,until,because\nE3,,helps out\nE4,2027-01-31,\"summer, mostly\"\n",
}

// open writes the files into a folder and reads them.
func open(t *testing.T) (dir string, repo *desired.Repo) {
	dir = t.TempDir()
	for name, text := range files {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	tree, err := source.OpenTree(dir, nil)
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, tree.Close()) })
	repo = desired.Rules(context.Background(), tree)
	repo.ReadPeople()
	require.Empty(t, repo.Problems.Sorted())
	return dir, repo
}

func kit(t *testing.T, repo *desired.Repo, name string) *model.Kit {
	for _, k := range repo.Kits {
		if k.Name == name {
			return k
		}
	}
	require.Fail(t, "no kit "+name)
	return nil
}

// TestEveryOtherByteStays makes one amendment after another of the same files. Of each file
// that changes it names the text that goes and the text that comes; all else must stay as it is,
// and what comes out must be read without a problem.
func TestEveryOtherByteStays(t *testing.T) {
	for name, x := range map[string]struct {
		do   func(t *testing.T, a *amend.Amendment, repo *desired.Repo) error
		want map[string][]string // file → was, is, was, is, …
	}{
		"a value in a row": {
			func(_ *testing.T, a *amend.Amendment, repo *desired.Repo) error {
				return a.Set(repo.People.Named("E1"), map[string]string{"department": "Tickets, north"})
			},
			map[string][]string{"people/ashore.csv": {`""",Harbour`, `""","Tickets, north"`}},
		},
		"a value by hand, in one line": {
			func(_ *testing.T, a *amend.Amendment, repo *desired.Repo) error {
				return a.Set(repo.People.Named("E3"), map[string]string{"department": "Galley"})
			},
			map[string][]string{"people/others.yaml": {"cy.moe, department: Deck", "cy.moe, department: Galley"}},
		},
		"a value by hand, beside a comment": {
			func(_ *testing.T, a *amend.Amendment, repo *desired.Repo) error {
				return a.Set(repo.People.Named("E4"), map[string]string{"department": "Galley"})
			},
			map[string][]string{"people/others.yaml": {"Deck   # for now", "Galley   # for now"}},
		},
		"a value taken away": {
			func(_ *testing.T, a *amend.Amendment, repo *desired.Repo) error {
				return a.Set(repo.People.Named("E2"), map[string]string{"department": ""})
			},
			map[string][]string{"people/ashore.csv": {"Lind,,Tickets", "Lind,,"}},
		},
		"somebody new": {
			func(_ *testing.T, a *amend.Amendment, _ *desired.Repo) error {
				return a.Add("people/ashore.csv", map[string]string{"id": "E9", "userName": "eve.dahl"})
			},
			map[string][]string{"people/ashore.csv": {"Lind,,Tickets\n", "Lind,,Tickets\nE9,eve.dahl,,,\n"}},
		},
		"held by name": {
			func(t *testing.T, a *amend.Amendment, repo *desired.Repo) error {
				a.Hold(kit(t, repo, "lead"), amend.Entry{Person: "E4", Until: day.None, Because: "covers: June"})
				return nil
			},
			map[string][]string{"kits/desks.yaml": {
				"leads too}\n", "leads too}\n      - {person: E4, because: 'covers: June'}\n",
			}},
		},
		"held by name no more": {
			func(t *testing.T, a *amend.Amendment, repo *desired.Repo) error {
				a.Drop(kit(t, repo, "lead"), "E1")
				return nil
			},
			map[string][]string{"kits/desks.yaml": {
				"      - person: E1\n        because: leads   # since ever\n", "",
			}},
		},
		"in a list of its own": {
			func(t *testing.T, a *amend.Amendment, repo *desired.Repo) error {
				a.Drop(kit(t, repo, "listed"), "E3")
				return nil
			},
			map[string][]string{"lists/sellers.csv": {"E3,,helps out\n", ""}},
		},
		"left out no more": {
			func(t *testing.T, a *amend.Amendment, repo *desired.Repo) error {
				a.Admit(kit(t, repo, "desk"), "E2")
				return nil
			},
			map[string][]string{"kits/desks.yaml": {
				"    except:\n      - {person: E2, because: on loan}   # until spring\n", "",
			}},
		},
		"a kit gives more": {
			func(t *testing.T, a *amend.Amendment, repo *desired.Repo) error {
				a.Give(kit(t, repo, "lead"), "till", map[string][]string{"roles": {"seller"}, "groups": {"quay"}})
				return nil
			},
			map[string][]string{"kits/desks.yaml": {
				"till: {roles: [lead]}", "till: {roles: [lead, seller], groups: [quay]}",
			}},
		},
		"a kit goes": {
			func(t *testing.T, a *amend.Amendment, repo *desired.Repo) error {
				return a.RemoveKit(kit(t, repo, "listed"))
			},
			map[string][]string{"kits/desks.yaml": {
				"  listed:\n    gives: {till: {roles: [seller]}}\n    holders: {listed: lists/sellers.csv}\n", "",
			}},
		},
		"left alone": {
			func(_ *testing.T, a *amend.Amendment, repo *desired.Repo) error {
				return a.Alone(repo.Apps[0], "kiosk 2", "nobody answers for it")
			},
			map[string][]string{"apps/till.yaml": {
				"# nobody knows\n", "# nobody knows\n  - kiosk 2   # nobody answers for it\n",
			}},
		},
		"called otherwise": {
			func(_ *testing.T, a *amend.Amendment, repo *desired.Repo) error {
				return a.Name(repo.Apps[0], "E1", "aholt")
			},
			map[string][]string{"apps/till.yaml": {"# nobody knows\n", "# nobody knows\nnamed:\n  E1: aholt\n"}},
		},
	} {
		t.Run(name, func(t *testing.T) {
			dir, repo := open(t)
			a := amend.New(context.Background(), repo)
			require.NoError(t, x.do(t, a, repo))
			changed, err := a.Files()
			require.NoError(t, err)
			require.NoError(t, changed.Write())
			for file, was := range files {
				want := was
				for pair := x.want[file]; len(pair) > 0; pair = pair[2:] {
					require.Equal(t, 1, strings.Count(want, pair[0]), pair[0])
					want = strings.Replace(want, pair[0], pair[1], 1)
				}
				got, err := os.ReadFile(filepath.Join(dir, file))
				require.NoError(t, err)
				require.Equal(t, want, string(got), file)
			}
			tree, err := source.OpenTree(dir, nil)
			require.NoError(t, err)
			defer tree.Close()
			after := desired.Rules(context.Background(), tree)
			after.ReadPeople()
			require.Zero(t, after.Problems.Errors(), "%v", after.Problems.Sorted())
		})
	}
}

// Nothing is written before that is asked for, and a file that is there is never made anew.
func TestNothingIsWrittenUnasked(t *testing.T) {
	dir, repo := open(t)
	a := amend.New(context.Background(), repo)
	require.ErrorContains(t, a.Create("kits/desks.yaml", "kits: {}\n"), "kits/desks.yaml is there already")
	require.NoError(t, a.Set(repo.People.Named("E1"), map[string]string{"department": "Deck"}))
	require.NoError(t, a.Create("kits/new.yaml", "kits: {}\n"))
	changed, err := a.Files()
	require.NoError(t, err)
	require.Len(t, changed.Changed(), 2)
	require.NoFileExists(t, filepath.Join(dir, "kits/new.yaml"))
	for file, was := range files {
		got, err := os.ReadFile(filepath.Join(dir, file))
		require.NoError(t, err)
		require.Equal(t, was, string(got))
	}
}
