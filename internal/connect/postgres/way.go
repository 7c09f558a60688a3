package postgres

import (
	"slices"

	"pravet/internal/connect"
	"pravet/internal/connect/live"
	"pravet/internal/core/model"
	"pravet/internal/export"
	"pravet/internal/form"
)

// Way is for PostgreSQL servers, whose login roles are accounts.
var Way = &connect.Way{
	Name: "postgres", Live: true, Longest: 63, // NAMEDATALEN is 64
	Keys: slices.Concat([]form.Key{connect.URL, connect.CA}, connect.Login, []form.Key{
		{
			Name: "databases", Is: form.Names("databases"),
			Doc: "The databases in which what a role owns is handed over",
		},
		{Name: "groups", Is: form.OneOf("groups", "roles"), Doc: "Of PostgreSQL: as what group roles count"},
	}),
	Shows: []export.Column{{Attr: model.Owned, Name: "what it owns", Split: "\n"}},
	Read: func(r connect.Reader, s *connect.Spec) {
		s.CA, s.URL = r.Text("ca"), r.Address("postgres")
		s.User, s.Password = r.Text("user"), r.Secret("password")
		s.Own = &Server{Databases: r.Names("databases"), Groups: r.Word("groups")}
	},
	Open: live.Opener(Open),
}

// A Server is what of a server is Pravet's business.
type Server struct {
	Databases []string // which hold what login roles own
	Groups    string   // which of our kinds a group role is: groups or roles
}

// of is what of a server is Pravet's business.
func of(s *connect.Spec) *Server { return s.Own.(*Server) }
