package ldap

import (
	"slices"

	"pravet/internal/connect"
	"pravet/internal/connect/live"
	"pravet/internal/export"
)

// Way is for directories that are reached over LDAP (RFC 4511).
var Way = &connect.Way{
	Name: "ldap", Live: true, TellsAge: true,
	Keys: slices.Concat(
		[]connect.Key{connect.URL, connect.CA}, connect.Login, []connect.Key{connect.Columns, connect.Page},
		connect.Directory,
	),
	Read: func(r connect.Reader, s *connect.Spec) {
		s.CA, s.URL = r.Text("ca"), r.Address("ldaps", "ldap")
		r.Account(s)
		s.Own = r.Directory()
	},
	Open: live.Opener(Open),
}

// directory is where a directory has what.
func directory(s *connect.Spec) *export.Directory { return s.Own.(*export.Directory) }
