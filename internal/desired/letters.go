package desired

import (
	"fmt"
	"net"
	"net/mail"
	"slices"
	"strconv"
	"strings"

	yaml "go.yaml.in/yaml/v4"

	"pravet/internal/core/day"
	"pravet/internal/core/letter"
	"pravet/internal/core/model"
	"pravet/internal/form"
	"pravet/internal/secret"
)

var (
	lettersForm = &form.Object{
		Name: "the entry letters", Doc: "Who is told of runs and of what falls due, and how; see letters.md",
		Keys: []form.Key{
			{Name: "from", Is: form.Text("an address"), Need: true, Doc: "From whom letters come"},
			{
				Name: "readers", Is: form.ListOf(1, form.In(readersForm)), Need: true, Doc: "Who gets letters",
				Lacks: "letters have no readers", Add: "readers: [{who: owners}]",
			},
			{
				Name: "remind", Is: form.For("P3D"),
				Doc: "After how long deciders are told again of what waits for them; P3D unless set",
			},
			{
				Name: "pages", Is: form.Simple(form.Bool),
				Doc: "Letters to deciders carry a page of what waits for them, on which they can decide; see review.md",
			},
			{Name: "ahead", Is: form.For("P7D"), Doc: "How long before removals and expiries are told of; P7D unless set"},
			{
				Name: "by", Is: form.ListOf(1, form.In(letterWayForm)), Need: true, Doc: "How letters reach people",
				Lacks: "nothing says how letters reach anybody", Add: "by: [{folder: outbox}]",
			},
			{
				Name: "environments", Is: form.Names("environments"),
				Doc: "For which letters are sent; live alone unless set. Those of others say which in their subject",
			},
			{Name: "template", Is: form.Text("the path of a file"), Doc: "The text"},
		},
	}
	readersForm = &form.Object{
		Name: "an entry of readers", Doc: "Some who get letters",
		Keys: []form.Key{
			{Name: "who", Is: form.OneOf("administrators", "owners", "managers", "deciders"), Need: true, Doc: "What they are told of follows from it"},
			{
				Name: "to", Is: form.Names("ids of people, or addresses"), Doc: "Who they are; the others follow from the files",
				With: []form.Cond{{Key: "who", Value: "administrators"}},
			},
		},
	}
	letterWayForm = &form.Object{
		Name: "an entry of by", Doc: "One way in which letters are sent",
		Keys: []form.Key{
			{Name: "folder", Is: form.Text("the path of a folder"), Doc: "Letters are files there"},
			{Name: "smtp", Is: form.Like("HOST:PORT", `:[0-9]+$`), Doc: "A mail server"},
			{
				Name: "tls", Is: form.OneOf("starttls", "direct", "none"), With: form.With("smtp"),
				Doc: "How it is spoken to; none on this machine only",
			},
			{Name: "user", Is: form.Simple(form.Secret), With: form.With("password"), Doc: "Who signs in there"},
			{Name: "password", Is: form.Simple(form.Secret), With: form.With("user"), Doc: "By what"},
			{Name: "webhook", Is: form.Like("a web address", `^https?://`), Doc: "Letters are posted there, signed"},
			{Name: "secret", Is: form.Simple(form.Secret), With: form.With("webhook"), Doc: "By what they are signed"},
			{
				Name: "token", Is: form.Simple(form.Secret), With: form.With("webhook"),
				Doc: "What goes along as Authorization: Bearer",
			},
			{
				Name: "ca", Is: form.Text("the path of a file"), With: form.With("smtp", "webhook"),
				Doc: "Certificates to trust besides the system's",
			},
		},
		Some: []form.Choice{{
			Keys: []string{"folder", "smtp", "webhook"}, Just: true,
			Says: "the entry takes one of folder, smtp and webhook", Hint: "add folder: PATH, smtp: HOST:PORT, or webhook: URL",
		}},
		Apart: [][2]string{{"user", "folder"}, {"user", "webhook"}},
	}
)

// Letters say who is told of runs and of what falls due, and how that reaches them.
type Letters struct {
	From    string // an address, as RFC 5322 has it
	Domain  string // of that address
	Readers []Readers
	Ahead   day.Duration // how long before what falls due
	Remind  day.Duration // after how long deciders are told again
	Pages   bool         // they get a page of what waits for them
	Ways    []LetterWay
	For     []model.Name // environments; none for live alone
	Text    letter.Text
	Pos     model.Pos
}

// Readers are some who get letters.
type Readers struct {
	Who string       // administrators, owners, managers or deciders
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
	Token    string // likewise, or ""
	CA       string // file of certificates to trust besides the system's, or ""
	Pos      model.Pos
}

