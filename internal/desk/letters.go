package desk

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"

	"pravet/internal/core/day"
	"pravet/internal/core/letter"
	"pravet/internal/delivery"
	"pravet/internal/desired"
	"pravet/internal/ledger"
	"pravet/internal/source"
)

// Due are letters that are due now.
type Due struct {
	Parcels []delivery.Parcel
	Told    *delivery.Told // what readers were told before
	Without []string       // readers who cannot be written to, in words
	Zone    day.Zone
}

// Letters are those of the parcels.
func (d *Due) Letters() (out []letter.Letter) {
	for _, p := range d.Parcels {
		out = append(out, p.Letter)
	}
	return out
}

// Due are the letters that are due now; nil where nobody is told anything.
func (d *Desk) Due() (*Due, error) {
	s, err := d.Sound()
	if err != nil || letterless(s.Repo) != "" {
		return nil, err
	}
	l, err := d.needed()
	if err != nil {
		return nil, err
	}
	return d.due(l, d.ways(nil))
}

// ways are those by which letters go. With failed their secrets are read, and a way whose
// secret cannot be had is left out and told.
func (d *Desk) ways(failed func(error)) (out []delivery.Way) {
	repo := d.state.Repo
	for i := range repo.Letters.Ways {
		w, err := d.way(repo, &repo.Letters.Ways[i], failed != nil)
		if err != nil {
			failed(err)
			continue
		}
		out = append(out, w)
	}
	return out
}

func (d *Desk) way(repo *desired.Repo, w *desired.LetterWay, secrets bool) (delivery.Way, error) {
	from, domain := repo.Letters.From, repo.Letters.Domain
	read := func(ref string) (string, error) {
		if ref == "" || !secrets {
			return "", nil
		}
		value, err := d.secrets.Read(d.ctx, ref)
		if err != nil {
			return "", fmt.Errorf("%s: %w", w.Pos, err)
		}
		return value, nil
	}
	var roots *x509.CertPool
	if w.CA != "" && secrets {
		var err error
		if roots, err = repo.Tree.Roots(d.ctx, w.CA); err != nil {
			return nil, err
		}
	}
	switch {
	case w.Folder != "":
		return &delivery.Folder{Path: w.Folder, From: from, Domain: domain, Box: &box{repo.Tree, w.Folder}}, nil
	case w.SMTP != "":
		user, err := read(w.User)
		if err != nil {
			return nil, err
		}
		password, err := read(w.Password)
		if err != nil {
			return nil, err
		}
		return &delivery.SMTP{
			Host: w.SMTP, Port: w.Port, TLS: w.TLS, User: user, Password: password, From: from, Domain: domain, Roots: roots,
		}, nil
	}
	key, err := read(w.Secret)
	if err != nil {
		return nil, err
	}
	token, err := read(w.Token)
	if err != nil {
		return nil, err
	}
	hook := &delivery.Webhook{URL: w.Webhook, Secret: key, Token: token}
	if roots != nil {
		hook.Client = &http.Client{
			Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: roots, MinVersion: tls.VersionTLS12}},
		}
	}
	return hook, nil
}

func (d *Desk) due(l ledger.Ledger, ways []delivery.Way) (*Due, error) {
	x, err := d.Remembered(nil, d.today)
	if err != nil {
		return nil, err
	}
	repo := x.State.Repo
	falling, err := d.Falling(x, d.today.Add(repo.Letters.Ahead))
	if err != nil {
		return nil, err
	}
	items, err := delivery.Items(l, falling, d.today)
	if err != nil {
		return nil, err
	}
	out := &Due{Zone: d.zone}
	if out.Told, err = delivery.Before(l, ways); err != nil {
		return nil, err
	}
	waits, deciders, err := d.waitItems(l)
	if err != nil {
		return nil, err
	}
	items = append(items, waits...)
	readers, without := delivery.Readers(repo, x.Stages, deciders)
	for _, m := range x.Missing {
		out.Without = append(out.Without, m.Error())
	}
	out.Without = append(out.Without, without...)
	out.Parcels = out.Told.Pack(repo, ways, readers, items, d.today)
	return out, d.enclose(out.Parcels, deciders)
}

