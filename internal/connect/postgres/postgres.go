// Package postgres reaches PostgreSQL servers: login roles are accounts, and what they are
// members of are group roles. Nobody's objects are ever dropped: what a role owns is handed
// over by REASSIGN OWNED, and a role that owns something is not removed.
package postgres

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"
	"github.com/jackc/pgx/v5/pgxpool"

	"pravet/internal/connect"
	"pravet/internal/connect/live"
	"pravet/internal/core/day"
	"pravet/internal/core/model"
)

// driver speaks to one server.
type driver struct {
	app    *model.App
	spec   *connect.Spec
	ask    func(ctx context.Context, f func(context.Context) error) error
	first  func(account string) (string, error)
	key    func(account string) (string, error)
	keep   func(secret string)
	zone   day.Zone
	log    func(text string)
	pool   *pgxpool.Pool
	config *pgxpool.Config
	number int // of the server's release, as server_version_num has it
}

// maxMessage is the longest message that is read from a server, in bytes.
const maxMessage = 64 << 20

// Open connects and signs in. Only a server on this very machine may do without TLS.
func Open(ctx context.Context, o live.Options) (live.Driver, error) {
	u, err := url.Parse(o.Spec.URL)
	if err != nil {
		return nil, errors.New("the address under url cannot be read")
	}
	u.RawQuery = "sslmode=disable" // what it says of TLS is ours to say, below
	config, err := pgxpool.ParseConfig(u.String())
	if err != nil {
		return nil, errors.New("the address under url cannot be read; write it like postgres://HOST:5432/DATABASE")
	}
	password, err := o.Secret(ctx, o.Spec.Password)
	if err != nil {
		return nil, err
	}
	c := config.ConnConfig
	c.User, c.Password, c.Fallbacks = o.Spec.User, password, nil
	c.RuntimeParams = map[string]string{"application_name": "pravet", "DateStyle": "ISO", "TimeZone": "UTC"}
	if ip := net.ParseIP(u.Hostname()); u.Hostname() != "localhost" && (ip == nil || !ip.IsLoopback()) ||
		o.Spec.CA != "" {
		c.TLSConfig = &tls.Config{RootCAs: o.Roots, ServerName: u.Hostname(), MinVersion: tls.VersionTLS12}
	}
	c.BuildFrontend = func(r io.Reader, w io.Writer) *pgproto3.Frontend {
		f := pgproto3.NewFrontend(r, w)
		f.SetMaxBodyLen(maxMessage)
		return f
	}
	config.MaxConns = int32(max(1, o.Spec.Parallel))
	d := &driver{app: o.App, spec: o.Spec, ask: o.Ask, first: o.First, key: o.Key, keep: o.Keep, zone: o.Zone, config: config, log: o.Log}
	if d.pool, err = pgxpool.NewWithConfig(ctx, config); err != nil {
		return nil, judge(err, false)
	}
	err = o.Ask(ctx, func(ctx context.Context) error {
		return judge(d.pool.QueryRow(ctx, "SELECT current_setting('server_version_num')::int").Scan(&d.number), false)
	})
	if err != nil {
		d.pool.Close()
		return nil, err
	}
	return d, nil
}

// judge tells what an error means (PostgreSQL, appendix A); writes reports whether the
// statement may have changed something.
func judge(err error, writes bool) error {
	var fault *connect.Fault
	if err == nil || errors.As(err, &fault) {
		return err
	}
	var cert *tls.CertificateVerificationError
	var server *pgconn.PgError
	var refused *pgconn.ConnectError
	isServer := errors.As(err, &server)
	switch {
	case errors.As(err, &cert):
		return &connect.Fault{
			Kind: connect.Failed,
			Says: "the server's certificate is not accepted: " + cert.Err.Error() +
				"; name its authority's file under ca, if you trust it",
		}
	case isServer && (server.Code == "28P01" || server.Code == "28000"):
		return &connect.Fault{Kind: connect.Refused, Says: "the server does not accept the user or the password"}
	case isServer && server.Code == "3D000":
		return &connect.Fault{Kind: connect.Failed, Says: "there is no such database: " + server.Message}
	case errors.As(err, &refused):
		return &live.Again{Says: "the server cannot be reached: " + reason(refused), Down: true, Away: true}
	case !isServer:
		return &live.Again{
			Says: "the connection broke off: " + err.Error(),
			Sent: writes && !pgconn.SafeToRetry(err),
		}
	}
	text := server.Message
	switch class := server.Code[:2]; {
	case class == "53", server.Code == "57P03":
		return &live.Again{Says: "the server is busy: " + text, Down: true}
	case class == "40", class == "55":
		return &live.Again{Says: "the server is busy: " + text}
	case server.Code == "XX000" && strings.Contains(server.Message, "concurrently"):
		return &live.Again{Says: "the server is busy: " + text}
	case class == "57", class == "08":
		return &live.Again{Says: "the server ended the connection: " + text, Sent: writes}
	case server.Code == "42501":
		return &connect.Fault{Kind: connect.Refused, Says: "this caller may not do that: " + text}
	case server.Code == "42704":
		return &connect.Fault{Kind: connect.Conflict, Says: "something is not there any more: " + text}
	}
	if server.Detail != "" {
		text += " (" + server.Detail + ")"
	}
	return &connect.Fault{Kind: connect.Refused, Says: "the server refused it: " + text}
}

