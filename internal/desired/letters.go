package desired

import (
	"fmt"
	"net"
	"net/mail"
	"net/url"
	"slices"
	"strconv"
	"strings"

	yaml "go.yaml.in/yaml/v4"

	"pravet/internal/core/day"
	"pravet/internal/core/letter"
	"pravet/internal/core/model"
	"pravet/internal/secret"
)

// Letters say who is told of runs and of what falls due, and how that reaches them.
type Letters struct {
	From    string // an address, as RFC 5322 has it
	Domain  string // of that address
	Readers []Readers
	Ahead   day.Duration // how long before what falls due
	Ways    []LetterWay
	Text    letter.Text
	Pos     model.Pos
}

// Readers are some who get letters.
type Readers struct {
	Who string       // administrators, owners or managers
	To  []model.Name // of administrators: ids of people, or addresses
	Pos model.Pos
}

// A LetterWay is how letters reach people: one of Folder, SMTP and Webhook is set.
type LetterWay struct {
	Folder   string
	SMTP     string // host
	Port     int
	TLS      string // starttls, direct or none
	User     string // a reference to a secret, or ""
	Password string // likewise
	Webhook  string
	Secret   string // a reference to a secret
	CA       string // file of certificates to trust besides the system's, or ""
	Pos      model.Pos
}

// readLetters reads who is told what, and how.
func (r *Repo) readLetters(d *doc, n *yaml.Node) {
	if n == nil {
		return
	}
	f := d.fields(n, "letters", "from", "readers", "ahead", "by", "template")
	l := &Letters{Ahead: day.Duration{Days: 7}, Text: letter.Default(), Pos: d.pos(n)}
	l.From = d.required(f, n, "from", "the entry letters")
	if a, err := mail.ParseAddress(l.From); err != nil && l.From != "" {
		d.problem(
			f["from"],
			"bad-address",
			fmt.Sprintf("%q is no address", l.From),
			"write Pravet <pravet@ferries.example>",
		)
	} else if err == nil {
		_, l.Domain, _ = strings.Cut(a.Address, "@")
	}
	if f["ahead"] != nil {
		l.Ahead = d.duration(f["ahead"], "ahead", "for example P7D")
	}
	for _, n := range d.list(f["readers"], "readers") {
		l.Readers = append(l.Readers, r.readReaders(d, n))
	}
	if len(l.Readers) == 0 {
		d.problem(n, "missing-key", "letters have no readers", "add readers: [{who: owners}]")
	}
	for _, n := range d.list(f["by"], "by") {
		l.Ways = append(l.Ways, r.readWay(d, n))
	}
	if len(l.Ways) == 0 {
		d.problem(n, "missing-key", "nothing says how letters reach anybody", "add by: [{folder: outbox}]")
	}
	if t := f["template"]; t != nil {
		if text := r.fields(d.text(t, "template"), d.pos(t), letter.Fields()); text != "" {
			l.Text = letter.Parse(text)
		}
	}
	r.Letters = l
}

func (r *Repo) readReaders(d *doc, n *yaml.Node) Readers {
	f := d.fields(n, "an entry of readers", "who", "to")
	x := Readers{Who: d.oneOf(orNode(f["who"], n), "who", "administrators", "owners", "managers"), Pos: d.pos(n)}
	x.To = d.names(f["to"], "to")
	switch {
	case x.Who == "administrators" && len(x.To) == 0:
		d.problem(n, "missing-key", "the entry does not say who the administrators are", "add to: [ID, ADDRESS]")
	case x.Who != "administrators" && f["to"] != nil:
		d.problem(
			f["to"],
			"unknown-key",
			"to is for administrators; who the "+x.Who+" are follows from the files",
			"take it out",
		)
	}
	for _, to := range x.To {
		if !strings.Contains(to.Text, "@") {
			r.refs = append(r.refs, personRef{to.Text, to.Pos})
		} else if _, err := mail.ParseAddress(to.Text); err != nil {
			r.fail(
				to.Pos, "bad-address", fmt.Sprintf("%q is no address", to.Text),
				"write it as name@ferries.example, or name a person by id",
			)
		}
	}
	return x
}

