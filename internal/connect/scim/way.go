package scim

import (
	"slices"

	"pravet/internal/connect"
	"pravet/internal/connect/live"
	"pravet/internal/export"
	"pravet/internal/form"
)

// Way is for applications that are reached over SCIM (RFC 7644).
var Way = &connect.Way{
	Name: "scim", Live: true,
	Keys: slices.Concat([]form.Key{connect.URL, connect.CA}, connect.SignIn, []form.Key{
		connect.Columns, connect.Page,
		{
			Name: "whole", Is: form.Simple(form.Bool),
			Doc: "Of SCIM: members of groups are always shown whole, however round their number is",
		},
	}),
	Read: func(r connect.Reader, s *connect.Spec) {
		s.CA, s.URL = r.Text("ca"), r.Address("https")
		r.SignIn(s)
		s.Columns, s.Page = r.Columns("columns"), r.Whole("page", s.Page)
		s.Whole = r.Yes("whole")
	},
	Refers: func(s *connect.Spec, attr string) bool {
		path := export.SCIMPath(&export.Spec{Format: "scim", Columns: s.Columns}, attr)
		return slices.Equal(path, managerPath)
	},
	Folds: func(match string) bool { return match == "userName" || match == "email" }, // caseExact is false (RFC 7643 §4.1.1)
	Open:  live.Opener(Open),
}
