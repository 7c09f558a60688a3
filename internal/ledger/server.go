package ledger

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/url"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"

	"pravet/internal/core/day"
)

// A Server is a PostgreSQL database in which a team keeps its record.
type Server struct {
	URL      string // postgres://HOST:PORT/DATABASE
	User     string
	Password func(ctx context.Context) (string, error)
	// Roots are the authorities that certificates are held against; nil for the system's.
	Roots  func(ctx context.Context) (*x509.CertPool, error)
	OwnCA  bool   // Roots are of a file that the repository names
	Schema string // in which the tables are; another one for each environment
	// Organization is whose record it is: another one's is refused.
	Organization string
	// Warn is told what somebody should know who uses it.
	Warn func(text string)
	// Term is how long a lease lasts that is not renewed; a minute where it is 0.
	Term time.Duration
}

// server is a Ledger in a PostgreSQL database.
type server struct {
	opt    Options
	path   string // as it is spoken of
	schema string
	id     string // which the database gave the record when it was made
	pool   *pgxpool.Pool
	opened atomic.Bool
	local  *leases // what keeps processes of this machine apart
	heads  heads
	sound  atomic.Bool

	mu    sync.Mutex
	holds map[string]*hold // leases of this process, by name
}

const (
	// reach is how long a connection may take.
	reach = 10 * time.Second
	// answer is how long an answer may take.
	answer = 2 * time.Minute
	// again is for how long what was cut off is tried again.
	again = 15 * time.Second
	// idle is how long the server waits, in milliseconds, for a process that stopped in the middle of a transaction,
	// before it ends that, so that others can go on.
	idle = "20000"
)

// schemaOf is the schema of an environment.
func (s *Server) schemaOf(environment string) string {
	if environment == "" {
		return s.Schema
	}
	return s.Schema + "_" + environment
}

// openServer opens the ledger in a database. Opening it makes nothing there.
func openServer(folder string, opt Options, writing bool) (Ledger, error) {
	l, err := connectServer(folder, opt, writing)
	if err != nil {
		return nil, err
	}
	err = l.gone()
	if err == nil {
		err = l.left(folder)
	}
	if err != nil {
		l.pool.Close()
		return nil, err
	}
	return l, nil
}

// connectServer opens the ledger in a database, whatever the repository has beside it.
func connectServer(folder string, opt Options, writing bool) (_ *server, err error) {
	l := &server{opt: opt, schema: opt.Server.schemaOf(opt.Environment), holds: map[string]*hold{}}
	l.heads = heads{folder, &l.opt}
	l.local = &leases{folder: folder, by: opt.By, now: opt.Now}
	if err := l.dial(); err != nil {
		return nil, err
	}
	if err := l.look(writing); err != nil {
		l.pool.Close()
		return nil, err
	}
	l.opened.Store(true)
	return l, nil
}

// dial makes ready for connections. Only a server on this very machine may do without TLS.
func (l *server) dial() error {
	s := l.opt.Server
	l.path = fmt.Sprintf("%s, schema %s", s.URL, l.schema)
	u, err := url.Parse(s.URL)
	if err != nil || u.Scheme != "postgres" || u.Host == "" || strings.Trim(u.Path, "/") == "" {
		return fmt.Errorf("%s: the address cannot be read; write it like postgres://HOST:5432/DATABASE", s.URL)
	}
	u.RawQuery = "sslmode=disable" // what it says of TLS is ours to say, below
	config, err := pgxpool.ParseConfig(u.String())
	if err != nil {
		return fmt.Errorf("%s: the address cannot be read; write it like postgres://HOST:5432/DATABASE", s.URL)
	}
	ctx, stop := context.WithTimeout(context.Background(), answer)
	defer stop()
	c := config.ConnConfig
	if c.Password, err = s.Password(ctx); err != nil {
		return err
	}
	c.User, c.Fallbacks, c.ConnectTimeout = s.User, nil, reach
	c.RuntimeParams = map[string]string{"application_name": "pravet"}
	// A pooler may give each transaction another connection: nothing is prepared on one and used on the next.
	c.DefaultQueryExecMode = pgx.QueryExecModeExec
	if ip := net.ParseIP(u.Hostname()); u.Hostname() != "localhost" && (ip == nil || !ip.IsLoopback()) || s.OwnCA {
		roots, err := s.Roots(ctx)
		if err != nil {
			return err
		}
		c.TLSConfig = &tls.Config{RootCAs: roots, ServerName: u.Hostname(), MinVersion: tls.VersionTLS12}
	}
	config.MaxConns = 4
	l.pool, err = pgxpool.NewWithConfig(ctx, config)
	return l.failed(err)
}

// Version is the form of the tables in a database that this program writes. Grant brings an older one up to it.
const Version = 1