// readWay reads one way of sending letters.
func (r *Repo) readWay(d *doc, n *yaml.Node) LetterWay {
	f := d.fields(n, "an entry of by", "folder", "smtp", "tls", "user", "password", "webhook", "secret", "ca")
	w := LetterWay{Pos: d.pos(n)}
	of := map[string][]string{
		"folder": {"folder"}, "smtp": {"smtp", "tls", "user", "password", "ca"}, "webhook": {"webhook", "secret", "ca"},
	}
	kind := ""
	for _, k := range []string{"folder", "smtp", "webhook"} {
		if f[k] != nil {
			kind = k
			break
		}
	}
	if kind == "" {
		d.problem(
			n,
			"missing-key",
			"the entry names no folder, smtp or webhook",
			"add folder: PATH, smtp: HOST:PORT, or webhook: URL",
		)
		return w
	}
	for key, value := range f {
		if !slices.Contains(of[kind], key) {
			d.problem(value, "unknown-key", fmt.Sprintf("%s does not belong to %s", key, kind), "take it out")
		}
	}
	switch kind {
	case "folder":
		w.Folder = d.text(f["folder"], "folder")
		if err := r.Tree.Allowed(w.Folder); err != nil {
			d.problem(
				f["folder"],
				"outside",
				fmt.Sprintf("the path %s is outside the repository", w.Folder),
				"keep the folder below it",
			)
		}
	case "smtp":
		d.readSMTP(f, &w)
	case "webhook":
		w.Webhook, w.Secret = d.text(f["webhook"], "webhook"), d.reference(f["secret"], "secret")
		u, err := url.Parse(w.Webhook)
		switch {
		case err != nil || u.Host == "" || u.User != nil:
			d.problem(
				f["webhook"],
				"bad-address",
				fmt.Sprintf("%q is no web address", w.Webhook),
				"write https://HOST/PATH",
			)
		case u.Scheme != "https" && !(u.Scheme == "http" && local(u.Hostname())):
			d.problem(f["webhook"], "not-secure", "letters go over TLS only", "write https://HOST/PATH")
		}
		if f["secret"] == nil {
			d.problem(
				n,
				"missing-key",
				"letters to a web address are signed, and the entry has no secret",
				"add secret: env:NAME",
			)
		}
	}
	w.CA = d.text(f["ca"], "ca")
	return w
}

// local reports whether a host is this machine.
func local(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

func (d *doc) readSMTP(f map[string]*yaml.Node, w *LetterWay) {
	at := d.text(f["smtp"], "smtp")
	host, port, err := net.SplitHostPort(at)
	n, numErr := strconv.Atoi(port)
	if err != nil || numErr != nil || host == "" || n < 1 || n > 65535 {
		d.problem(f["smtp"], "bad-address", fmt.Sprintf("%q is no host with a port", at), "write HOST:587")
		return
	}
	w.SMTP, w.Port, w.TLS = host, n, "starttls"
	if t := f["tls"]; t != nil {
		if w.TLS = d.oneOf(t, "tls", "starttls", "direct", "none"); w.TLS == "none" && !local(host) {
			d.problem(t, "not-secure", "only a server on this machine may do without TLS", "write starttls or direct")
		}
	}
	w.User, w.Password = d.reference(f["user"], "user"), d.reference(f["password"], "password")
	if (w.User == "") != (w.Password == "") {
		d.problem(
			orNode(f["user"], f["password"]),
			"missing-key",
			"user and password belong together",
			"add the other one",
		)
	}
}

// reference reads where a secret is.
func (d *doc) reference(n *yaml.Node, what string) string {
	if n == nil {
		return ""
	}
	ref := d.text(n, what)
	if err := secret.Check(ref); err != nil {
		d.problem(n, "bad-secret", what+": "+err.Error(), "")
		return ""
	}
	return ref
}
