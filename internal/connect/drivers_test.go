package connect_test

import (
	"context"
	"crypto/x509"
	"fmt"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"pravet/internal/connect"
	"pravet/internal/connect/ldap"
	"pravet/internal/connect/live"
	"pravet/internal/connect/postgres"
	"pravet/internal/connect/program"
	"pravet/internal/connect/scim"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/export"
	"pravet/internal/source"
	"pravet/internal/standin"
)

// odd is an account's name that means something in DNs, filters, SQL, shells and CSV.
const odd = `o'neil, "x"+*(y)\=;#<z>$(id)`

// oddTitle is a value like that, with control sequences and a direction mark.
const oddTitle = "'; DROP ROLE ada; -- \\ \u202e<b>&amp;"

// A reached is an application that a driver reaches, and how somebody at its console
// changes the name that it displays for an account.
type reached struct {
	app    *live.Application
	rename func(account, displayName string)
}

// yard is the application that all drivers reach in the same state:
//
//	ada  open     Ada Fell   crew, lead
//	bo   open     Bo Marsh
//	cy   blocked  Cy Quay    deck
func yard(t *testing.T, spec *connect.Spec) *live.Application {
	t.Helper()
	app := &model.App{ID: "yard", Match: "userName", Attrs: []model.Attr{
		{Name: "userName", Person: "userName"}, {Name: "displayName", Person: "displayName"},
	}, Things: []model.Thing{
		{Kind: model.Group, Name: "crew", Seats: -1}, {Kind: model.Group, Name: "deck", Seats: -1},
		{Kind: model.Role, Name: "lead", Seats: -1},
	}}
	app.Index()
	tree, err := source.OpenTree(t.TempDir(), nil)
	require.NoError(t, err)
	t.Cleanup(func() { tree.Close() })
	spec.Page, spec.Parallel, spec.Tries, spec.Timeout = max(spec.Page, 2), max(spec.Parallel, 4), 4, 5*time.Second
	spec.Limits = connect.Limits{Batch: 100, Settle: 2 * time.Second}
	return &live.Application{
		Tree: tree, App: app, Spec: spec,
		Export: &export.Spec{Format: "jsonl", Paths: []model.Name{{Text: "yard.jsonl"}}},
	}
}

func secretOf(text string) func(context.Context, string) (string, error) {
	return func(context.Context, string) (string, error) { return text, nil }
}

// overSCIM is the yard played by a stand-in.
func overSCIM(t *testing.T, faults standin.Faults) (*reached, *standin.Server) {
	t.Helper()
	s, err := standin.New(standin.Options{Token: "open sesame", Faults: faults})
	require.NoError(t, err)
	person := func(name, shown string, active bool, roles ...any) string {
		return s.AddUser(map[string]any{"userName": name, "displayName": shown, "active": active, "roles": roles})
	}
	ada := person("ada", "Ada Fell", true, map[string]any{"value": "lead"})
	person("bo", "Bo Marsh", true)
	cy := person("cy", "Cy Quay", false)
	s.AddGroup("crew", ada)
	s.AddGroup("deck", cy)
	web := httptest.NewServer(s)
	t.Cleanup(web.Close)
	a := yard(t, &connect.Spec{By: "scim", URL: web.URL, Token: "env:TOKEN"})
	a.Open = func(ctx context.Context) (live.Driver, error) {
		return scim.Open(ctx, live.Options{App: a.App, Spec: a.Spec, Secret: secretOf("open sesame"), Ask: a.Ask})
	}
	t.Cleanup(func() { require.NoError(t, a.Close()) })
	return &reached{a, func(account, shown string) {
		s.Change(account, func(r map[string]any) { r["displayName"] = shown })
	}}, s
}

const suffix = "dc=marrowick,dc=example"

// yardLDIF is the yard as a directory.
const yardLDIF = `dn: dc=marrowick,dc=example
objectClass: organization
objectClass: dcObject
o: Marrowick Ferries
dc: marrowick

dn: ou=people,dc=marrowick,dc=example
objectClass: organizationalUnit
ou: people

dn: ou=away,dc=marrowick,dc=example
objectClass: organizationalUnit
ou: away

dn: ou=groups,dc=marrowick,dc=example
objectClass: organizationalUnit
ou: groups

dn: ou=roles,dc=marrowick,dc=example
objectClass: organizationalUnit
ou: roles

dn: uid=ada,ou=people,dc=marrowick,dc=example
objectClass: inetOrgPerson
uid: ada
cn: Ada Fell
sn: Fell
displayName: Ada Fell

dn: uid=bo,ou=people,dc=marrowick,dc=example
objectClass: inetOrgPerson
uid: bo
cn: Bo Marsh
sn: Marsh
displayName: Bo Marsh

dn: uid=cy,ou=away,dc=marrowick,dc=example
objectClass: inetOrgPerson
uid: cy
cn: Cy Quay
sn: Quay
displayName: Cy Quay

dn: cn=crew,ou=groups,dc=marrowick,dc=example
objectClass: groupOfNames
cn: crew
member: uid=ada,ou=people,dc=marrowick,dc=example

dn: cn=deck,ou=groups,dc=marrowick,dc=example
objectClass: groupOfNames
cn: deck
member: cn=admin,dc=marrowick,dc=example
member: uid=cy,ou=away,dc=marrowick,dc=example

dn: cn=lead,ou=roles,dc=marrowick,dc=example
objectClass: groupOfNames
cn: lead
member: uid=ada,ou=people,dc=marrowick,dc=example
`

