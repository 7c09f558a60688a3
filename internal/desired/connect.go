package desired

import (
	"fmt"
	"net"
	"net/url"
	"pravet/internal/way"
	"slices"
	"strconv"
	"strings"
	"time"

	yaml "go.yaml.in/yaml/v4"

	"pravet/internal/core/model"
	"pravet/internal/export"
)

// The limits of live applications where their files set none.
const (
	defaultParallel = 4
	defaultTries    = 6
	defaultPage     = 200
	defaultBatch    = 1000
	defaultFailures = 10
	defaultTimeout  = 30 * time.Second
	defaultSettle   = 10 * time.Second
	maxParallel     = 64
)

// settings are the keys of connect that each way has besides by.
var settings = map[string][]string{
	"files":    {},
	"scim":     {"url", "ca", "token", "client", "columns", "page"},
	"ldap":     append([]string{"url", "ca", "user", "password", "columns", "page"}, directoryKeys...),
	"postgres": {"url", "ca", "user", "password", "databases", "groups"},
	"program":  {"run"},
	"upload":   append([]string{"folder", "write", "delimiter", "fields", "columns"}, directoryKeys...),
}

// liveSettings are those that all live ways have.
var liveSettings = []string{"firstPassword", "rate", "parallel", "tries", "timeout", "settle", "failures", "batch"}

// connect reads how changes reach an application.
func (d *doc) connect(root, n *yaml.Node) *way.Spec {
	s := &way.Spec{
		By: "files", Parallel: defaultParallel, Tries: defaultTries, Timeout: defaultTimeout, Page: defaultPage,
		Limits: way.Limits{Failures: defaultFailures, Batch: defaultBatch, Settle: defaultSettle},
	}
	var by *yaml.Node
	if n != nil && n.Kind == yaml.MappingNode {
		for i := 0; i+1 < len(n.Content); i += 2 {
			if n.Content[i].Value == "by" {
				by = n.Content[i+1]
			}
		}
	}
	if by == nil {
		if n != nil {
			d.fields(n, "connect", "by")
		}
		d.problem(
			orNode(n, root),
			"missing-key",
			"the application does not say how changes get there",
			"add connect: {by: files}",
		)
		return s
	}
	s.Pos = d.pos(n)
	if by := d.oneOf(by, "by", way.Ways...); by != "" {
		s.By = by
	} else {
		return s
	}
	known := append([]string{"by"}, settings[s.By]...)
	if way.Live(s.By) {
		known = append(known, liveSettings...)
	}
	f := d.fields(n, "connect", known...)
	d.limits(s, f)
	if n := f["firstPassword"]; n != nil {
		s.First, s.Pos = d.oneOf(n, "firstPassword", "random", "none") == "random", d.pos(n)
	}
	switch s.By {
	case "scim":
		d.address(s, n, f, "https")
		d.signIn(s, n, f)
	case "ldap":
		d.address(s, n, f, "ldaps", "ldap")
		d.account(s, n, f)
		s.LDAP = d.directory(n, f, "connect")
	case "postgres":
		d.address(s, n, f, "postgres")
		d.account(s, n, f)
		s.Postgres = &way.Database{Groups: "groups"}
		for _, name := range d.names(f["databases"], "databases") {
			s.Postgres.Databases = append(s.Postgres.Databases, name.Text)
		}
		if g := f["groups"]; g != nil {
			s.Postgres.Groups = d.oneOf(g, "groups", "groups", "roles")
		}
	case "program":
		for _, word := range d.list(f["run"], "run") {
			s.Program = append(s.Program, d.text(word, "a word of run"))
		}
		if len(s.Program) == 0 {
			d.problem(n, "missing-key", "connect does not say which program to run", "add run: [PROGRAM, ARGUMENT]")
		}
		s.Parallel = 1
	case "upload":
		d.upload(s, n, f)
	}
	for _, e := range d.entries(f["columns"], "columns") {
		s.Columns = append(s.Columns, d.column(e))
	}
	return s
}

