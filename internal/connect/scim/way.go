package scim

import (
	"slices"

	"pravet/internal/connect"
	"pravet/internal/connect/live"
	"pravet/internal/form"
)

// Way is for applications that are reached over SCIM (RFC 7644).
var Way = &connect.Way{
	Name: "scim", Live: true,
	Keys: slices.Concat([]form.Key{connect.URL, connect.CA}, connect.SignIn, []form.Key{connect.Columns, connect.Page}),
	Read: func(r connect.Reader, s *connect.Spec) {
		s.CA, s.URL = r.Text("ca"), r.Address("https")
		r.SignIn(s)
		s.Columns, s.Page = r.Columns("columns"), r.Whole("page", s.Page)
	},
	Open: live.Opener(Open),
}