// overLDAP is the yard in a real directory, where those who are blocked are moved away and
// locked. Where secure, it is reached by LDAPS, else by StartTLS.
func overLDAP(t *testing.T, secure bool) (*reached, *standin.Directory) {
	t.Helper()
	s, err := standin.StartDirectory(context.Background(), t.TempDir(), suffix, yardLDIF)
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, s.Stop()) })
	spec := &connect.Spec{By: "ldap", URL: s.URL, User: s.User, Password: "env:PASSWORD", Own: &export.Directory{
		People: "ou=people," + suffix, Groups: "ou=groups," + suffix, Roles: "ou=roles," + suffix, Away: "ou=away," + suffix,
		Class: []string{"inetOrgPerson"}, RDN: "uid", Member: "member",
		Block: export.Block{Attribute: "pwdAccountLockedTime", Blocked: "000001010000Z"},
	}}
	if secure {
		spec.URL = s.Secure
	}
	a := yard(t, spec)
	roots := x509.NewCertPool()
	pem, err := os.ReadFile(s.CA)
	require.NoError(t, err)
	require.True(t, roots.AppendCertsFromPEM(pem))
	a.Open = func(ctx context.Context) (live.Driver, error) {
		return ldap.Open(
			ctx,
			live.Options{App: a.App, Spec: spec, Roots: roots, Secret: secretOf(s.Password), Ask: a.Ask},
		)
	}
	t.Cleanup(func() { require.NoError(t, a.Close()) })
	return &reached{a, func(account, shown string) {
		other := yard(t, spec)
		other.Open = a.Open
		carry(t, other, update(account, "displayName", nil, shown, other))
		require.NoError(t, other.Close())
	}}, s
}

// overPostgres is the yard as roles of a real server.
func overPostgres(t *testing.T) (*reached, *standin.Database) {
	t.Helper()
	folder, err := os.MkdirTemp("", "pravet-pg-") // whose folders other users may enter
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, os.RemoveAll(folder)) })
	s, err := standin.StartDatabase(context.Background(), folder)
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, s.Stop()) })
	require.NoError(t, s.Run(
		context.Background(),
		"CREATE ROLE crew",
		"CREATE ROLE deck",
		"CREATE ROLE lead",
		"CREATE ROLE ada LOGIN",
		"CREATE ROLE bo LOGIN",
		"CREATE ROLE cy",
		"COMMENT ON ROLE ada IS 'Ada Fell'",
		"COMMENT ON ROLE bo IS 'Bo Marsh'",
		"COMMENT ON ROLE cy IS 'Cy Quay'",
		"GRANT crew, lead TO ada",
		"GRANT deck TO cy",
		"CREATE DATABASE sales",
	))
	a := yard(t, &connect.Spec{By: "postgres", URL: s.URL, User: s.User, Password: "env:PASSWORD", Own: &postgres.Server{
		Groups: "groups", Databases: []string{"postgres", "sales"},
	}})
	a.Open = func(ctx context.Context) (live.Driver, error) {
		return postgres.Open(ctx, live.Options{App: a.App, Spec: a.Spec, Secret: secretOf(s.Password), Ask: a.Ask})
	}
	t.Cleanup(func() { require.NoError(t, a.Close()) })
	return &reached{a, func(account, shown string) {
		name := pgx.Identifier{account}.Sanitize()
		require.NoError(t, s.Run(context.Background(), "COMMENT ON ROLE "+name+" IS '"+shown+"'"))
	}}, s
}

// overProgram is the yard behind a program in Python that keeps it in a file.
func overProgram(t *testing.T) (*reached, string) {
	t.Helper()
	state := filepath.Join(t.TempDir(), "yard.json")
	require.NoError(t, os.WriteFile(state, []byte(`{"ada": {"state": "open", "attributes": {"displayName": "Ada Fell"},
		"group": ["crew"], "role": ["lead"]}, "bo": {"state": "open", "attributes": {"displayName": "Bo Marsh"}},
		"cy": {"state": "blocked", "attributes": {"displayName": "Cy Quay"}, "group": ["deck"]}}`), 0o600))
	example, err := filepath.Abs("../../examples/program/accounts.py")
	require.NoError(t, err)
	a := yard(t, &connect.Spec{By: "program", At: []string{"python3", example, state}, Parallel: 1})
	a.Open = func(ctx context.Context) (live.Driver, error) {
		return program.Open(
			ctx,
			live.Options{App: a.App, Spec: a.Spec, Dir: t.TempDir(), Environ: os.Environ(), Ask: a.Ask},
		)
	}
	t.Cleanup(func() { require.NoError(t, a.Close()) })
	return &reached{a, func(account, shown string) {
		data, err := os.ReadFile(state)
		require.NoError(t, err)
		before := map[string]string{"ada": "Ada Fell", "bo": "Bo Marsh", "cy": "Cy Quay"}[account]
		require.NoError(t, os.WriteFile(state, []byte(strings.Replace(string(data), before, shown, 1)), 0o600))
		require.NoError(t, a.Close())
	}}, state
}

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