// limits reads how an application is to be dealt with.
func (d *doc) limits(s *way.Spec, f map[string]*yaml.Node) {
	for _, x := range []struct {
		key   string
		to    *int
		least int
	}{
		{"parallel", &s.Parallel, 1}, {"tries", &s.Tries, 1}, {"page", &s.Page, 1}, {"failures", &s.Failures, 0},
		{"batch", &s.Batch, 1},
	} {
		if n := f[x.key]; n != nil {
			*x.to = d.integer(n, x.key, x.least)
		}
	}
	if s.Parallel > maxParallel {
		d.problem(f["parallel"], "too-large", fmt.Sprintf("at most %d requests are sent at a time", maxParallel), "")
		s.Parallel = maxParallel
	}
	if n := f["rate"]; n != nil {
		v, err := strconv.ParseFloat(d.text(n, "rate"), 64)
		if err != nil || v <= 0 {
			d.problem(
				n,
				"wrong-type",
				"rate is expected to be how many requests a second may be sent",
				"for example 50",
			)
		} else {
			s.Rate = v
		}
	}
	d.seconds(f["timeout"], "timeout", &s.Timeout)
	d.seconds(f["settle"], "settle", &s.Settle)
}

// seconds reads a short duration: 500ms, 10s, 2m.
func (d *doc) seconds(n *yaml.Node, what string, to *time.Duration) {
	if n == nil {
		return
	}
	v, err := time.ParseDuration(d.text(n, what))
	if err != nil || v < 0 || what == "timeout" && v == 0 {
		d.problem(n, "wrong-duration", what+" is expected to be a time in seconds or minutes", "for example 10s")
		return
	}
	*to = v
}

// address reads where an application is. A connection that others could read is taken only
// to this very machine.
func (d *doc) address(s *way.Spec, at *yaml.Node, f map[string]*yaml.Node, schemes ...string) {
	s.CA = d.text(f["ca"], "ca")
	example := schemes[0] + "://HOST"
	s.URL = d.required(f, at, "url", "connect")
	if s.URL == "" {
		return
	}
	n := f["url"]
	u, err := url.Parse(s.URL)
	switch {
	case err != nil || u.Host == "":
		d.problem(n, "bad-address", "this is no address", "write it like "+example)
	case u.User != nil:
		s.URL = ""
		d.problem(n, "secret-in-file", "an address holds no name and no password",
			"take them out; name them under connect, as env:NAME or file:PATH")
	case u.Scheme == "http" && slices.Contains(schemes, "https") && loopback(u):
	case !slices.Contains(schemes, u.Scheme):
		d.problem(n, "bad-address", fmt.Sprintf("%s:// is not expected here", u.Scheme),
			"write it like "+example+"; a connection that others could read is taken only to this machine itself")
	}
}

// loopback reports whether an address leads to this very machine.
func loopback(u *url.URL) bool {
	ip := net.ParseIP(u.Hostname())
	return u.Hostname() == "localhost" || ip != nil && ip.IsLoopback()
}

// signIn reads by what a caller is known to an application over HTTP.
func (d *doc) signIn(s *way.Spec, at *yaml.Node, f map[string]*yaml.Node) {
	s.Token = d.reference(f["token"], "token")
	if n := f["client"]; n != nil {
		c := d.fields(n, "client", "id", "secret", "at", "scopes")
		s.Client = &way.Client{ID: d.required(c, n, "id", "client"), Secret: d.reference(c["secret"], "secret")}
		if c["secret"] == nil {
			d.problem(n, "missing-key", "client has no secret", "add secret: env:NAME")
		}
		s.Client.At = d.required(c, n, "at", "client")
		if u, err := url.Parse(s.Client.At); s.Client.At != "" &&
			(err != nil || u.Host == "" || u.Scheme != "https" && !loopback(u)) {
			d.problem(c["at"], "bad-address", "tokens are asked for by https", "write it like https://HOST/token")
		}
		for _, name := range d.names(c["scopes"], "scopes") {
			s.Client.Scopes = append(s.Client.Scopes, name.Text)
		}
	}
	switch {
	case s.Client != nil && f["token"] != nil:
		d.problem(f["token"], "said-twice", "connect names both a token and a client", "keep one of them")
	case s.Client == nil && f["token"] == nil:
		d.problem(at, "missing-key", "connect does not say by what the application knows Pravet",
			"add token: env:NAME, or client")
	}
}

