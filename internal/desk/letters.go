package desk

import (
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"io"
	"net/http"

	"pravet/internal/core/letter"
	"pravet/internal/delivery"
	"pravet/internal/desired"
	"pravet/internal/ledger"
)

// Due are letters that are due now.
type Due struct {
	Parcels []delivery.Parcel
	Told    *delivery.Told // what readers were told before
	Without []string       // readers who cannot be written to, in words
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
	if err != nil || s.Repo.Letters == nil {
		return nil, err
	}
	l, err := d.Book()
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
		return &delivery.Folder{
			Path:   w.Folder,
			From:   from,
			Domain: domain,
			Write: func(name string, write func(io.Writer) error) error {
				s, err := repo.Tree.Stage(w.Folder+"/"+name, 0o600, write)
				if err != nil {
					return err
				}
				return s.Commit()
			},
		}, nil
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
	hook := &delivery.Webhook{URL: w.Webhook, Secret: key}
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
	out := &Due{}
	if out.Told, err = delivery.Before(l); err != nil {
		return nil, err
	}
	readers, without := delivery.Readers(repo, x.Stages)
	for _, m := range x.Missing {
		out.Without = append(out.Without, m.Error())
	}
	out.Without = append(out.Without, without...)
	out.Parcels = out.Told.Pack(repo, ways, readers, items, d.today)
	return out, nil
}

// Sent is what became of letters.
type Sent struct {
	NoWay   []error // ways that letters cannot go
	Without []string
	Results []delivery.Result
}

// Failed counts what could not be sent, and the ways that letters cannot go.
func (s *Sent) Failed() int {
	n := len(s.NoWay)
	for _, r := range s.Results {
		if r.Err != nil {
			n++
		}
	}
	return n
}

// SendLetters sends the letters that are due; nil where nobody is told anything.
func (d *Desk) SendLetters() (*Sent, error) {
	s, err := d.Sound()
	if err != nil || s.Repo.Letters == nil {
		return nil, err
	}
	l, err := d.proven()
	if err != nil {
		return nil, err
	}
	if err := d.lease(l, "letters"); err != nil {
		return nil, err
	}
	return d.send(l)
}

func (d *Desk) send(l ledger.Ledger) (*Sent, error) {
	sent := &Sent{}
	due, err := d.due(l, d.ways(func(err error) { sent.NoWay = append(sent.NoWay, err) }))
	if err != nil {
		return sent, err
	}
	sent.Without = due.Without
	sent.Results, err = delivery.Send(d.ctx, l, due.Parcels, d.Now(), d.secrets.Clean)
	return sent, err
}

// Inform sends the letters that are due after a run, by the files and the exports as they are
// then; nil where nobody is told anything.
func (r *Run) Inform() (*Sent, error) {
	d := r.desk
	if r.Repo().Letters == nil || d.ctx.Err() != nil {
		return nil, nil
	}
	d.state.Close()
	d.state = nil // what a run has changed is read anew
	if _, err := d.Sound(); err != nil {
		return nil, err
	}
	return d.send(r.ledger)
}
