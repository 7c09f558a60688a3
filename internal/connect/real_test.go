package connect_test

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"pravet/internal/connect/postgres"
	"pravet/internal/standin"

	"github.com/go-ldap/ldap/v3"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"pravet/internal/connect"
	"pravet/internal/connect/live"
	"pravet/internal/connect/program"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
)

// TestWhatARoleOwnsIsHandedOverBeforeItGoes: in every database that is named, and a role that
// owns something, or something in a database that is not named, stays.
func TestWhatARoleOwnsIsHandedOverBeforeItGoes(t *testing.T) {
	r, server := overPostgres(t)
	app := r.app.App
	app.Attrs = append(app.Attrs, model.Attr{Name: model.Owned, Observed: true})
	app.OwnedSplit = "\n"
	app.Index()
	in := func(database string, sql string, into ...any) {
		c, err := pgx.ParseConfig(strings.TrimSuffix(server.URL, "postgres") + database + "?sslmode=disable")
		require.NoError(t, err)
		c.User, c.Password = server.User, server.Password
		conn, err := pgx.ConnectConfig(context.Background(), c)
		require.NoError(t, err)
		defer conn.Close(context.Background())
		if len(into) > 0 {
			require.NoError(t, conn.QueryRow(context.Background(), sql).Scan(into...))
			return
		}
		_, err = conn.Exec(context.Background(), sql)
		require.NoError(t, err)
	}
	in("postgres", "CREATE DATABASE elsewhere")
	in("sales", "ALTER DEFAULT PRIVILEGES FOR ROLE ada GRANT SELECT ON TABLES TO bo") // which REASSIGN OWNED leaves
	in("sales", `CREATE SCHEMA fares; CREATE TABLE fares."night list" (); ALTER TABLE fares."night list" OWNER TO ada;
		GRANT USAGE ON SCHEMA fares TO ada`)
	in("elsewhere", "CREATE TABLE hidden (); ALTER TABLE hidden OWNER TO ada")

	part, err := r.app.Look(context.Background(), []string{"ada"})
	require.NoError(t, err)
	owned := model.OwnedNames(part.Attr(app.Attr(model.Owned), 0), "\n")
	require.Equal(t, []string{"what is in database elsewhere", "what is in database sales"}, owned)
	hand := &plan.Change{Verb: model.HandOver, Account: "ada", Before: plan.List(owned), After: plan.Text("bo")}
	remove := &plan.Change{Verb: model.Remove, Account: "ada"}
	refused := func(c *plan.Change, says string) {
		for _, err := range carry(t, r.app, c) {
			var f *connect.Fault
			require.ErrorAs(t, err, &f)
			require.Equal(t, connect.Refused, f.Kind)
			require.Contains(t, f.Says, says)
		}
	}
	refused(hand, `the role owns something in the database "elsewhere"; add it to databases under connect`)
	refused(remove, "the role still owns something; hand it over first")
	of := r.app.Spec.Own.(*postgres.Server)
	of.Databases = append(of.Databases, "elsewhere")
	for _, c := range []*plan.Change{hand, thing(model.Leave, "ada", "crew"), thing(model.Revoke, "ada", "lead"), remove} {
		for id, err := range carry(t, r.app, c) {
			require.NoError(t, err, id)
		}
	}
	owner := ""
	in("sales", `SELECT tableowner FROM pg_tables WHERE tablename = 'night list'`, &owner)
	require.Equal(t, "bo", owner)
	part, err = r.app.Look(context.Background(), []string{"ada", "bo"})
	require.NoError(t, err)
	require.Equal(t, 1, part.Len(), "ada is gone")
}

