package desired

import (
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	yaml "go.yaml.in/yaml/v4"

	"pravet/internal/connect"
	"pravet/internal/connect/ways"
	"pravet/internal/core/model"
	"pravet/internal/export"
	"pravet/internal/form"
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
	defaultOutage   = 5 * time.Minute
	maxParallel     = 64
)

// liveKeys are those that all live ways have.
var liveKeys = []form.Key{
	{
		Name: "firstPassword", Is: form.OneOf("none", "random"), Doc: "Whether new accounts get a first password",
	},
	{Name: "rate", Is: form.Simple(form.Positive), Doc: "How many requests a second may be sent; any number unless set"},
	{
		Name: "parallel", Is: form.Shape{Kind: form.Whole, Least: 1, Most: maxParallel},
		Doc: "How many requests are sent at a time; 4 unless set",
	},
	{Name: "tries", Is: form.AtLeast(1), Doc: "How often one request is tried; 6 unless set"},
	{
		Name: "outage", Is: form.Simple(form.Time),
		Doc: "How long an application that is out of order is waited for; 5m unless set, and not at all where tries is",
	},
	{Name: "timeout", Is: form.Simple(form.Time), Doc: "How long one request may take; 30s unless set"},
	{
		Name: "settle", Is: form.Simple(form.Time), Doc: "How long what was changed may take to be seen; 10s unless set",
	},
	{
		Name: "failures", Is: form.AtLeast(0),
		Doc: "So many changes that come to nothing end the run, 0 for any number; 10 unless set",
	},
	{Name: "batch", Is: form.AtLeast(1), Doc: "How many changes are carried out between two looks; 1000 unless set"},
}

// connectForm has the keys of connect, those of all ways together.
var connectForm = allWays()

func allWays() *form.Object {
	out := &form.Object{
		Name: "connect", Doc: "How changes get there; see connecting.md",
		Keys: []form.Key{{Name: "by", Is: form.OneOf(ways.Names()...), Need: true, Doc: "In which way"}},
	}
	for _, way := range ways.All {
		for _, k := range wayForm(way).Keys[1:] {
			if out.Key(k.Name) == nil {
				k.Need, k.With = false, nil
				out.Keys = append(out.Keys, k)
			}
			at := out.Key(k.Name)
			if !at.Is.Has(k.Is.Kind) {
				at.Is, at.Doc = form.Any(at.Is, k.Is), at.Doc+". "+k.Doc
			}
			at.With = append(at.With, form.Cond{Key: "by", Value: way.Name})
		}
	}
	return out
}

// wayForm has the keys of connect for one way.
func wayForm(way *connect.Way) *form.Object {
	out := &form.Object{Name: "connect", Keys: []form.Key{{Name: "by", Is: form.OneOf(ways.Names()...)}}}
	out.Keys = append(out.Keys, way.Keys...)
	if way.Live {
		out.Keys = append(out.Keys, liveKeys...)
	}
	return out
}

