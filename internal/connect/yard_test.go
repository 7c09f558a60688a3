package connect_test

import (
	"context"
	"crypto/x509"
	"net/http/httptest"
	"os"
	"path/filepath"
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
		return scim.Open(
			ctx, live.Options{App: a.App, Spec: a.Spec, Secret: secretOf("open sesame"), Keep: func(string) {}, Ask: a.Ask},
		)
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
		Class: []string{"inetOrgPerson"}, RDN: "uid",
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
			live.Options{App: a.App, Spec: spec, Roots: roots, Secret: secretOf(s.Password), Keep: func(string) {}, Ask: a.Ask},
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
		return postgres.Open(
			ctx, live.Options{App: a.App, Spec: a.Spec, Secret: secretOf(s.Password), Keep: func(string) {}, Ask: a.Ask},
		)
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
