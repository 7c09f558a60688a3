package desired

import (
	"fmt"
	"net"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	yaml "go.yaml.in/yaml/v4"

	"pravet/internal/connect"
	"pravet/internal/connect/ways"
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

// liveSettings are those that all live ways have.
var liveSettings = []string{"firstPassword", "rate", "parallel", "tries", "timeout", "settle", "failures", "batch"}

// connect reads how changes reach an application.
func (d *doc) connect(root, n *yaml.Node) *connect.Spec {
	s := &connect.Spec{
		By: "files", Parallel: defaultParallel, Tries: defaultTries, Timeout: defaultTimeout, Page: defaultPage,
		Limits: connect.Limits{Failures: defaultFailures, Batch: defaultBatch, Settle: defaultSettle},
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
	way := ways.Named(d.oneOf(by, "by", ways.Names()...))
	if way == nil {
		return s
	}
	s.By, s.Live = way.Name, way.Live
	known := []string{"by"}
	for _, k := range way.Keys {
		known = append(known, k.Name)
	}
	if way.Live {
		known = append(known, liveSettings...)
	}
	f := d.fields(n, "connect", known...)
	d.limits(s, f)
	if n := f["firstPassword"]; n != nil {
		s.First, s.Pos = d.oneOf(n, "firstPassword", "random", "none") == "random", d.pos(n)
	}
	if way.Read != nil {
		way.Read(&connectReader{d, n, f}, s)
	}
	for _, e := range d.entries(f["columns"], "columns") {
		s.Columns = append(s.Columns, d.column(e))
	}
	return s
}

// limits reads how an application is to be dealt with.
func (d *doc) limits(s *connect.Spec, f map[string]*yaml.Node) {
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
func (d *doc) address(at *yaml.Node, f map[string]*yaml.Node, schemes ...string) string {
	example := schemes[0] + "://HOST"
	address := d.required(f, at, "url", "connect")
	if address == "" {
		return ""
	}
	n := f["url"]
	u, err := url.Parse(address)
	switch {
	case err != nil || u.Host == "":
		d.problem(n, "bad-address", "this is no address", "write it like "+example)
	case u.User != nil:
		address = ""
		d.problem(n, "secret-in-file", "an address holds no name and no password",
			"take them out; name them under connect, as env:NAME or file:PATH")
	case u.Scheme == "http" && slices.Contains(schemes, "https") && loopback(u):
	case !slices.Contains(schemes, u.Scheme):
		d.problem(n, "bad-address", fmt.Sprintf("%s:// is not expected here", u.Scheme),
			"write it like "+example+"; a connection that others could read is taken only to this machine itself")
	}
	return address
}

// loopback reports whether an address leads to this very machine.
func loopback(u *url.URL) bool {
	ip := net.ParseIP(u.Hostname())
	return u.Hostname() == "localhost" || ip != nil && ip.IsLoopback()
}

// signIn reads by what a caller is known to an application over HTTP.
func (d *doc) signIn(s *connect.Spec, at *yaml.Node, f map[string]*yaml.Node) {
	s.Token = d.reference(f["token"], "token")
	if n := f["client"]; n != nil {
		c := d.fields(n, "client", "id", "secret", "at", "scopes")
		s.Client = &connect.Client{ID: d.required(c, n, "id", "client"), Secret: d.reference(c["secret"], "secret")}
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
func (d *doc) account(s *connect.Spec, at *yaml.Node, f map[string]*yaml.Node) {
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

// A connectReader reads what is under connect for a way. It implements connect.Reader.
type connectReader struct {
	d  *doc
	at *yaml.Node
	f  map[string]*yaml.Node
}

var _ connect.Reader = (*connectReader)(nil)

// Has reports whether a key is there.
func (r *connectReader) Has(key string) bool { return r.f[key] != nil }

// Text is the text of a key, "" where it is not there.
func (r *connectReader) Text(key string) string { return r.d.text(r.f[key], key) }

// Required is the text of a key that must be there.
func (r *connectReader) Required(key string) string { return r.d.required(r.f, r.at, key, "connect") }

// Secret is a reference to a secret.
func (r *connectReader) Secret(key string) string { return r.d.reference(r.f[key], key) }

// OneOf is one of some words, "" where the key is not there.
func (r *connectReader) OneOf(key string, words ...string) string {
	if r.f[key] == nil {
		return ""
	}
	return r.d.oneOf(r.f[key], key, words...)
}

// Names are a list of names, or one.
func (r *connectReader) Names(key string) (out []string) {
	for _, name := range r.d.names(r.f[key], key) {
		out = append(out, name.Text)
	}
	return out
}

// Words are a list of texts.
func (r *connectReader) Words(key string) (out []string) {
	for _, word := range r.d.list(r.f[key], key) {
		out = append(out, r.d.text(word, "a word of "+key))
	}
	return out
}

// Fields are names with texts, whose attributes in braces have names.
func (r *connectReader) Fields(key string) (out []connect.Field) {
	for _, e := range r.d.entries(r.f[key], key) {
		text := r.d.text(e.value, e.name)
		names, _ := model.FieldsIn(text)
		for _, name := range names {
			if strings.TrimSpace(name) == "" {
				r.d.problem(e.value, "unknown-field", "a field in braces has no name", "write {userName}, for example")
			}
		}
		out = append(out, connect.Field{Name: e.name, Text: text})
	}
	return out
}

// Delimiter is what stands between cells.
func (r *connectReader) Delimiter(key string) rune {
	e := &export.Spec{Delimiter: ','}
	r.d.delimiter(r.f[key], e)
	return e.Delimiter
}

// Folder is a folder below the repository.
func (r *connectReader) Folder(key, usual string) string {
	if r.f[key] == nil {
		return usual
	}
	folder := r.Text(key)
	if err := r.d.tree.Allowed(folder); err != nil {
		r.Wrong(key, "outside", "the folder is outside of the repository", "name one below it")
	}
	return folder
}

// Address reads where an application is.
func (r *connectReader) Address(schemes ...string) string { return r.d.address(r.at, r.f, schemes...) }

// Account reads who signs in to a server.
func (r *connectReader) Account(s *connect.Spec) { r.d.account(s, r.at, r.f) }

// SignIn reads by what a caller is known to an application over HTTP.
func (r *connectReader) SignIn(s *connect.Spec) { r.d.signIn(s, r.at, r.f) }

// Directory reads where a directory has what.
func (r *connectReader) Directory() *export.Directory { return r.d.directory(r.at, r.f, "connect") }

// Wrong notes what is wrong at a key, "" for connect as a whole.
func (r *connectReader) Wrong(key, rule, says, hint string) {
	r.d.problem(orNode(r.f[key], r.at), rule, says, hint)
}
