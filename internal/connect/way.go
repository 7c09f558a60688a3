package connect

import (
	"context"
	"crypto/x509"
	"time"

	"pravet/internal/core/model"
	"pravet/internal/export"
	"pravet/internal/source"
)

// A Way is a way of reaching applications, as by under connect names it. Each is a package below
// this one, and package ways lists them.
type Way struct {
	Name string
	Live bool                         // applications are asked while they are in use; else their exports are read
	Keys []Key                        // what connect takes besides by, and besides what all live ways take
	Read func(r Reader, s *Spec)      // reads what only this way takes
	Open func(o *Opening) Application // nothing is connected to before the application is asked something

	Formats  []string        // of exports, those that it can write; nil for all
	Shows    []export.Column // what it shows of accounts besides the columns that the file names
	TellsAge bool            // it shows how old the key of an account is
}

// A Key is something that connect says of a way.
type Key struct {
	Name   string
	Doc    string // one line, for the schema
	Schema string // its JSON Schema besides that; "" for a text
}

// Schemas of keys.
const (
	secretSchema = `{"type": "string", "pattern": "^(env|file|command):.+"}`
	textsSchema  = `{"type": "array", "items": {"type": "string"}}`
)

// Keys that several ways have.
var (
	URL     = Key{Name: "url", Doc: "Where the application is"}
	CA      = Key{Name: "ca", Doc: "A file of certificates to trust besides the system's"}
	Columns = Key{"columns", "Our attribute: their column, or the path in a SCIM resource", KeptSchema}
	Page    = Key{"page", "How many accounts are read at a time", `{"type": "integer", "minimum": 1}`}
	SignIn  = []Key{secret("token"), {"client", "OAuth 2.0 client credentials", KeptSchema}}
	Login   = []Key{{Name: "user", Doc: "Who signs in"}, secret("password")}
	Groups  = Key{
		Name: "groups", Doc: "Of a directory: DN of the branch of groups; of PostgreSQL: as what group roles count, " +
			"groups or roles",
	}
	Directory = []Key{
		{Name: "people", Doc: "DN of the branch of accounts"},
		Groups,
		{Name: "roles", Doc: "DN of the branch of roles"},
		{Name: "away", Doc: "DN of the branch that blocked accounts are moved to"},
		{"class", "Object classes of an account; inetOrgPerson unless given", textsSchema},
		{Name: "name", Doc: "The attribute that names an account; uid unless given"},
		{Name: "member", Doc: "The attribute that lists members; member unless given"},
		{"block", "How the directory blocks an account", KeptSchema},
	}
)

// KeptSchema stands for a schema that the file of schemas spells out.
const KeptSchema = "kept"

func secret(name string) Key {
	return Key{name, "Where the secret is: env:NAME, file:PATH or command:PROGRAM", secretSchema}
}

// A Reader reads what an application's file says under connect. What is wrong is noted with its
// place, and read as if it were not there.
type Reader interface {
	Has(key string) bool
	Text(key string) string
	Required(key string) string
	OneOf(key string, words ...string) string
	Names(key string) []string       // a list, or one
	Words(key string) []string       // a list of texts
	Fields(key string) []Field       // names with texts
	Delimiter(key string) rune       // a comma where nothing is said
	Folder(key, usual string) string // below the repository
	Secret(key string) string        // a reference to a secret
	// Address reads where an application is. A connection that others could read is taken only
	// to this very machine.
	Address(schemes ...string) string
	Account(s *Spec)              // who signs in to a server
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
	Environ func() []string                                       // of programs
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

	Limits
	Rate     float64       // requests a second; 0: no limit
	Parallel int           // requests at a time
	Tries    int           // how often one request is tried
	Timeout  time.Duration // of one request

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
