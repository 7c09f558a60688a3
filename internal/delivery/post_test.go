package delivery_test

import (
	"bufio"
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"net/http/httptest"
	"net/mail"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pravet/internal/core/letter"
	"pravet/internal/delivery"
	"pravet/internal/prepared"
)

var (
	at   = time.Date(2026, 11, 24, 9, 0, 0, 0, time.UTC)
	note = &letter.Letter{
		ID: "0123456789abcdef", Reader: "Ada Fell", Address: "ada@ferries.example",
		Subject: "Fähren: 2 changes", Body: "Dear Ada Fell,\n\n.\nnothing – yet.\n",
	}
)

// A server is a mail server on this machine.
type server struct {
	*smtp.Server
	port  int
	roots *x509.CertPool
	mu    sync.Mutex
	got   []string
	user  string
	fail  error         // the answer to what it gets
	hang  chan struct{} // it answers nothing to what it gets before this is closed
}

// start starts a mail server that offers STARTTLS or, with direct, speaks TLS from the
// beginning.
func start(t *testing.T, direct bool) *server {
	cert, authority, err := prepared.Certificate()
	require.NoError(t, err)
	s := &server{roots: x509.NewCertPool()}
	require.True(t, s.roots.AppendCertsFromPEM(authority))
	s.Server = smtp.NewServer(smtp.BackendFunc(func(*smtp.Conn) (smtp.Session, error) { return &session{s}, nil }))
	s.TLSConfig = &tls.Config{Certificates: []tls.Certificate{cert}}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	s.port = listener.Addr().(*net.TCPAddr).Port
	if direct {
		listener = tls.NewListener(listener, s.TLSConfig)
	}
	go func() { _ = s.Serve(listener) }() // it ends when it is closed
	t.Cleanup(func() { s.Close() })
	return s
}

func (s *server) way(mode string) *delivery.SMTP {
	return &delivery.SMTP{
		Host: "127.0.0.1", Port: s.port, TLS: mode, User: "pravet", Password: "swordfish", Roots: s.roots,
		From: "Pravet <pravet@ferries.example>", Domain: "ferries.example", Patience: time.Second,
	}
}

type session struct{ s *server }

func (*session) AuthMechanisms() []string { return []string{sasl.Plain} }
func (x *session) Auth(string) (sasl.Server, error) {
	return sasl.NewPlainServer(func(_, user, password string) error {
		if password != "swordfish" {
			return errors.New("no")
		}
		x.s.user = user
		return nil
	}), nil
}
func (*session) Mail(string, *smtp.MailOptions) error { return nil }
func (x *session) Rcpt(to string, _ *smtp.RcptOptions) error {
	if strings.HasPrefix(to, "nobody@") {
		return &smtp.SMTPError{Code: 550, Message: "no such mailbox"}
	}
	return nil
}

func (x *session) Data(r io.Reader) error {
	data, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	x.s.mu.Lock()
	x.s.got = append(x.s.got, string(data))
	x.s.mu.Unlock()
	if x.s.hang != nil {
		<-x.s.hang
	}
	return x.s.fail
}
func (*session) Reset()        {}
func (*session) Logout() error { return nil }

func TestALetterArrivesByMail(t *testing.T) {
	for _, mode := range []string{"starttls", "direct"} {
		s := start(t, mode == "direct")
		require.NoError(t, s.way(mode).Send(context.Background(), note, at), mode)
		require.Len(t, s.got, 1)
		assert.Equal(t, "pravet", s.user)
		m, err := mail.ReadMessage(strings.NewReader(s.got[0]))
		require.NoError(t, err)
		subject := m.Header.Get("Subject")
		assert.NotEmpty(t, subject)
		assert.Equal(t, "<0123456789abcdef@ferries.example>", m.Header.Get("Message-ID"))
		assert.Equal(t, "auto-generated", m.Header.Get("Auto-Submitted"))
		when, err := m.Header.Date()
		require.NoError(t, err)
		assert.True(t, at.Equal(when))
		assert.NotContains(t, s.got[0], "swordfish")
	}
}

