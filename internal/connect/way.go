package connect

import (
	"context"
	"crypto/x509"
	"time"

	"pravet/internal/core/day"
	"pravet/internal/core/model"
	"pravet/internal/export"
	"pravet/internal/form"
	"pravet/internal/source"
)

// A Way is a way of reaching applications, as by under connect names it. Each is a package below
// this one, and package ways lists them.
type Way struct {
	Name string
	Live bool                         // applications are asked while they are in use; else their exports are read
	Keys []form.Key                   // what connect takes besides by, and besides what all live ways take
	Read func(r Reader, s *Spec)      // reads what only this way takes
	Open func(o *Opening) Application // nothing is connected to before the application is asked something

	Formats []string        // of exports, those that it can write; nil for all
	Shows   []export.Column // what it shows of accounts besides the columns that the file names
	EndsAll bool            // to suspend an account ends its sessions
	Longest int             // how long an account's name may be, in bytes; 0 for what all take
	// Refers reports whether an attribute of accounts names another account.
	Refers func(s *Spec, attr string) bool
	// Folds reports whether names that differ in case alone are one name, by the attribute that accounts are matched by.
	Folds func(match string) bool
}

// Keys that several ways have.
var (
	URL = form.Key{Name: "url", Is: form.Text("an address"), Need: true, Doc: "Where the application is"}
	CA  = form.Key{
		Name: "ca", Is: form.Text("the path of a file"), Doc: "Certificates to trust besides the system's",
	}
	Columns   = form.Key{Name: "columns", Is: form.In(export.ColumnsForm), Doc: "Where each attribute is found"}
	Page      = form.Key{Name: "page", Is: form.AtLeast(1), Doc: "How many accounts are read at a time; 200 unless set"}
	Variables = form.Key{
		Name: "variables", Is: form.Names("names of variables"),
		Doc: "Of the environment, which the program gets besides PATH, HOME and the like",
	}
	SignIn = []form.Key{
		{Name: "token", Is: form.Simple(form.Secret), Doc: "Where the token is that the application knows Pravet by"},
		{Name: "client", Is: form.In(clientForm), Doc: "How a token is asked for instead"},
	}
	Login = []form.Key{
		{Name: "user", Is: form.Text("a login, a DN, or where it is"), Need: true, Doc: "Who signs in"},
		{
			Name: "password", Is: form.Simple(form.Secret), Need: true, Doc: "By what",
			Lacks: "connect has no password", Add: "password: env:NAME",
		},
	}
	clientForm = &form.Object{
		Name: "client", Doc: "OAuth 2.0 client credentials (RFC 6749, section 4.4)",
		Keys: []form.Key{
			{Name: "id", Is: form.Text(""), Need: true, Doc: "The client's id"},
			{
				Name: "secret", Is: form.Simple(form.Secret), Need: true, Doc: "Where its secret is",
				Lacks: "client has no secret", Add: "secret: env:NAME",
			},
			{Name: "at", Is: form.Text("a web address"), Need: true, Doc: "Where tokens are asked for"},
			{Name: "scopes", Is: form.Names("scopes"), Doc: "Which scopes are asked for"},
		},
	}
)

// A Reader reads what an application's file says under connect. What is wrong is noted with its
// place, and read as if it were not there.
type Reader interface {
	Has(key string) bool
	Text(key string) string
	Word(key string) string // one of the words of the key, the first where it is not there
	Whole(key string, otherwise int) int
	Yes(key string) bool
	Columns(key string) []export.Column
	Names(key string) []string       // a list, or one
	Words(key string) []string       // a list of texts
	Fields(key string) []Field       // names with texts
	Delimiter(key string) rune       // a comma where nothing is said
	Folder(key, usual string) string // below the repository
	Secret(key string) string        // a reference to a secret
	// Address reads where an application is. A connection that others could read is taken only
	// to this very machine.
	Address(schemes ...string) string
	SignIn(s *Spec)               // by what a caller is known to an application over HTTP
	Directory() *export.Directory // where a directory has what
	// Wrong notes what is wrong at a key, "" for connect as a whole.
	Wrong(key, rule, says, hint string)
}

// A Field is a name with a text, in which attributes may stand in braces.
type Field struct{ Name, Text string }

// An Opening is an application that is to be reached, and what it may need for that.
type Opening struct {
	Tree    *source.Tree
	Export  *export.Spec
	App     *model.App
	Spec    *Spec
	Now     func() time.Time
	Zone    day.Zone                                              // by which moments are days
	Environ func(named []string) []string                         // of a program, with the variables that are named for it
	Keep    func(secret string)                                   // takes a secret that nobody has read or made here
	Clean   func(said string) string                              // what an application said, without secrets and not too long
	Secret  func(ctx context.Context, ref string) (string, error) // reads a secret
	Roots   func(ctx context.Context) (*x509.CertPool, error)     // nil for the system's
	First   func(account string) (string, error)                  // the first password of a new account; nil for none
	Key     func(account string) (string, error)                  // a new key for an account that has one; nil for none
	Log     func(text string)                                     // takes what programs say on standard error
}

// A Spec says how an application is reached, as its file says.
type Spec struct {
	By   string // the name of its Way
	Live bool   // it is asked while it is in use
	Pos  model.Pos

	URL      string
	CA       string // a file of certificates to trust besides the system's
	Token    string // a reference to a secret
	User     string // who signs in: a login, a DN, or a reference to a secret
	Password string // a reference to a secret
	Client   *Client
	Columns  []export.Column // our attribute: theirs
	First    bool            // new accounts get a random first password
	Page     int             // how many accounts are read at a time
	Whole    bool            // members are always shown whole, however round their number is

	Limits
	Rate     float64       // requests a second; 0: no limit
	Parallel int           // requests at a time
	Tries    int           // how often one request is tried
	Timeout  time.Duration // of one request
	Outage   time.Duration // how long an application may be out of order; 0 where that counts as tries

	Variables []string // of the environment, which a program gets besides the usual ones

	At  []string // where it is, where that is no address
	Own any      // what only its Way knows of
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