// TestAProgramThatMisbehavesIsKilledAndAskedAgain: one that hangs, one that writes nonsense, one
// that ends, and one that answers what nobody asked.
func TestAProgramThatMisbehavesIsKilledAndAskedAgain(t *testing.T) {
	for name, c := range map[string]struct{ script, says string }{
		"hangs":    {`sleep 60 & echo $! >child; wait`, "the program gave no answer in time and was killed, 2 times"},
		"nonsense": {`echo hello`, "the program wrote a line that is not understood"},
		"ends":     {`exit 3`, "the program ended before it had answered, 2 times"},
		"other":    {`echo '{"id":9,"end":true}'`, "the program wrote an answer to number 9, which was not asked"},
		"unknown":  {`echo '{"id":1,"finished":true}'`, `"finished" is no key that is expected there`},
		"missing":  {"", "the program cannot be started"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			a := yard(
				t,
				&connect.Spec{By: "program", At: []string{"sh", "-c", "read line; echo told >&2; " + c.script}},
			)
			if c.script == "" {
				a.Spec.At = []string{"./no-such-program"}
			}
			a.Spec.Timeout, a.Spec.Tries = 20*time.Second, 2
			if name == "hangs" {
				a.Spec.Timeout = 300 * time.Millisecond
			}
			var said []string
			a.Open = func(ctx context.Context) (live.Driver, error) {
				return program.Open(ctx, live.Options{
					App: a.App, Spec: a.Spec, Dir: dir, Environ: os.Environ(), Ask: a.Ask,
					Log: func(text string) { said = append(said, text) },
				})
			}
			_, err := a.Fetch(context.Background(), func(int) {})
			require.ErrorContains(t, err, c.says)
			if c.script != "" {
				require.Contains(t, said, "told")
			}
			if name == "hangs" { // what it has started ends with it
				pid, err := os.ReadFile(filepath.Join(dir, "child"))
				require.NoError(t, err)
				require.Eventually(t, func() bool {
					state, err := os.ReadFile("/proc/" + strings.TrimSpace(string(pid)) + "/stat")
					return err != nil || strings.Contains(string(state), ") Z ")
				}, 2*time.Second, 10*time.Millisecond)
			}
		})
	}
}

// TestTheShellExampleIsAProgramToo reads and blocks accounts.
func TestTheShellExampleIsAProgramToo(t *testing.T) {
	state := filepath.Join(t.TempDir(), "accounts.txt")
	require.NoError(t, os.WriteFile(state, []byte("ada open\nbo blocked\n"), 0o600))
	example, err := filepath.Abs("../../examples/program/accounts.sh")
	require.NoError(t, err)
	a := yard(t, &connect.Spec{By: "program", At: []string{"sh", example, state}, Parallel: 1})
	a.Open = func(ctx context.Context) (live.Driver, error) {
		return program.Open(
			ctx,
			live.Options{App: a.App, Spec: a.Spec, Dir: t.TempDir(), Environ: os.Environ(), Ask: a.Ask},
		)
	}
	defer func() { require.NoError(t, a.Close()) }()
	errs := carry(t, a, of(model.Suspend, "ada"), of(model.Restore, "bo"), of(model.Remove, "ada"))
	require.NoError(t, errs["0 suspend ada"])
	require.NoError(t, errs["1 restore bo"])
	require.ErrorContains(t, errs["2 remove ada"], "accounts.sh blocks and opens accounts, and no more")
	require.Equal(t, []string{`{"account":"ada","state":"blocked"}`, `{"account":"bo","state":"open"}`}, fetched(t, a))
}

// TestARoleKeepsItsDaysAndItsLimit: the last day that counts and the limit of connections are
// written and read back, changed, and taken away.
func TestARoleKeepsItsDaysAndItsLimit(t *testing.T) {
	r, _ := overPostgres(t)
	app := r.app.App
	app.Attrs = append(app.Attrs, model.Attr{Name: "validUntil"}, model.Attr{Name: "connectionLimit"})
	app.Index()
	is := func() string {
		part, err := r.app.Look(context.Background(), []string{"dee"})
		require.NoError(t, err)
		return part.Attr(app.Attr("validUntil"), 0) + " " + part.Attr(app.Attr("connectionLimit"), 0)
	}
	set := func(attr string, before, after string) *plan.Change {
		return &plan.Change{
			Verb: model.Update, Account: "dee", Attribute: attr, Before: plan.Text(before), After: plan.Text(after),
		}
	}
	for _, step := range []struct {
		changes []*plan.Change
		want    string
	}{
		{[]*plan.Change{{Verb: model.Create, Account: "dee", After: plan.Fields(map[string]string{
			"displayName": "Dee", "validUntil": "2027-02-28", "connectionLimit": "3",
		})}}, "2027-02-28 3"},
		{[]*plan.Change{set("validUntil", "2027-02-28", "2028-02-29"), set("connectionLimit", "3", "0")}, "2028-02-29 0"},
		{[]*plan.Change{set("validUntil", "2028-02-29", ""), set("connectionLimit", "0", "")}, " "},
	} {
		for id, err := range carry(t, r.app, step.changes...) {
			require.NoError(t, err, id)
		}
		require.Equal(t, step.want, is())
	}
	for attr, want := range map[string]string{
		"validUntil": "which is no day", "connectionLimit": "which is no number", "title": "a role has no title",
	} {
		errs := carry(t, r.app, set(attr, "", "soon"))
		require.Len(t, errs, 1)
		for _, err := range errs {
			require.ErrorContains(t, err, want)
		}
	}
}