func TestAServerThatRefusesCanBeTriedAgain(t *testing.T) {
	s := start(t, false)
	refused := func(way *delivery.SMTP, l *letter.Letter, says string) {
		t.Helper()
		err := way.Send(context.Background(), l, at)
		require.ErrorContains(t, err, says)
		assert.False(t, delivery.Arrived(err), "%v", err)
		assert.NotContains(t, err.Error(), "swordfish")
	}
	to := *note
	to.Address = "nobody@ferries.example"
	refused(s.way("starttls"), &to, "no such mailbox")
	s.fail = &smtp.SMTPError{Code: 552, Message: "the mailbox is full"}
	refused(s.way("starttls"), note, "the mailbox is full")
	wrong := s.way("starttls")
	wrong.Password = "herring"
	refused(wrong, note, "127.0.0.1")
	stranger := s.way("starttls")
	stranger.Roots = x509.NewCertPool()
	refused(stranger, note, "certificate")
	s.TLSConfig = nil // it offers no STARTTLS, so nothing is said to it
	refused(s.way("starttls"), note, "STARTTLS")
	s.Close()
	refused(s.way("starttls"), note, "refused")
}

// TestAServerThatHangsMayHaveTakenIt: nothing waits for ever, and what a server got
// without an answer is not sent again.
func TestAServerThatHangsMayHaveTakenIt(t *testing.T) {
	s := start(t, false)
	s.hang = make(chan struct{})
	defer close(s.hang)
	began := time.Now()
	err := s.way("starttls").Send(context.Background(), note, at)
	require.Error(t, err)
	assert.True(t, delivery.Arrived(err), "%v", err)
	assert.Less(t, time.Since(began), 20*time.Second)

	// A server that says nothing at all, or nonsense, has taken nothing.
	for _, says := range []string{"", "hello, world\r\n", "220 ready\r\n250 fine\r\n"} {
		listener, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		defer listener.Close()
		go func() {
			for {
				conn, err := listener.Accept()
				if err != nil {
					return
				}
				_, _ = io.WriteString(conn, says)
				go func() { // it reads and never answers
					_, _ = bufio.NewReader(conn).WriteTo(io.Discard)
					conn.Close()
				}()
			}
		}()
		way := s.way("starttls")
		way.Port = listener.Addr().(*net.TCPAddr).Port
		began := time.Now()
		err = way.Send(context.Background(), note, at)
		require.Error(t, err, "%q", says)
		assert.False(t, delivery.Arrived(err), "%q: %v", says, err)
		assert.Less(t, time.Since(began), 20*time.Second, "%q", says)
	}
}

func TestALetterArrivesAtAWebAddress(t *testing.T) {
	var tries atomic.Int32
	status := []int{503, 500, 204}
	var body []byte
	var header http.Header
	s := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		n := int(tries.Add(1)) - 1
		body, _ = io.ReadAll(r.Body)
		header = r.Header
		w.WriteHeader(status[min(n, len(status)-1)])
	}))
	defer s.Close()
	way := &delivery.Webhook{
		URL:    s.URL + "/in?token=swordfish",
		Secret: "herring",
		Client: s.Client(),
		Wait:   time.Millisecond,
	}
	require.NoError(t, way.Send(context.Background(), note, at))
	assert.EqualValues(t, 3, tries.Load())
	assert.Equal(t, note.ID, header.Get(delivery.HeaderID))
	assert.Equal(t, delivery.Sign("herring", body), header.Get(delivery.HeaderSignature))
	var got map[string]any
	require.NoError(t, json.Unmarshal(body, &got))
	assert.Equal(t, map[string]any{
		"id": note.ID, "reader": "Ada Fell", "to": "ada@ferries.example", "subject": note.Subject, "body": note.Body,
		"at": "2026-11-24T09:00:00Z",
	}, got)

	// What is refused is refused at once; who cannot be reached may have it; an address
	// never shows.
	status = []int{403}
	err := way.Send(context.Background(), note, at)
	require.ErrorContains(t, err, "403")
	assert.False(t, delivery.Arrived(err))
	assert.EqualValues(t, 4, tries.Load())
	s.Close()
	gone := way.Send(context.Background(), note, at)
	require.Error(t, gone)
	for _, err := range []error{err, gone} {
		assert.NotContains(t, fmt.Sprint(err, way.Name()), "swordfish")
	}
}