// reason is why a connection was not made, without its parameters.
func reason(err error) string {
	for inner := errors.Unwrap(err); inner != nil; inner = errors.Unwrap(err) {
		err = inner
	}
	return err.Error()
}

// Close ends the connections.
func (d *driver) Close() error {
	d.pool.Close()
	return nil
}

// in calls f with a connection to one of the server's databases.
func (d *driver) in(ctx context.Context, database string, f func(*pgx.Conn) error) error {
	c := d.config.ConnConfig.Copy()
	c.Database = database
	conn, err := pgx.ConnectConfig(ctx, c)
	if err != nil {
		return err
	}
	defer conn.Close(context.WithoutCancel(ctx))
	return f(conn)
}

// quoted writes a name as an identifier.
func quoted(name string) string { return pgx.Identifier{name}.Sanitize() }

// Guards: the server knows no versions of roles.
func (d *driver) Guards() bool { return false }

// Identity is the number that a server got when it was made. It implements connect.Known.
func (d *driver) Identity(ctx context.Context) string {
	var id string
	err := d.pool.QueryRow(ctx, "SELECT system_identifier::text FROM pg_control_system()").Scan(&id)
	if err != nil {
		return "" // this caller may not ask
	}
	return id
}

// Check asks the server what this caller may do.
func (d *driver) Check(ctx context.Context) ([]connect.Ability, error) {
	var super bool
	var release string
	err := d.ask(ctx, func(ctx context.Context) error {
		return judge(d.pool.QueryRow(
			ctx,
			"SELECT rolsuper, current_setting('server_version') FROM pg_roles WHERE rolname = current_user",
		).Scan(&super, &release), false)
	})
	if err != nil {
		return nil, err
	}
	out := []connect.Ability{{What: "sign in", May: true, Says: "PostgreSQL " + release}}
	n := 0
	err = d.ask(ctx, func(ctx context.Context) error {
		return judge(d.pool.QueryRow(ctx, "SELECT count(*) FROM pg_roles WHERE rolcanlogin").Scan(&n), false)
	})
	out = append(out, ability("read roles", err == nil, model.Count(n, "login role", "login roles")))
	tried, err := d.tried(ctx)
	if err != nil {
		return nil, err
	}
	out = append(out, tried...)
	for _, name := range of(d.spec).Databases {
		err := d.ask(ctx, func(ctx context.Context) error {
			return judge(d.in(ctx, name, func(*pgx.Conn) error { return nil }), false)
		})
		says := "what a role owns there can be handed over"
		if err != nil {
			says = err.Error()
		} else if !super {
			says = "it can be handed over by a superuser, or a member of both roles"
		}
		out = append(out, ability("database "+name, err == nil, says))
	}
	return out, nil
}

// tried makes a role and puts it into each group role of the catalog, and takes all of that back: it is one
// transaction that is rolled back.
func (d *driver) tried(ctx context.Context) (out []connect.Ability, _ error) {
	name := quoted("pravet tries " + rand.Text())
	err := d.ask(ctx, func(ctx context.Context) error {
		out = nil
		tx, err := d.pool.Begin(ctx)
		if err != nil {
			return judge(err, false)
		}
		defer tx.Rollback(context.WithoutCancel(ctx))
		attempt := func(what, says, sql string) error {
			if _, err := tx.Exec(ctx, "SAVEPOINT try"); err != nil {
				return judge(err, false)
			}
			_, err := tx.Exec(ctx, sql)
			var server *pgconn.PgError
			switch {
			case err == nil:
			case !errors.As(err, &server):
				return judge(err, false)
			default:
				says = server.Message
				if _, err := tx.Exec(ctx, "ROLLBACK TO try"); err != nil {
					return judge(err, false)
				}
			}
			out = append(out, ability(what, err == nil, says))
			return nil
		}
		if err := attempt("create and change roles", "tried, and taken back", "CREATE ROLE "+name); err != nil {
			return err
		}
		if !out[0].May {
			return nil
		}
		for _, kind := range []model.Kind{model.Group, model.Role} {
			for _, group := range d.app.Names(kind) {
				sql := "GRANT " + quoted(group) + " TO " + name
				if err := attempt("grant "+group, "tried, and taken back", sql); err != nil {
					return err
				}
			}
		}
		return nil
	})
	return out, err
}

func ability(what string, may bool, says string) connect.Ability {
	return connect.Ability{What: what, May: may, Says: says}
}

func wrong(kind connect.FaultKind, format string, args ...any) error {
	return &connect.Fault{Kind: kind, Says: fmt.Sprintf(format, args...)}
}
