// Package way is how an application is reached, as its file says: by what protocol, where,
// as whom, and within which limits. It knows no protocol itself.
package way

import (
	"time"

	"pravet/internal/core/model"
	"pravet/internal/export"
)

// Ways are the ways in which changes reach an application.
var Ways = []string{"files", "scim", "ldap", "postgres", "program", "upload"}

// Live reports whether applications that are reached in a way are asked while they are in
// use.
func Live(by string) bool { return by != "files" && by != "upload" }

// A Spec says how an application is reached, as its file says.
type Spec struct {
	By  string // one of Ways
	Pos model.Pos

	URL      string
	CA       string // a file of certificates to trust besides the system's
	Token    string // a reference to a secret
	User     string // who signs in: a login, a DN, or a reference to a secret
	Password string // a reference to a secret
	Client   *Client
	Columns  []export.Column // our attribute: theirs
	First    bool            // new accounts get a random first password
	Page     int             // how many accounts are read at a time

	Limits
	Rate     float64       // requests a second; 0: no limit
	Parallel int           // requests at a time
	Tries    int           // how often one request is tried
	Timeout  time.Duration // of one request

	LDAP     *export.Directory
	Postgres *Database
	Program  []string // the program and its arguments
	Upload   *Upload
}

// Limits are how a run deals with a live application.
type Limits struct {
	Failures int           // so many changes that come to nothing end the run; 0: no limit
	Batch    int           // how many changes are carried out between two looks
	Settle   time.Duration // how long what was carried out may take to be seen
}

// A Client signs in by OAuth 2.0 client credentials (RFC 6749 §4.4).
type Client struct {
	ID, Secret string // references to secrets, or ID as it is
	At         string // URL of the token endpoint
	Scopes     []string
}

// A Database says which databases of a server hold what login roles own.
type Database struct {
	Databases []string
	Groups    string // which of our kinds a group role is: groups or roles
}

// Upload says what is written for somebody to load.
type Upload struct {
	Folder string
	Format string // csv, ldif or scim
	Fields []Field
	Delim  rune
}

// A Field is a column of an upload file: its header, and what is in it, with attributes in
// braces.
type Field struct{ Header, Text string }