// readLetters reads who is told what, and how.
func (r *Repo) readLetters(of values) {
	d, n := of.d, of.node("letters")
	if n == nil {
		return
	}
	f := of.within("letters")
	l := &Letters{Ahead: day.Duration{Days: 7}, Remind: day.Duration{Days: 3}, Text: letter.Default(), Pos: d.pos(n)}
	l.From = f.text("from")
	if a, err := mail.ParseAddress(l.From); err != nil && l.From != "" {
		d.problem(
			f.node("from"),
			"bad-address",
			fmt.Sprintf("%q is no address", l.From),
			"write Pravet <pravet@ferries.example>",
		)
	} else if err == nil {
		_, l.Domain, _ = strings.Cut(a.Address, "@")
	}
	l.For = f.names("environments")
	if f.has("remind") {
		l.Remind = f.duration("remind")
	}
	l.Pages = f.yes("pages")
	if f.has("ahead") {
		l.Ahead = f.duration("ahead")
	}
	for _, n := range f.list("readers") {
		l.Readers = append(l.Readers, r.readReaders(d, n))
	}
	for _, n := range f.list("by") {
		l.Ways = append(l.Ways, r.readWay(d, n))
	}
	if t := f.node("template"); t != nil {
		if text := r.fields(d.text(t, "template"), d.pos(t), letter.Fields()); text != "" {
			l.Text = letter.Parse(text)
		}
	}
	r.Letters = l
}

func (r *Repo) readReaders(d *doc, n *yaml.Node) Readers {
	f := d.object(n, readersForm)
	x := Readers{Who: f.word("who"), Pos: d.pos(n)}
	x.To = f.names("to")
	if x.Who == "administrators" && len(x.To) == 0 {
		d.problem(n, "missing-key", "the entry does not say who the administrators are", "add to: [ID, ADDRESS]")
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
	f := d.object(n, letterWayForm)
	w := LetterWay{Pos: d.pos(n)}
	switch {
	case f.has("folder"):
		w.Folder = f.text("folder")
		if err := r.Tree.Allowed(w.Folder); err != nil {
			d.problem(
				f.node("folder"),
				"outside",
				fmt.Sprintf("the path %s is outside the repository", w.Folder),
				"keep the folder below it",
			)
		}
	case f.has("smtp"):
		readSMTP(f, &w)
	case f.has("webhook"):
		w.Webhook, w.Secret, w.Token = f.text("webhook"), f.secret("secret"), f.secret("token")
		d.address(f.node("webhook"), w.Webhook, "https")
		if !f.has("secret") {
			d.problem(
				n,
				"missing-key",
				"letters to a web address are signed, and the entry has no secret",
				"add secret: env:NAME",
			)
		}
	}
	w.CA = f.text("ca")
	return w
}

// local reports whether a host is this machine.
func local(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

func readSMTP(f values, w *LetterWay) {
	d := f.d
	at := f.text("smtp")
	host, port, err := net.SplitHostPort(at)
	n, numErr := strconv.Atoi(port)
	if err != nil || numErr != nil || host == "" || n < 1 || n > 65535 {
		d.problem(f.node("smtp"), "bad-address", fmt.Sprintf("%q is no host with a port", at), "write HOST:587")
		return
	}
	w.SMTP, w.Port, w.TLS = host, n, "starttls"
	if t := f.node("tls"); t != nil {
		if w.TLS = f.word("tls"); w.TLS == "none" && !local(host) {
			d.problem(t, "not-secure", "only a server on this machine may do without TLS", "write starttls or direct")
		}
	}
	w.User, w.Password = f.secret("user"), f.secret("password")
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

// Sends reports whether letters are sent for an environment.
func (l *Letters) Sends(environment string) bool {
	if len(l.For) == 0 {
		return environment == Usual
	}
	return slices.ContainsFunc(l.For, func(n model.Name) bool { return n.Text == environment })
}

// Variables are those of the environment in which the secrets of this repository are.
func (r *Repo) Variables() (out []string) {
	note := func(refs ...string) {
		for _, ref := range refs {
			if name, ok := strings.CutPrefix(ref, "env:"); ok && !slices.Contains(out, name) {
				out = append(out, name)
			}
		}
	}
	for _, c := range r.Connects {
		if c == nil {
			continue
		}
		note(c.Token, c.Password)
		if c.Client != nil {
			note(c.Client.Secret)
		}
	}
	if r.Record != nil {
		note(r.Record.Password)
	}
	if r.Letters != nil {
		for i := range r.Letters.Ways {
			w := &r.Letters.Ways[i]
			note(w.User, w.Password, w.Secret, w.Token)
		}
	}
	return out
}