// TestGroupsWithinGroupsAreShown as a directory has them.
func TestGroupsWithinGroupsAreShown(t *testing.T) {
	r, server := overLDAP(t, true)
	conn := administers(t, server)
	nest := ldap.NewModifyRequest("cn=crew,ou=groups,"+suffix, nil)
	nest.Add("member", []string{"CN=Deck, ou=groups, " + suffix})
	require.NoError(t, conn.Modify(nest))
	state, err := r.app.Fetch(context.Background(), func(int) {})
	require.NoError(t, err)
	deck, crew := r.app.App.Thing(model.Group, "deck"), r.app.App.Thing(model.Group, "crew")
	require.Equal(t, []int32{crew}, state.Accounts.Nested[deck])
	require.Empty(t, state.Accounts.Nested[crew])
	require.Equal(t, []string{"crew", "deck"}, state.Accounts.Defined[model.Group])
}

// TestAMembershipKeepsItsTerms: the terms on which a role was held are shown, and given back with it, on each release.
func TestAMembershipKeepsItsTerms(t *testing.T) {
	r, server := overPostgres(t)
	require.NoError(t, server.Run(context.Background(), "GRANT crew TO ada WITH ADMIN OPTION"))
	app := r.app.App
	terms := func() string {
		part, err := r.app.Look(context.Background(), []string{"ada"})
		require.NoError(t, err)
		return part.With[model.Cell{Attr: app.Thing(model.Group, "crew")}]
	}
	require.Equal(t, "ADMIN OPTION", terms())
	leave := thing(model.Leave, "ada", "crew")
	leave.Before = plan.Text("ADMIN OPTION")
	for _, err := range carry(t, r.app, leave) {
		require.NoError(t, err)
	}
	require.Empty(t, terms())
	join := thing(model.Join, "ada", "crew")
	join.After = leave.Before
	for _, err := range carry(t, r.app, join) {
		require.NoError(t, err)
	}
	require.Equal(t, "ADMIN OPTION", terms())
	join = thing(model.Join, "bo", "crew")
	join.After = plan.Text("ADMIN OPTION; DROP ROLE ada")
	for _, err := range carry(t, r.app, join) {
		require.NoError(t, err)
	}
	part, err := r.app.Look(context.Background(), []string{"ada", "bo"})
	require.NoError(t, err)
	require.Equal(t, 2, part.Len())
	require.Len(t, part.With, 1, "bo got it on the usual terms")
}

// TestAReferralEndsAFetch, as accounts would be missing that are in another directory.
func TestAReferralEndsAFetch(t *testing.T) {
	r, server := overLDAP(t, true)
	conn := administers(t, server)
	add := ldap.NewAddRequest("ou=abroad,ou=people,"+suffix, []ldap.Control{ldap.NewControlManageDsaIT(true)})
	add.Attribute("objectClass", []string{"referral", "extensibleObject"})
	add.Attribute("ou", []string{"abroad"})
	add.Attribute("ref", []string{"ldap://abroad.example/ou=people,dc=abroad"})
	require.NoError(t, conn.Add(add))
	_, err := r.app.Fetch(context.Background(), func(int) {})
	require.ErrorContains(t, err, "is in another directory (ldap://abroad.example/ou=people,dc=abroad")
	require.ErrorContains(t, err, "the export before stays in place")
}

// administers is a connection to a directory as the one who may do everything.
func administers(t *testing.T, server *standin.Directory) *ldap.Conn {
	t.Helper()
	roots := x509.NewCertPool()
	pem, err := os.ReadFile(server.CA)
	require.NoError(t, err)
	require.True(t, roots.AppendCertsFromPEM(pem))
	conn, err := ldap.DialURL(
		server.Secure,
		ldap.DialWithTLSConfig(&tls.Config{RootCAs: roots, ServerName: "127.0.0.1"}),
	)
	require.NoError(t, err)
	t.Cleanup(func() { conn.Close() })
	require.NoError(t, conn.Bind(server.User, server.Password))
	return conn
}
