package connect_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"pravet/internal/connect"
	"pravet/internal/connect/live"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/standin"
)

// carry prepares and commits a step, and returns what became of each change.
func carry(t *testing.T, a *live.Application, changes ...*plan.Change) map[string]error {
	t.Helper()
	for i, c := range changes {
		c.ID = fmt.Sprintf("%d %s %s", i, c.Verb, c.Account)
	}
	step, err := a.Prepare(context.Background(), "", changes)
	require.NoError(t, err)
	out := map[string]error{}
	require.NoError(t, step.Commit(context.Background(), func(c *plan.Change, err error) {
		_, twice := out[c.ID]
		require.False(t, twice, "%s was answered twice", c.ID)
		out[c.ID] = err
	}))
	require.Len(t, out, len(changes))
	return out
}

func of(verb model.Verb, account string) *plan.Change {
	return &plan.Change{Verb: verb, Account: account}
}

func thing(verb model.Verb, account, name string) *plan.Change {
	kind := model.Group
	if verb == model.Grant || verb == model.Revoke {
		kind = model.Role
	}
	return &plan.Change{Verb: verb, Account: account, Thing: &plan.Thing{Kind: kind, Name: name}}
}

// update changes an attribute; without before, from whatever it is.
func update(account, attr string, before any, after string, a *live.Application) *plan.Change {
	if before == nil {
		part, err := a.Look(context.Background(), []string{account})
		if err == nil && part.Len() == 1 {
			is := part.Attr(a.App.Attr(attr), 0)
			before = is
		}
	}
	c := &plan.Change{Verb: model.Update, Account: account, Attribute: attr, After: plan.Text(after)}
	if before, ok := before.(string); ok {
		c.Before = plan.Text(before)
	}
	return c
}

// fetched is what a fetch shows of accounts, line by line.
func fetched(t *testing.T, a *live.Application) []string {
	t.Helper()
	_, err := a.Fetch(context.Background(), func(int) {})
	require.NoError(t, err)
	data, err := os.ReadFile(filepath.Join(a.Tree.Dir, "yard.jsonl"))
	require.NoError(t, err)
	var out []string
	for line := range strings.Lines(string(data)) {
		// The one who reads is there in some of the servers as well.
		if strings.Contains(line, `"account"`) && !strings.Contains(line, `"keeper"`) {
			out = append(out, strings.TrimSpace(line))
		}
	}
	slices.Sort(out)
	return out
}