// account reads who signs in to a server.
func (d *doc) account(s *way.Spec, at *yaml.Node, f map[string]*yaml.Node) {
	s.User = d.required(f, at, "user", "connect")
	s.Password = d.reference(f["password"], "password")
	if f["password"] == nil {
		d.problem(at, "missing-key", "connect has no password", "add password: env:NAME")
	}
}

// directoryKeys say where a directory has what.
var directoryKeys = []string{"people", "groups", "roles", "away", "class", "name", "member", "block"}

// directory reads where a directory has what; of names where that is said.
func (d *doc) directory(at *yaml.Node, f map[string]*yaml.Node, of string) *export.Directory {
	x := &export.Directory{
		People: d.required(f, at, "people", of), Groups: d.text(f["groups"], "groups"),
		Roles: d.text(f["roles"], "roles"), Away: d.text(f["away"], "away"),
		Class: []string{"inetOrgPerson"}, RDN: "uid", Member: "member",
	}
	if n := f["class"]; n != nil {
		x.Class = nil
		for _, name := range d.names(n, "class") {
			x.Class = append(x.Class, name.Text)
		}
	}
	if n := f["name"]; n != nil {
		x.RDN = d.text(n, "name")
	}
	if n := f["member"]; n != nil {
		x.Member = d.text(n, "member")
	}
	if n := f["block"]; n != nil {
		b := d.fields(n, "block", "attribute", "open", "blocked")
		x.Block = export.Block{
			Attribute: d.required(b, n, "attribute", "block"), Open: d.text(b["open"], "open"),
			Blocked: d.required(b, n, "blocked", "block"),
		}
	}
	for key, dn := range map[string]string{"people": x.People, "groups": x.Groups, "roles": x.Roles, "away": x.Away} {
		if dn != "" && !export.SameDN(dn, dn) {
			d.problem(
				f[key],
				"bad-address",
				fmt.Sprintf("%q is no DN", dn),
				"write it like ou=people,dc=ferries,dc=example",
			)
		}
	}
	if x.Block.Attribute == "" && x.Away == "" {
		d.problem(at, "missing-key", of+" does not say how this directory blocks an account",
			"add block: {attribute: NAME, blocked: VALUE}, or away: DN of a branch that blocked accounts are moved to")
	}
	return x
}

// upload reads what is written for somebody to load.
func (d *doc) upload(s *way.Spec, at *yaml.Node, f map[string]*yaml.Node) {
	x := &way.Upload{Folder: "uploads", Format: "csv", Delim: ','}
	if n := f["folder"]; n != nil {
		x.Folder = d.text(n, "folder")
		if err := d.tree.Allowed(x.Folder); err != nil {
			d.problem(n, "outside", "the folder is outside of the repository", "name one below it")
		}
	}
	if n := f["write"]; n != nil {
		x.Format = d.oneOf(n, "write", "csv", "ldif", "scim")
	}
	if n := f["delimiter"]; n != nil {
		e := &export.Spec{Delimiter: ','}
		d.delimiter(n, e)
		x.Delim = e.Delimiter
	}
	for _, e := range d.entries(f["fields"], "fields") {
		text := d.text(e.value, e.name)
		names, _ := model.FieldsIn(text)
		for _, name := range names {
			if strings.TrimSpace(name) == "" {
				d.problem(e.value, "unknown-field", "a field in braces has no name", "write {userName}, for example")
			}
		}
		x.Fields = append(x.Fields, way.Field{Header: e.name, Text: text})
	}
	if x.Format == "ldif" {
		s.LDAP = d.directory(at, f, "connect")
	}
	if x.Format == "csv" && len(x.Fields) == 0 && f["write"] != nil {
		d.problem(at, "missing-key", "connect does not say which columns the application loads",
			"add fields: {HEADER: \"{userName}\"}")
	}
	s.Upload = x
}
