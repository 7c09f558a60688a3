package delivery

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"time"

	"github.com/wneessen/go-mail"

	"pravet/internal/core/letter"
)

// patience is how long a server may take for one answer, and for one letter as a whole.
const (
	patience = 15 * time.Second
	longest  = time.Minute
	// maxHeard is how much a server may say while one mail is sent, in bytes, TLS and all. A greeting, its extensions and
	// the answers to a few commands (RFC 5321, section 4.5.3.1.5: 512 bytes a line) are far less.
	maxHeard = 1 << 20
)

// An SMTP is a server that takes mail (RFC 5321): over TLS from the beginning, or after
// STARTTLS (RFC 3207), which it must offer. Only a server on this machine may do without.
type SMTP struct {
	Host           string
	Port           int
	TLS            string // starttls, direct, or none
	User, Password string // none where User is ""
	From, Domain   string
	Roots          *x509.CertPool // nil for the system's
	Patience       time.Duration  // for one answer; 0 for the usual
}

// Name says which it is.
func (s *SMTP) Name() string { return fmt.Sprintf("smtp %s:%d", s.Host, s.Port) }

// Ready has nothing to do: a mail is made when it is sent.
func (s *SMTP) Ready(l *letter.Letter, at time.Time) (func(context.Context) error, func(), error) {
	return notReady(s.Send, l, at)
}

// Send sends a letter by a connection of its own.
func (s *SMTP) Send(ctx context.Context, l *letter.Letter, at time.Time) error {
	m, err := message(s.From, s.Domain, l, at)
	if err != nil {
		return &Refused{err}
	}
	wait := s.Patience
	if wait == 0 {
		wait = patience
	}
	options := []mail.Option{
		mail.WithPort(s.Port), mail.WithTimeout(wait), mail.WithHELO(s.Domain), mail.WithoutNoop(),
		mail.WithTLSConfig(&tls.Config{ServerName: s.Host, RootCAs: s.Roots, MinVersion: tls.VersionTLS12}),
		mail.WithDialContextFunc(s.dial(wait)),
	}
	switch s.TLS {
	case "direct":
		options = append(options, mail.WithSSL())
	case "none":
		options = append(options, mail.WithTLSPolicy(mail.NoTLS))
	default:
		options = append(options, mail.WithTLSPolicy(mail.TLSMandatory))
	}
	if s.User != "" {
		options = append(options, mail.WithSMTPAuth(mail.SMTPAuthPlain), mail.WithUsername(s.User),
			mail.WithPassword(s.Password))
	}
	client, err := mail.NewClient(s.Host, options...)
	if err != nil {
		return &Refused{err}
	}
	ctx, stop := context.WithTimeout(ctx, longest)
	defer stop()
	err = client.DialAndSendWithContext(ctx, m)
	if err == nil || m.IsDelivered() {
		return nil // the server has taken it, whatever it said after that
	}
	if unknown(err) {
		return fmt.Errorf("%s did not say whether it took the letter: %w", s.Name(), err)
	}
	return &Refused{fmt.Errorf("%s: %w", s.Name(), err)}
}

// unknown reports whether a server may have taken a letter: it got all of it, and gave no
// answer.
func unknown(err error) bool {
	var send *mail.SendError
	return errors.As(err, &send) && send.Reason == mail.ErrSMTPDataClose && send.ErrorCode() == 0
}

// dial opens a connection on which every wait for the server ends. One that speaks TLS
// from the beginning has shaken hands by then.
func (s *SMTP) dial(wait time.Duration) mail.DialContextFunc {
	return func(ctx context.Context, network, address string) (net.Conn, error) {
		d := net.Dialer{Timeout: wait}
		conn, err := d.DialContext(ctx, network, address)
		if err != nil {
			return nil, err
		}
		heard := &timed{Conn: conn, wait: wait, until: time.Now().Add(longest), left: maxHeard}
		if s.TLS != "direct" {
			return heard, nil
		}
		secure := tls.Client(
			heard,
			&tls.Config{ServerName: s.Host, RootCAs: s.Roots, MinVersion: tls.VersionTLS12},
		)
		if err := secure.HandshakeContext(ctx); err != nil {
			return nil, errors.Join(err, conn.Close())
		}
		return secure, nil
	}
}

// timed is a connection on which nothing takes longer than a while, and all of it not
// longer than another.
type timed struct {
	net.Conn
	wait  time.Duration
	until time.Time // by which all of it must be over
	left  int       // how many bytes may still be read
}

// next is when the next read or write has taken too long.
func (t *timed) next() time.Time {
	if next := time.Now().Add(t.wait); next.Before(t.until) {
		return next
	}
	return t.until
}

// SetDeadline does nothing: each read and each write has its own.
func (t *timed) SetDeadline(time.Time) error { return nil }

func (t *timed) Read(p []byte) (int, error) {
	if t.left <= 0 {
		return 0, errors.New("the server says more than 1 MiB, and is not listened to any longer")
	}
	if err := t.SetReadDeadline(t.next()); err != nil {
		return 0, err
	}
	n, err := t.Conn.Read(p[:min(len(p), t.left)])
	t.left -= n
	return n, err
}

func (t *timed) Write(p []byte) (int, error) {
	if err := t.SetWriteDeadline(t.next()); err != nil {
		return 0, err
	}
	return t.Conn.Write(p)
}
