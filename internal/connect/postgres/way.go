package postgres

import (
	"regexp"
	"slices"

	"pravet/internal/connect"
	"pravet/internal/connect/live"
	"pravet/internal/core/model"
	"pravet/internal/export"
	"pravet/internal/form"
)

// Way is for PostgreSQL servers, whose login roles are accounts.
var Way = &connect.Way{
	Name: "postgres", Live: true, EndsAll: true, Longest: 63, // NAMEDATALEN is 64
	Keys: slices.Concat([]form.Key{connect.URL, connect.CA}, connect.Login, []form.Key{
		{
			Name: "databases", Is: form.Names("databases"),
			Doc: "The databases in which what a role owns is handed over",
		},
		{Name: "groups", Is: form.OneOf("groups", "roles"), Doc: "Of PostgreSQL: as what group roles count"},
		{
			Name: "in", Is: form.Text("a role"),
			Doc: "Of PostgreSQL: accounts are the members of this role; without in, named or comment those who can sign in",
		},
		{Name: "named", Is: form.Text("a pattern"), Doc: "Of PostgreSQL: accounts are roles with such names (RE2)"},
		{Name: "comment", Is: form.Text("a pattern"), Doc: "Of PostgreSQL: accounts are roles with such a comment (RE2)"},
	}),
	Shows: []export.Column{{Attr: model.Owned, Name: "what it owns", Split: "\n"}},
	Read: func(r connect.Reader, s *connect.Spec) {
		s.CA, s.URL = r.Text("ca"), r.Address("postgres")
		s.User, s.Password = r.Text("user"), r.Secret("password")
		s.Own = &Server{
			Databases: r.Names("databases"), Groups: r.Word("groups"), In: r.Text("in"),
			Named: pattern(r, "named"), Comment: pattern(r, "comment"),
		}
	},
	Open: live.Opener(Open),
}

// A Server is what of a server is Pravet's business.
type Server struct {
	Databases []string // which hold what login roles own
	Groups    string   // which of our kinds a group role is: groups or roles

	// Which roles are accounts: the members of a role, or those with such names, or such comments; all that are said.
	In             string
	Named, Comment *regexp.Regexp
}

// Says reports whether the application's file says which roles are accounts.
func (s *Server) Says() bool { return s.In != "" || s.Named != nil || s.Comment != nil }

// Fits reports whether a role is an account, by its name, its comment and what it is a member of.
func (s *Server) Fits(name, about string, in []string) bool {
	return (s.In == "" || slices.Contains(in, s.In)) && (s.Named == nil || s.Named.MatchString(name)) &&
		(s.Comment == nil || s.Comment.MatchString(about))
}

func pattern(r connect.Reader, key string) *regexp.Regexp {
	text := r.Text(key)
	if text == "" {
		return nil
	}
	re, err := regexp.Compile(text)
	if err != nil {
		r.Wrong(key, "bad-pattern", "the pattern cannot be read: "+err.Error(), "write it as RE2 has it, for example ^u_")
	}
	return re
}

// of is what of a server is Pravet's business.
func of(s *connect.Spec) *Server { return s.Own.(*Server) }
