package connect_test

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"os"
	"strings"
	"testing"

	"filippo.io/age"
	"github.com/go-ldap/ldap/v3"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	ours "pravet/internal/connect/ldap"
	"pravet/internal/connect/live"
	"pravet/internal/connect/postgres"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/secret"
)

// TestAFirstPasswordSignsIn to a directory, which then wants another one, and to a PostgreSQL
// server, which never sees the password itself.
func TestAFirstPasswordSignsIn(t *testing.T) {
	first, err := secret.NewPassword()
	require.NoError(t, err)
	made := func(account string) (string, error) {
		require.Equal(t, "dee", account)
		return first, nil
	}
	dee := &plan.Change{
		Verb: model.Create, Account: "dee", After: plan.Fields(map[string]string{"displayName": "Dee Rudd"}),
	}

	r, directory := overLDAP(t, false)
	roots := x509.NewCertPool()
	pem, err := os.ReadFile(directory.CA)
	require.NoError(t, err)
	require.True(t, roots.AppendCertsFromPEM(pem))
	r.app.Open = func(ctx context.Context) (live.Driver, error) {
		return ours.Open(ctx, live.Options{
			App: r.app.App, Spec: r.app.Spec, Roots: roots, Secret: secretOf(directory.Password), Keep: func(string) {}, Ask: r.app.Ask, First: made,
			Key: func(string) (string, error) { return "brand-new", nil },
		})
	}
	for id, err := range carry(t, r.app, dee) {
		require.NoError(t, err, id)
	}
	conn, err := ldap.DialURL(
		directory.Secure,
		ldap.DialWithTLSConfig(&tls.Config{RootCAs: roots, ServerName: "127.0.0.1"}),
	)
	require.NoError(t, err)
	defer conn.Close()
	res, err := conn.SimpleBind(&ldap.SimpleBindRequest{
		Username: "uid=dee,ou=people," + suffix, Password: first, Controls: []ldap.Control{
			ldap.NewControlBeheraPasswordPolicy(),
		},
	})
	require.NoError(t, err)
	policy, ok := ldap.FindControl(res.Controls, ldap.ControlTypeBeheraPasswordPolicy).(*ldap.ControlBeheraPasswordPolicy)
	require.True(t, ok)
	require.Equal(t, int8(ldap.BeheraChangeAfterReset), policy.Error, "the directory wants another password first")

	// And its key is made anew: the old one is good no more, and the directory says since when.
	since := func() string {
		part, err := r.app.Look(context.Background(), []string{"dee"})
		require.NoError(t, err)
		return part.Attr(r.app.App.Attr(model.KeySince), 0)
	}
	r.app.App.Attrs = append(r.app.App.Attrs, model.Attr{Name: model.KeySince, Observed: true})
	r.app.App.Index()
	require.NoError(t, r.app.Close())
	today := since()
	require.Regexp(t, `^\d{4}-\d\d-\d\d$`, today)
	for id, err := range carry(t, r.app, &plan.Change{
		Verb: model.Update, Account: "dee", Attribute: model.KeySince, Before: plan.Text(today), After: plan.Text(
			today + " again",
		),
	}) {
		require.NoError(t, err, id)
	}
	require.NoError(t, conn.Bind("uid=dee,ou=people,"+suffix, "brand-new"))
	for password, signs := range map[string]bool{"brand-new": true, first: false} {
		yes, known := r.app.SignsIn(context.Background(), "dee", password)
		require.True(t, known)
		require.Equal(t, signs, yes, password)
	}
	_, known := r.app.SignsIn(context.Background(), "nobody", "brand-new")
	require.False(t, known)
	require.Error(t, conn.Bind("uid=dee,ou=people,"+suffix, first))
	require.Equal(t, today, since())

	p, database := overPostgres(t)
	p.app.Open = func(ctx context.Context) (live.Driver, error) {
		return postgres.Open(ctx, live.Options{
			App: p.app.App, Spec: p.app.Spec, Secret: secretOf(database.Password), Keep: func(string) {}, Ask: p.app.Ask, First: made,
		})
	}
	for id, err := range carry(t, p.app, dee) {
		require.NoError(t, err, id)
	}
	sign := func(password string) error {
		c, err := pgx.ParseConfig(database.URL + "?sslmode=disable")
		require.NoError(t, err)
		c.User, c.Password = "dee", password
		conn, err := pgx.ConnectConfig(context.Background(), c)
		if err == nil {
			defer conn.Close(context.Background())
		}
		return err
	}
	require.NoError(t, sign(first))
	require.Error(t, sign(first+"x"))
	require.NotContains(t, strings.Join(database.Statements(), "\n"), first)
}

// TestAFirstPasswordIsForItsRecipientsAlone.
func TestAFirstPasswordIsForItsRecipientsAlone(t *testing.T) {
	identity, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	other, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	to, err := secret.Recipient(identity.Recipient().String())
	require.NoError(t, err)
	f := secret.First{Application: "yard", Account: "dee", Password: "abcde-fghij"}
	var sealed bytes.Buffer
	require.NoError(t, secret.Seal(&sealed, []age.Recipient{to}, f))
	require.NotContains(t, sealed.String(), "abcde")
	got, err := secret.Open(sealed.Bytes(), identity)
	require.NoError(t, err)
	require.Equal(t, f, got)
	_, err = secret.Open(sealed.Bytes(), other)
	require.Error(t, err)
	_, err = secret.Recipient(identity.String())
	require.ErrorContains(t, err, "this is a secret key, and a recipient is expected; replace that key")
	_, err = secret.Recipient("somebody")
	require.ErrorContains(t, err, "a recipient begins with age1")
	seen := map[string]bool{}
	for range 100 {
		p, err := secret.NewPassword()
		require.NoError(t, err)
		require.Len(t, p, 23)
		require.False(t, seen[p])
		seen[p] = true
	}
}
