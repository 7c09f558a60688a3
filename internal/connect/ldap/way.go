package ldap

import (
	"slices"

	goldap "github.com/go-ldap/ldap/v3"

	"pravet/internal/connect"
	"pravet/internal/connect/live"
	"pravet/internal/export"
	"pravet/internal/form"
)

// Way is for directories that are reached over LDAP (RFC 4511).
var Way = &connect.Way{
	Name: "ldap", Live: true,
	Keys: slices.Concat(
		[]form.Key{connect.URL, connect.CA}, connect.Login, []form.Key{
			connect.Columns, connect.Page,
			{
				Name: "except", Is: form.Text("a filter"),
				Doc: "Of a directory: entries that are left alone as if they were not there (RFC 4515)",
			},
		},
		export.DirectoryKeys,
	),
	Read: func(r connect.Reader, s *connect.Spec) {
		s.CA, s.URL = r.Text("ca"), r.Address("ldaps", "ldap")
		s.User, s.Password = r.Text("user"), r.Secret("password")
		s.Columns, s.Page = r.Columns("columns"), r.Whole("page", s.Page)
		d := r.Directory()
		if d.Except = r.Text("except"); d.Except != "" {
			if _, err := goldap.CompileFilter(d.Except); err != nil {
				r.Wrong(
					"except", "bad-filter", "the filter cannot be read: "+plain(err), "write it like (cn=tmp*), as RFC 4515 has it",
				)
			}
		}
		s.Own = d
	},
	Open: live.Opener(Open),
}

// directory is where a directory has what.
func directory(s *connect.Spec) *export.Directory { return s.Own.(*export.Directory) }
