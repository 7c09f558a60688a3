// Package delivery brings letters to where they are read: by mail (SMTP, RFC 5321), to a web
// address (JSON, signed), or as files that a mail program opens (RFC 5322).
//
// A way never sends a letter twice by itself. Its errors tell letters that certainly did not
// arrive (Refused) from those that may have arrived.
package delivery

import (
	"bytes"
	"context"
	"errors"
	"io"
	"strings"
	"time"

	"github.com/wneessen/go-mail"

	"pravet/internal/core/letter"
	"pravet/internal/ledger"
)

// A Way is how letters reach people.
type Way interface {
	// Name says which it is, without any secret.
	Name() string
	// Ready makes a letter ready. send brings it, and its error is a *Refused where it certainly did not arrive; drop
	// gives it up instead.
	Ready(l *letter.Letter, at time.Time) (send func(context.Context) error, drop func(), err error)
}

// Longest is how long sending letters takes at most.
const Longest = 2 * time.Minute

// Refused is that a letter certainly did not arrive, so that it can be sent again.
type Refused struct{ Err error }

func (e *Refused) Error() string { return e.Err.Error() }

// Unwrap is what went wrong.
func (e *Refused) Unwrap() error { return e.Err }

// Arrived reports whether a letter may have arrived in spite of an error.
func Arrived(err error) bool {
	var refused *Refused
	return !errors.As(err, &refused)
}

// message is a letter as RFC 5322 has it. Its Message-ID is the same whenever it is made,
// so that a mailbox which gets it twice can tell.
func message(from, domain string, l *letter.Letter, at time.Time) (*mail.Msg, error) {
	m := mail.NewMsg(mail.WithNoDefaultUserAgent())
	if err := m.From(from); err != nil {
		return nil, err
	}
	if err := m.To(l.Address); err != nil {
		return nil, err
	}
	m.Subject(l.Subject)
	m.SetDateWithValue(at)
	m.SetMessageIDWithValue(l.ID + "@" + domain)
	m.SetGenHeader("Auto-Submitted", "auto-generated") // RFC 3834 §5
	m.SetBodyString(mail.TypeTextPlain, l.Body)
	if p := l.Page; p != nil {
		if err := m.AttachReader(p.Name, bytes.NewReader(p.Data), mail.WithFileContentType("text/html; charset=utf-8")); err != nil {
			return nil, err
		}
	}
	return m, nil
}

// A Folder takes each letter as a file (RFC 5322) that a mail program opens, or that somebody collects.
type Folder struct {
	Path         string // as it is called in messages
	From, Domain string
	Box          Box
}

// A Box is a folder of files.
type Box interface {
	// Stage writes a file beside its place.
	Stage(name string, write func(io.Writer) error) (Staged, error)
	// Unplaced are files that stand beside their place, by their temporary names.
	Unplaced() (map[string]string, error)
	Has(name string) (bool, error)
	Remove(name string) error
}

// Staged is a file that is not in its place yet.
type Staged interface {
	Commit() error
	Drop()
}

// Name says which it is.
func (f *Folder) Name() string { return "folder " + f.Path }

// Ready writes the letter beside its place, so that a file which is not in its place tells for certain that the
// letter did not arrive.
func (f *Folder) Ready(l *letter.Letter, at time.Time) (send func(context.Context) error, drop func(), err error) {
	m, err := message(f.From, f.Domain, l, at)
	if err != nil {
		return nil, nil, err
	}
	staged, err := f.Box.Stage(f.file(l.ID, at), func(w io.Writer) error {
		_, err := m.WriteTo(w)
		return err
	})
	if err != nil {
		return nil, nil, err
	}
	send = func(context.Context) error {
		if err := staged.Commit(); err != nil {
			staged.Drop()
			return &Refused{err}
		}
		return nil
	}
	return send, staged.Drop, nil
}

func (*Folder) file(id string, at time.Time) string {
	return at.UTC().Format(time.DateOnly) + "-" + id + ".eml"
}

// there reports whether a letter that was begun at a time reached its place. One that was ready, and is not beside its
// place any more, did, and somebody may have collected it.
func (f *Folder) there(x *ledger.Letter, at string) (bool, error) {
	name := x.File
	if name == "" {
		begun, err := time.Parse(time.RFC3339, at)
		if err != nil {
			return false, err
		}
		name = f.file(x.ID, begun)
	}
	beside, err := f.Box.Unplaced()
	if err != nil {
		return false, err
	}
	for _, to := range beside {
		if to == name {
			return false, nil
		}
	}
	if x.File != "" {
		return true, nil
	}
	return f.Box.Has(name)
}

// sweep removes what stands beside its place.
func (f *Folder) sweep() error {
	beside, err := f.Box.Unplaced()
	for name, to := range beside {
		if strings.HasSuffix(to, ".eml") {
			err = errors.Join(err, f.Box.Remove(name))
		}
	}
	return err
}

// notReady is how a way that has nothing to make ready is ready.
func notReady(
	send func(ctx context.Context, l *letter.Letter, at time.Time) error, l *letter.Letter, at time.Time,
) (func(context.Context) error, func(), error) {
	return func(ctx context.Context) error { return send(ctx, l, at) }, func() {}, nil
}