// look makes sure that the record is ours, and one that this program knows.
func (l *server) look(writing bool) error {
	var version int
	var organization string
	var owner, may bool
	err := l.try(func(ctx context.Context) error {
		return l.pool.QueryRow(ctx, l.sql(`SELECT version, organization, id,
			pg_has_role(current_user, (SELECT relowner FROM pg_class WHERE oid = '$.entries'::regclass), 'USAGE'),
			has_table_privilege('$.entries', 'INSERT') FROM $.book`)).Scan(&version, &organization, &l.id, &owner, &may)
	})
	var no *pgconn.PgError
	switch {
	case errors.As(err, &no) && (no.Code == "42P01" || no.Code == "3F000"), errors.Is(err, pgx.ErrNoRows):
		return fmt.Errorf("%s: there is no record yet; a role that may make one runs what this prints: pravet ledger grant", l.path)
	case errors.As(err, &no) && no.Code == "42501":
		return fmt.Errorf(
			"%s: %s may not read the record: %s. Whoever owns it runs what this prints: pravet ledger grant", l.path,
			l.opt.Server.User, no.Message,
		)
	case err != nil:
		return l.failed(err)
	case version > Version:
		return fmt.Errorf(
			"%s: the record is of form %d, which a newer Pravet has made, and this one knows form %d; use the newer one", l.path,
			version, Version,
		)
	case organization != l.opt.Server.Organization:
		return fmt.Errorf(
			"%s: this is the record of %q, and these files are of %q; name another schema or database under ledger in pravet.yaml",
			l.path, organization, l.opt.Server.Organization,
		)
	case writing && !may:
		return fmt.Errorf(
			"%s: %s may read the record and not add to it. Whoever owns it runs what this prints: pravet ledger grant", l.path,
			l.opt.Server.User,
		)
	case writing && owner && l.opt.Server.Warn != nil:
		l.opt.Server.Warn(fmt.Sprintf(
			"%s owns the tables of the record, so that nothing keeps it from changing them; let a role that may only add to "+
				"them sign in, as pravet ledger grant makes one", l.opt.Server.User,
		))
	}
	return nil
}

// sql puts the schema into a statement, where it has $.
func (l *server) sql(text string) string {
	return strings.ReplaceAll(text, "$.", pgx.Identifier{l.schema}.Sanitize()+".")
}

// Unreachable is a record that nobody can be asked for at the moment.
type Unreachable struct {
	Path string
	Err  error
}

func (u *Unreachable) Error() string {
	return fmt.Sprintf(
		"%s: the record cannot be reached: %s. Nothing is decided or carried out meanwhile; try again when the server answers",
		u.Path, u.Err,
	)
}

func (u *Unreachable) Unwrap() error { return u.Err }

// failed is an error of the database with its place, and with what can be done.
func (l *server) failed(err error) error {
	if err == nil {
		return nil
	}
	var there *Unreachable
	var no *pgconn.PgError
	var cert *tls.CertificateVerificationError
	var own *refusal
	switch {
	case errors.As(err, &own):
		return own.error
	case errors.As(err, &there):
		return err
	case errors.As(err, &cert):
		return fmt.Errorf(
			"%s: the server's certificate is not accepted: %w; name its authority's file under ca, if you trust it", l.path, cert.Err,
		)
	case errors.As(err, &no) && (no.Code == "28P01" || no.Code == "28000"):
		return fmt.Errorf("%s: the server does not accept the user %s or the password", l.path, l.opt.Server.User)
	case errors.As(err, &no) && no.Code == "3D000":
		return fmt.Errorf("%s: there is no such database; make one, or correct the address under ledger in pravet.yaml", l.path)
	case errors.As(err, &no) && no.Code == "53100":
		return fmt.Errorf("%s: the server's disk is full; nothing was recorded", l.path)
	case errors.As(err, &no) && no.Code == "25006":
		return fmt.Errorf("%s: the server takes nothing in at the moment (it is read-only); name the one that does", l.path)
	case errors.As(err, &no) && no.Code == "42501":
		return fmt.Errorf(
			"%s: %s may not do that: %s. Whoever owns the record runs what this prints: pravet ledger grant", l.path,
			l.opt.Server.User, no.Message,
		)
	case away(err):
		return &Unreachable{l.path, errors.New(why(err))}
	}
	return fmt.Errorf("%s: the ledger cannot be used: %w", l.path, err)
}

// away reports whether an error says that nobody was there to answer, or not any more.
func away(err error) bool {
	var no *pgconn.PgError
	if errors.As(err, &no) { // PostgreSQL, appendix A
		return no.Code[:2] == "08" || no.Code[:2] == "57" && no.Code != "57014" || no.Code[:2] == "53" && no.Code != "53100" ||
			no.Code == "25P03"
	}
	var own *refusal
	var scan pgx.ScanArgError
	return err != nil && !errors.Is(err, pgx.ErrNoRows) && !errors.Is(err, ErrStop) && !errors.As(err, &own) && !errors.As(err, &scan)
}

// A refusal is an error that is no server's.
type refusal struct{ error }

func (r *refusal) Unwrap() error { return r.error }

// why is why a connection was not made, or broke, without its parameters.
func why(err error) string {
	if errors.Is(err, context.DeadlineExceeded) {
		return "it did not answer in time"
	}
	for inner := errors.Unwrap(err); inner != nil; inner = errors.Unwrap(err) {
		err = inner
	}
	return err.Error()
}

// try does something that changes nothing, and does it again for a while where the connection breaks off.
func (l *server) try(f func(ctx context.Context) error) error {
	until := time.Now().Add(again)
	for pause := 50 * time.Millisecond; ; pause *= 2 {
		ctx, stop := context.WithTimeout(context.Background(), answer)
		err := f(ctx)
		stop()
		var refused *pgconn.ConnectError
		if !away(err) || fatal(err) || time.Now().Add(pause).After(until) || errors.As(err, &refused) && !l.opened.Load() && pause > 400*time.Millisecond {
			return err
		}
		time.Sleep(pause)
	}
}

// fatal reports whether an error of connecting will not go by waiting.
func fatal(err error) bool {
	var cert *tls.CertificateVerificationError
	var dns *net.DNSError
	return errors.As(err, &cert) || errors.As(err, &dns) && dns.IsNotFound
}

// Zone is where the organization is.
func (l *server) Zone() day.Zone { return l.opt.Zone }

// Shared: others keep their record in it.
func (l *server) Shared() bool { return true }