// TestEachDriverDoesWhatItIsAsked: the same changes lead to the same state, whatever the
// protocol; names that mean something in one of them mean nothing.
func TestEachDriverDoesWhatItIsAsked(t *testing.T) {
	for name, open := range map[string]func(*testing.T) *reached{
		"scim":           func(t *testing.T) *reached { r, _ := overSCIM(t, standin.Faults{NoBulk: true}); return r },
		"scim with bulk": func(t *testing.T) *reached { r, _ := overSCIM(t, standin.Faults{}); return r },
		"scim by cursor, in small pages": func(t *testing.T) *reached {
			r, _ := overSCIM(t, standin.Faults{Cursor: true, Page: 2})
			return r
		},
		"scim without patch, filters and groups of users": func(t *testing.T) *reached {
			r, _ := overSCIM(t, standin.Faults{NoPatch: true, NoFilter: true, NoGroupsOfUsers: true})
			return r
		},
		"scim without groups of users": func(t *testing.T) *reached {
			r, _ := overSCIM(t, standin.Faults{NoGroupsOfUsers: true})
			return r
		},
		"scim that shows things late": func(t *testing.T) *reached {
			r, _ := overSCIM(t, standin.Faults{Late: 20 * time.Millisecond})
			return r
		},
		"a scim server by others": foreign,
		"ldap by StartTLS":        func(t *testing.T) *reached { r, _ := overLDAP(t, false); return r },
		"ldaps":                   func(t *testing.T) *reached { r, _ := overLDAP(t, true); return r },
		"postgres":                func(t *testing.T) *reached { r, _ := overPostgres(t); return r },
		"program":                 func(t *testing.T) *reached { r, _ := overProgram(t); return r },
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			r := open(t)
			a := r.app
			require.Equal(t, []string{
				`{"account":"ada","state":"open","attributes":{"displayName":"Ada Fell"},"groups":["crew"],"roles":["lead"]}`,
				`{"account":"bo","state":"open","attributes":{"displayName":"Bo Marsh"}}`,
				`{"account":"cy","state":"blocked","attributes":{"displayName":"Cy Quay"},"groups":["deck"]}`,
			}, fetched(t, a))
			attrs := plan.Fields(map[string]string{"userName": "dee", "displayName": "Dee Rudd"})
			hostile := plan.Fields(map[string]string{"userName": odd, "displayName": oddTitle})
			for _, step := range [][]*plan.Change{
				{
					{Verb: model.Create, Account: "dee", After: attrs}, {Verb: model.Create, Account: odd, After: hostile},
					{Verb: model.Create, Account: "eli", After: plan.Fields(map[string]string{"displayName": "Eli Ash"}), Blocked: true},
				},
				{
					thing(model.Join, "dee", "crew"), thing(model.Join, odd, "crew"),
					thing(model.Grant, odd, "lead"), thing(model.Join, "bo", "deck"),
				},
				{
					of(model.Suspend, "bo"), of(model.Restore, "cy"),
					thing(model.Leave, "ada", "crew"), thing(model.Revoke, "ada", "lead"),
				},
				{update("ada", "displayName", "Ada Fell", oddTitle, a), update(odd, "displayName", oddTitle, "", a)},
			} {
				for id, err := range carry(t, a, step...) {
					require.NoError(t, err, id)
				}
				time.Sleep(30 * time.Millisecond) // for the one that is late
			}
			quoted := strings.NewReplacer(`\`, `\\`, `"`, `\"`)
			require.ElementsMatch(t, []string{
				`{"account":"ada","state":"open","attributes":{"displayName":"` + quoted.Replace(oddTitle) + `"}}`,
				`{"account":"bo","state":"blocked","attributes":{"displayName":"Bo Marsh"},"groups":["deck"]}`,
				`{"account":"cy","state":"open","attributes":{"displayName":"Cy Quay"},"groups":["deck"]}`,
				`{"account":"dee","state":"open","attributes":{"displayName":"Dee Rudd"},"groups":["crew"]}`,
				`{"account":"eli","state":"blocked","attributes":{"displayName":"Eli Ash"}}`,
				`{"account":"` + quoted.Replace(odd) + `","state":"open","groups":["crew"],"roles":["lead"]}`,
			}, fetched(t, a))

			// What is so already is not asked for again, and what somebody else has changed is
			// not overwritten.
			r.rename("cy", "Cy of the Quay")
			time.Sleep(30 * time.Millisecond)
			errs := carry(
				t,
				a,
				of(model.Suspend, "bo"),
				thing(model.Join, "dee", "crew"),
				update("cy", "displayName", "Cy Quay", "Cy", a),
				&plan.Change{Verb: model.Create, Account: "ada", After: attrs},
				of(model.Suspend, "nobody"),
				of(model.Remove, "nobody"),
			)
			for i, want := range []string{
				"", "", `somebody has changed displayName to "Cy of the Quay" meanwhile, where the plan has "Cy Quay"`,
				"somebody has made the account ada meanwhile", "the account nobody is not there any more", "",
			} {
				id := slices.Sorted(mapKeys(errs))[i]
				if want == "" {
					require.NoError(t, errs[id], id)
					continue
				}
				var f *connect.Fault
				require.ErrorAs(t, errs[id], &f, id)
				require.Equal(t, connect.Conflict, f.Kind)
				require.Contains(t, f.Says, want)
			}

			for _, step := range [][]*plan.Change{
				{thing(model.Leave, odd, "crew"), thing(model.Revoke, odd, "lead"), thing(model.Join, "ada", "crew")},
				{of(model.Remove, odd), of(model.Remove, "eli")}, {update("dee", "userName", "dee", "dee.rudd", a)},
			} {
				for id, err := range carry(t, a, step...) {
					if strings.Contains(id, "revoke") && strings.HasPrefix(name, "ldap") {
						require.ErrorContains(t, err, "a group of this class needs a member")
						for id, err := range carry(t, a, thing(model.Grant, "bo", "lead"), thing(model.Revoke, odd, "lead")) {
							require.NoError(t, err, id)
						}
						continue
					}
					require.NoError(t, err, id)
				}
				time.Sleep(30 * time.Millisecond)
			}
			last := fetched(t, a)
			require.Len(t, last, 4)
			require.Contains(
				t,
				last,
				`{"account":"dee.rudd","state":"open","attributes":{"displayName":"Dee Rudd"},"groups":["crew"]}`,
			)
		})
	}
}

func mapKeys[V any](m map[string]V) func(func(string) bool) {
	return func(yield func(string) bool) {
		for k := range m {
			if !yield(k) {
				return
			}
		}
	}
}