// TestWhatCertainlyDidNotArriveIsSentAgain: each way in which a web address can fail, whether the letter may have
// arrived, and how often it was tried. Nothing is waited for without end.
func TestWhatCertainlyDidNotArriveIsSentAgain(t *testing.T) {
	for name, c := range map[string]struct {
		serve   http.HandlerFunc
		closed  bool
		foreign bool // its certificate is nobody's
		arrived bool // it may have
		tries   int32
		says    string
	}{
		"nobody is there":    {closed: true, says: "refused"},
		"a wrong authority":  {foreign: true, serve: func(http.ResponseWriter, *http.Request) {}, says: "certificate"},
		"sent on":            {serve: redirect, tries: 1, says: "307"},
		"no":                 {serve: answer(403, ""), tries: 1, says: "403"},
		"busy":               {serve: answer(429, "0"), tries: 4, says: "429"},
		"busy for years":     {serve: answer(429, "99999999"), tries: 1, says: "asks to wait for"},
		"busy until a day":   {serve: answer(503, "Fri, 31 Dec 2088 23:59:59 GMT"), tries: 1, says: "asks to wait for"},
		"a number like none": {serve: answer(429, "-1e400"), tries: 4, says: "429"},
		"hangs up": {serve: func(http.ResponseWriter, *http.Request) { panic(http.ErrAbortHandler) }, arrived: true, tries: 4,
			says: "gave no answer"},
		"an endless answer": {serve: func(w http.ResponseWriter, r *http.Request) {
			for r.Context().Err() == nil {
				if _, err := w.Write(make([]byte, 1<<16)); err != nil {
					return
				}
			}
		}, tries: 1},
		"endless headers": {serve: func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("X", strings.Repeat("x", 20<<20))
		}, arrived: true, tries: 4, says: "gave no answer"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			var tries atomic.Int32
			s := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				tries.Add(1)
				c.serve(w, r)
			}))
			s.Config.ErrorLog = log.New(io.Discard, "", 0)
			defer s.Close()
			client := s.Client()
			if c.foreign {
				client = &http.Client{}
			}
			if c.closed {
				s.Close()
			}
			way := &delivery.Webhook{URL: s.URL + "/in", Secret: "herring", Client: client, Wait: time.Millisecond}
			began := time.Now()
			err := way.Send(context.Background(), note, at)
			assert.Less(t, time.Since(began), 30*time.Second)
			assert.Equal(t, c.tries, tries.Load())
			if c.says == "" {
				require.NoError(t, err)
				return
			}
			require.ErrorContains(t, err, c.says)
			assert.Equal(t, c.arrived, delivery.Arrived(err), "%v", err)
			assert.Less(t, len(err.Error()), 1000)
		})
	}
}

func redirect(w http.ResponseWriter, r *http.Request) {
	http.Redirect(w, r, "https://elsewhere.example/", http.StatusTemporaryRedirect)
}

func answer(status int, after string) http.HandlerFunc {
	return func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Retry-After", after)
		w.WriteHeader(status)
	}
}

// TestAServerThatAsksToWaitKeepsNobody: whoever interrupts is obeyed at once.
func TestAServerThatAsksToWaitKeepsNobody(t *testing.T) {
	s := httptest.NewServer(answer(429, "30"))
	defer s.Close()
	ctx, stop := context.WithTimeout(context.Background(), 200*time.Millisecond)
	defer stop()
	began := time.Now()
	err := (&delivery.Webhook{URL: s.URL, Secret: "herring"}).Send(ctx, note, at)
	require.Error(t, err)
	assert.False(t, delivery.Arrived(err), "%v", err)
	assert.Less(t, time.Since(began), 5*time.Second)
}

// TestAMailServerThatNeverStops: each line that a server says has an end, or the letter is not sent.
func TestAMailServerThatNeverStops(t *testing.T) {
	for _, begin := range []string{"220 ", "220-mail\r\n220-", "220 mail\r\n250-"} {
		listener, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		defer listener.Close()
		var said atomic.Int64
		go func() {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			defer conn.Close()
			go func() { _, _ = io.Copy(io.Discard, conn) }()
			_, _ = io.WriteString(conn, begin)
			for {
				n, err := conn.Write(bytes.Repeat([]byte("x"), 1<<16))
				if said.Add(int64(n)); err != nil {
					return
				}
			}
		}()
		way := start(t, false).way("starttls")
		way.Port = listener.Addr().(*net.TCPAddr).Port
		err = way.Send(context.Background(), note, at)
		require.ErrorContains(t, err, "more than 1 MiB")
		assert.False(t, delivery.Arrived(err), "%v", err)
		assert.Less(t, said.Load(), int64(64<<20)) // what the system holds by itself
	}
}
