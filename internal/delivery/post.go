// Package delivery brings letters to where they are read: by mail (SMTP, RFC 5321), to a web
// address (JSON, signed), or as files that a mail program opens (RFC 5322).
//
// A way never sends a letter twice by itself. Its errors tell letters that certainly did not
// arrive (Refused) from those that may have arrived.
package delivery

import (
	"context"
	"errors"
	"io"
	"time"

	"github.com/wneessen/go-mail"

	"pravet/internal/core/letter"
)

// A Way is one of bringing letters somewhere.
type Way interface {
	// Name says which it is, without any secret.
	Name() string
	// Send brings a letter. The error is a *Refused where it certainly did not arrive.
	Send(ctx context.Context, l *letter.Letter, at time.Time) error
}

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
	return m, nil
}

// A Folder is a folder into which each letter is written as a file.
type Folder struct {
	Path         string // as it is called in messages
	From, Domain string
	// Write writes a file of a name, all of it or nothing; it changes none that is there.
	Write func(name string, write func(io.Writer) error) error
}

// Name says which it is.
func (f *Folder) Name() string { return "folder " + f.Path }

// Send writes a letter.
func (f *Folder) Send(_ context.Context, l *letter.Letter, at time.Time) error {
	m, err := message(f.From, f.Domain, l, at)
	if err != nil {
		return &Refused{err}
	}
	err = f.Write(at.UTC().Format(time.DateOnly)+"-"+l.ID+".eml", func(w io.Writer) error {
		_, err := m.WriteTo(w)
		return err
	})
	if err != nil {
		return &Refused{err}
	}
	return nil
}
