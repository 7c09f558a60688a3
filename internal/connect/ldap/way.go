package ldap

import (
	"slices"

	"pravet/internal/connect"
	"pravet/internal/connect/live"
	"pravet/internal/export"
	"pravet/internal/form"
)

// Way is for directories that are reached over LDAP (RFC 4511).
var Way = &connect.Way{
	Name: "ldap", Live: true, TellsAge: true,
	Keys: slices.Concat(
		[]form.Key{connect.URL, connect.CA}, connect.Login, []form.Key{connect.Columns, connect.Page},
		export.DirectoryKeys,
	),
	Read: func(r connect.Reader, s *connect.Spec) {
		s.CA, s.URL = r.Text("ca"), r.Address("ldaps", "ldap")
		s.User, s.Password = r.Text("user"), r.Secret("password")
		s.Columns, s.Page = r.Columns("columns"), r.Whole("page", s.Page)
		s.Own = r.Directory()
	},
	Open: live.Opener(Open),
}

// directory is where a directory has what.
func directory(s *connect.Spec) *export.Directory { return s.Own.(*export.Directory) }