// connect reads how changes reach an application.
func (d *doc) connect(of values) *connect.Spec {
	s := &connect.Spec{
		By: "files", Parallel: defaultParallel, Tries: defaultTries, Timeout: defaultTimeout, Page: defaultPage,
		Limits: connect.Limits{Failures: defaultFailures, Batch: defaultBatch, Settle: defaultSettle},
	}
	n := of.node("connect")
	by := find(n, "by")
	if by == nil {
		if n != nil {
			d.object(n, &form.Object{Name: "connect", Keys: []form.Key{{Name: "by"}}})
		}
		if n == nil && !of.has("environments") {
			return s // which is said already
		}
		d.problem(
			of.place("connect"), "missing-key", "the application does not say how changes get there",
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
	f := d.object(n, wayForm(way))
	if way.Live {
		f.limits(s)
		if f.has("firstPassword") {
			s.First, s.Pos = f.word("firstPassword") == "random", f.pos("firstPassword")
		}
	}
	if way.Read != nil {
		way.Read(&connectReader{f}, s)
	}
	return s
}

// find is the value of a key of a mapping, nil where there is none.
func find(n *yaml.Node, key string) *yaml.Node {
	if n == nil || n.Kind != yaml.MappingNode {
		return nil
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value == key {
			return n.Content[i+1]
		}
	}
	return nil
}

// limits reads how an application is to be dealt with.
func (v values) limits(s *connect.Spec) {
	s.Parallel, s.Tries = v.whole("parallel", s.Parallel), v.whole("tries", s.Tries)
	if !v.has("tries") {
		s.Outage = defaultOutage
	}
	s.Outage = v.time("outage", s.Outage, 0)
	s.Failures, s.Batch = v.whole("failures", s.Failures), v.whole("batch", s.Batch)
	s.Rate = v.number("rate", "for example 50")
	s.Timeout, s.Settle = v.time("timeout", s.Timeout, 1), v.time("settle", s.Settle, 0)
}

// time is a short time, otherwise where it is not there.
func (v values) time(key string, otherwise, least time.Duration) time.Duration {
	v.shape(key, form.Time)
	n := v.at[key]
	if n == nil {
		return otherwise
	}
	x, err := time.ParseDuration(v.d.text(n, key))
	if err != nil || x < least {
		v.d.problem(n, "wrong-duration", key+" is expected to be a time in seconds or minutes", "for example 10s")
		return otherwise
	}
	return x
}

// address reads where an application is. A connection that others could read is taken only
// to this very machine. What stands behind the host, other than a path, is for keys of connect to say.
func (v values) address(schemes ...string) string {
	address := v.text("url")
	u := v.d.address(v.node("url"), address, schemes...)
	switch {
	case u == nil:
		return ""
	case u.RawQuery != "" || u.Fragment != "":
		v.d.problem(v.node("url"), "bad-address", "the address goes on after its ? or #, and that would not be taken",
			"end it before; what more is to be said of the application are keys of connect, and TLS is always spoken")
	case schemes[0] == "ldaps" && u.Path != "" && u.Path != "/":
		v.d.problem(v.node("url"), "bad-address", "the address goes on after its host, and that would not be taken",
			"end it there; people, groups and roles say which branches are meant")
	}
	return address
}

// tell are parts of names of parameters whose values are secrets.
var tell = []string{"pass", "pwd", "token", "secret", "key", "auth", "sig", "cred", "jwt", "code"}

// address reads an address by one of some schemes; nil where there is none. It has no secret in it, and is never
// quoted, as it may have.
func (d *doc) address(n *yaml.Node, text string, schemes ...string) *url.URL {
	if text == "" {
		return nil
	}
	example := schemes[0] + "://HOST"
	u, err := url.Parse(text)
	switch {
	case err != nil || u.Host == "":
		d.problem(n, "bad-address", "this is no address", "write it like "+example)
		return nil
	case u.User != nil:
		d.problem(n, "secret-in-file", "an address holds no name and no password",
			"take them out; name them by keys of their own, as env:NAME or file:PATH")
		return nil
	case u.Scheme == "http" && slices.Contains(schemes, "https") && local(u.Hostname()):
	case !slices.Contains(schemes, u.Scheme):
		d.problem(n, "bad-address", fmt.Sprintf("%s:// is not expected here", u.Scheme),
			"write it like "+example+"; a connection that others could read is taken only to this machine itself")
	}
	for name := range u.Query() {
		if slices.ContainsFunc(tell, func(s string) bool { return strings.Contains(strings.ToLower(name), s) }) {
			d.problem(n, "secret-in-file", fmt.Sprintf("an address holds no secret, and %s looks like one", name),
				"take it out, and name it by a key of its own, as env:NAME or file:PATH")
			return nil
		}
	}
	return u
}

// signIn reads by what a caller is known to an application over HTTP.
func (v values) signIn(s *connect.Spec) {
	d := v.d
	s.Token = v.secret("token")
	if v.has("client") {
		c := v.within("client")
		s.Client = &connect.Client{
			ID: c.text("id"), Secret: c.secret("secret"), At: c.text("at"), Scopes: c.texts("scopes"),
		}
		d.address(c.node("at"), s.Client.At, "https")
	}
	switch {
	case s.Client != nil && v.has("token"):
		d.problem(v.node("token"), "said-twice", "connect names both a token and a client", "keep one of them")
	case s.Client == nil && !v.has("token"):
		d.problem(v.n, "missing-key", "connect does not say by what the application knows Pravet",
			"add token: env:NAME, or client")
	}
}

// directory reads where a directory has what.
func (v values) directory() *export.Directory {
	d := v.d
	x := &export.Directory{
		People: v.text("people"), Groups: v.text("groups"), Roles: v.text("roles"), Away: v.text("away"),
		Class: []string{"inetOrgPerson"}, RDN: "uid", Keep: v.text("keep"),
	}
	if x.People == "" {
		d.problem(v.n, "missing-key", v.what+" has no people", "add people: DN")
	}
	if v.has("class") {
		x.Class = v.texts("class")
	}
	if v.has("name") {
		x.RDN = v.text("name")
	}
	if v.has("member") {
		x.Member = v.text("member")
	}
	if v.has("block") {
		b := v.within("block")
		x.Block = export.Block{Attribute: b.text("attribute"), Open: b.text("open"), Blocked: b.text("blocked")}
	}
	for key, dn := range map[string]string{
		"people": x.People, "groups": x.Groups, "roles": x.Roles, "away": x.Away, "keep": x.Keep,
	} {
		if dn != "" && !export.SameDN(dn, dn) {
			d.problem(
				v.node(key), "bad-address", fmt.Sprintf("%q is no DN", dn), "write it like ou=people,dc=ferries,dc=example",
			)
		}
	}
	if x.Block.Attribute == "" && x.Away == "" {
		d.problem(v.n, "missing-key", v.what+" does not say how this directory blocks an account",
			"add block: {attribute: NAME, blocked: VALUE}, or away: DN of a branch that blocked accounts are moved to")
	}
	return x
}

// A connectReader reads what is under connect for a way. It implements connect.Reader.
type connectReader struct{ v values }

var _ connect.Reader = (*connectReader)(nil)

// Has reports whether a key is there.
func (r *connectReader) Has(key string) bool { return r.v.has(key) }

// Text is the text of a key, "" where it is not there.
func (r *connectReader) Text(key string) string { return r.v.text(key) }

// Secret is a reference to a secret.
func (r *connectReader) Secret(key string) string { return r.v.secret(key) }

// Word is one of the words of a key, the first where it is not there.
func (r *connectReader) Word(key string) string { return r.v.word(key) }

// Whole is a whole number, otherwise where it is not there.
func (r *connectReader) Whole(key string, otherwise int) int { return r.v.whole(key, otherwise) }

// Yes is true or false, false where it is not there.
func (r *connectReader) Yes(key string) bool { return r.v.yes(key) }

// Names are texts, each once.
func (r *connectReader) Names(key string) []string { return r.v.texts(key) }

// Words are a list of texts.
func (r *connectReader) Words(key string) (out []string) {
	for _, word := range r.v.list(key) {
		out = append(out, r.v.d.text(word, "a word of "+key))
	}
	return out
}

// Columns are where each attribute is found.
func (r *connectReader) Columns(key string) (out []export.Column) {
	for _, e := range r.v.entries(key) {
		out = append(out, r.v.d.column(e))
	}
	return out
}

// Fields are names with texts, whose attributes in braces have names.
func (r *connectReader) Fields(key string) (out []connect.Field) {
	for _, e := range r.v.entries(key) {
		text := r.v.d.text(e.value, e.name)
		names, _ := model.FieldsIn(text)
		for _, name := range names {
			if strings.TrimSpace(name) == "" {
				r.v.d.problem(e.value, "unknown-field", "a field in braces has no name", "write {userName}, for example")
			}
		}
		out = append(out, connect.Field{Name: e.name, Text: text})
	}
	return out
}

// Delimiter is what stands between cells.
func (r *connectReader) Delimiter(key string) rune { return r.v.delimiter(key, ',') }

// Folder is a folder below the repository.
func (r *connectReader) Folder(key, usual string) string {
	if !r.v.has(key) {
		return usual
	}
	folder := r.Text(key)
	if err := r.v.d.tree.Allowed(folder); err != nil {
		r.Wrong(key, "outside", "the folder is outside of the repository", "name one below it")
	}
	return folder
}

// Address reads where an application is.
func (r *connectReader) Address(schemes ...string) string { return r.v.address(schemes...) }

// SignIn reads by what a caller is known to an application over HTTP.
func (r *connectReader) SignIn(s *connect.Spec) { r.v.signIn(s) }

// Directory reads where a directory has what.
func (r *connectReader) Directory() *export.Directory { return r.v.directory() }

// Wrong notes what is wrong at a key, "" for connect as a whole.
func (r *connectReader) Wrong(key, rule, says, hint string) {
	at := r.v.n
	if key != "" {
		at = r.v.place(key)
	}
	r.v.d.problem(at, rule, says, hint)
}