// enclose puts into each letter to a decider the page of what waits for that person, where the files ask for it.
func (d *Desk) enclose(parcels []delivery.Parcel, deciders []string) error {
	repo := d.state.Repo
	if !repo.Letters.Pages || d.Page == nil {
		return nil
	}
	of := map[string]string{} // address → id
	for _, id := range deciders {
		if at := repo.People.Named(id); at >= 0 {
			of[repo.People.Get(at, "email")] = id
		}
	}
	pages := map[string]*letter.Page{}
	for i := range parcels {
		l := &parcels[i].Letter
		id, known := of[l.Address]
		waits := func(key string) bool { return strings.HasPrefix(key, waitKey) }
		if !known || !slices.ContainsFunc(l.Keys, waits) {
			continue
		}
		if pages[id] == nil {
			page, err := d.pageFor(id)
			if err != nil {
				return err
			}
			pages[id] = page
		}
		l.Page = pages[id]
	}
	return nil
}

// pageFor is the page of what of the newest plan waits for a person.
func (d *Desk) pageFor(person string) (*letter.Page, error) {
	name, err := d.Newest()
	if err != nil {
		return nil, err
	}
	p, err := d.Plan(name)
	if err != nil {
		return nil, err
	}
	x, err := d.Paper(p, person)
	if err != nil {
		return nil, err
	}
	data, err := d.Page(x)
	return &letter.Page{Name: "plan-" + p.ID + ".html", Data: data}, err
}

// Sent is what became of letters.
type Sent struct {
	NoWay   []error // ways that letters cannot go
	Without []string
	Results []delivery.Result
	Left    int  // how many were not begun, as there was no more time
	Others  bool // another call sends letters just now
}

// Failed counts what could not be sent, and the ways that letters cannot go.
func (s *Sent) Failed() int {
	n := len(s.NoWay) + s.Left
	for _, r := range s.Results {
		if r.Err != nil {
			n++
		}
	}
	return n
}

// Letterless says why nobody is told anything, "" where somebody is.
func (d *Desk) Letterless() (string, error) {
	s, err := d.Sound()
	if err != nil {
		return "", err
	}
	return letterless(s.Repo), nil
}

func letterless(repo *desired.Repo) string {
	switch {
	case repo.Letters == nil:
		return sayNobodyIsTold()
	case !repo.Letters.Sends(repo.Here()):
		return sayNotOfEnvironment(repo.Here())
	}
	return ""
}

// SendLetters sends the letters that are due; nil where nobody is told anything.
func (d *Desk) SendLetters() (*Sent, error) {
	s, err := d.Sound()
	if err != nil || letterless(s.Repo) != "" {
		return nil, err
	}
	l, err := d.proven()
	if err != nil {
		return nil, err
	}
	return d.send(l)
}

// send sends letters without the lease: whoever is slow to take them keeps no run waiting.
func (d *Desk) send(l ledger.Ledger) (*Sent, error) {
	sent := &Sent{}
	release, err := l.Sending()
	var leased *ledger.Leased
	if errors.As(err, &leased) {
		sent.Others = true
		return sent, nil
	}
	if err != nil {
		return sent, err
	}
	defer release() // the system does it anyway, when the program ends
	ways := d.ways(func(err error) { sent.NoWay = append(sent.NoWay, err) })
	due, err := d.due(l, ways)
	if err != nil {
		return sent, err
	}
	if err := due.Told.Settle(l, ways); err != nil {
		return sent, err
	}
	sent.Without = due.Without
	sent.Results, sent.Left, err = delivery.Send(d.ctx, l, due.Parcels, d.Now(), d.secrets.Clean)
	return sent, err
}

// Inform sends the letters that are due after a run, by the files and the exports as they are
// then, once the run has given back its lease and its claims; nil where nobody is told anything.
func (r *Run) Inform() (*Sent, error) {
	d := r.desk
	if letterless(r.Repo()) != "" || d.ctx.Err() != nil {
		return nil, nil
	}
	if err := d.giveBack(); err != nil {
		return nil, err
	}
	d.reread() // what a run has changed
	if _, err := d.Sound(); err != nil {
		return nil, err
	}
	return d.send(r.ledger)
}

// A box is a folder of a repository into which letters go.
type box struct {
	tree   *source.Tree
	folder string
}

func (b *box) Stage(name string, write func(io.Writer) error) (delivery.Staged, error) {
	return b.tree.Stage(b.folder+"/"+name, 0o600, write)
}
func (b *box) Unplaced() (map[string]string, error) { return b.tree.Unplaced(b.folder) }
func (b *box) Has(name string) (bool, error)        { return b.tree.Exists(b.folder + "/" + name) }
func (b *box) Remove(name string) error             { return b.tree.Remove(b.folder + "/" + name) }
