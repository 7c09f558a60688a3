package connect_test

import (
	"context"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/require"

	"pravet/internal/connect"
	"pravet/internal/connect/live"
	"pravet/internal/connect/scim"
	"pravet/internal/prepared"
)

// foreign is the yard on a SCIM server that others have written.
func foreign(t *testing.T) *reached {
	t.Helper()
	in := func(id string) []any { return []any{map[string]any{"value": id}} }
	s, err := prepared.NewForeign([]map[string]any{
		{"id": "u1", "userName": "ada", "displayName": "Ada Fell", "active": true, "roles": in("lead")},
		{"id": "u2", "userName": "bo", "displayName": "Bo Marsh", "active": true},
		{"id": "u3", "userName": "cy", "displayName": "Cy Quay", "active": false},
	}, []map[string]any{
		{"id": "g1", "displayName": "crew", "members": in("u1")}, {"id": "g2", "displayName": "deck", "members": in("u3")},
	})
	require.NoError(t, err)
	web := httptest.NewServer(s)
	t.Cleanup(web.Close)
	a := yard(t, &connect.Spec{By: "scim", URL: web.URL, Token: "env:TOKEN"})
	a.Open = func(ctx context.Context) (live.Driver, error) {
		return scim.Open(
			ctx, live.Options{App: a.App, Spec: a.Spec, Secret: secretOf("any"), Keep: func(string) {}, Ask: a.Ask},
		)
	}
	return &reached{a, s.Rename}
}
