package ledger

import (
	"context"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"
)

// The roles of a record, after the name of its schema: who owns the tables, who may add to them, and who may read them.
const (
	ownerRole  = "_owner"
	writerRole = "_writer"
	readerRole = "_reader"
)

// tables are the tables of a record, in the form of Version.
const tables = `CREATE TABLE IF NOT EXISTS $.book (
	one boolean PRIMARY KEY DEFAULT true CHECK (one), version integer NOT NULL,
	organization text NOT NULL, id text NOT NULL DEFAULT gen_random_uuid()::text
);
CREATE TABLE IF NOT EXISTS $.entries (
	seq bigint PRIMARY KEY CHECK (seq > 0), at text NOT NULL, by text NOT NULL,
	kind text COLLATE "C" NOT NULL, subject text COLLATE "C" NOT NULL, body text NOT NULL, prev text NOT NULL, hash text NOT NULL,
	call text NOT NULL
);
CREATE INDEX IF NOT EXISTS entries_kind ON $.entries (kind, subject, seq);
CREATE INDEX IF NOT EXISTS entries_subject ON $.entries (subject, seq);
CREATE TABLE IF NOT EXISTS $.about (
	what text COLLATE "C" NOT NULL, name text COLLATE "C" NOT NULL, seq bigint NOT NULL, PRIMARY KEY (what, name, seq)
);
CREATE TABLE IF NOT EXISTS $.kept (
	digest text PRIMARY KEY, base text NOT NULL, depth integer NOT NULL, data bytea NOT NULL
);
CREATE TABLE IF NOT EXISTS $.lease (
	name text PRIMARY KEY, number bigint NOT NULL, by text NOT NULL, machine text NOT NULL, pid bigint NOT NULL,
	what text NOT NULL, since text NOT NULL, until timestamptz NOT NULL, call text NOT NULL
);
`

// migrations bring a record of an older form up to the next, the first one a record of form 1 to form 2. Each runs once, in
// the transaction of Grant.
var migrations []string

// Grant is the SQL by which a role that may make roles and schemas makes a record, or brings it up to date, and gives its
// user what it needs: to add to it and to read it, and nothing else.
func Grant(opt Options) string {
	s := opt.Server
	schema := s.schemaOf(opt.Environment)
	name := func(n string) string { return pgx.Identifier{n}.Sanitize() }
	text := func(t string) string { return "'" + strings.ReplaceAll(t, "'", "''") + "'" }
	owner, writer, reader := name(schema+ownerRole), name(schema+writerRole), name(schema+readerRole)
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	line("-- The record of %s. Run it as a role that may make roles and schemas, once, and again after an update.", s.Organization)
	line("BEGIN;")
	for _, role := range []string{schema + ownerRole, schema + writerRole, schema + readerRole} {
		line("DO $do$ BEGIN CREATE ROLE %s NOLOGIN; EXCEPTION WHEN duplicate_object THEN NULL; END $do$;", name(role))
	}
	line("DO $do$ BEGIN IF NOT (SELECT rolsuper FROM pg_roles WHERE rolname = current_user) THEN GRANT %s TO CURRENT_USER; END IF; END $do$;", owner)
	line("CREATE SCHEMA IF NOT EXISTS %s AUTHORIZATION %s;", name(schema), owner)
	line("SET LOCAL ROLE %s;", owner)
	line("SET LOCAL search_path = %s;", name(schema))
	b.WriteString(strings.ReplaceAll(tables, "$.", name(schema)+"."))
	line("INSERT INTO book (version, organization) VALUES (1, %s) ON CONFLICT DO NOTHING;", text(s.Organization))
	for i, m := range migrations {
		line("DO $do$ BEGIN IF (SELECT version FROM book) = %d THEN %s UPDATE book SET version = %d; END IF; END $do$;", i+1, m, i+2)
	}
	line("GRANT USAGE ON SCHEMA %s TO %s, %s;", name(schema), writer, reader)
	line("GRANT SELECT ON ALL TABLES IN SCHEMA %s TO %s, %s;", name(schema), writer, reader)
	line("GRANT INSERT ON entries, about, kept, lease TO %s;", writer)
	line("GRANT UPDATE ON lease TO %s;", writer)
	line("RESET ROLE;")
	line("GRANT %s TO %s;", writer, name(s.User))
	line("COMMIT;")
	return b.String()
}

// RunGrant executes what Grant prints, as the user of the server that opt names signs in.
func RunGrant(opt Options, user string) error {
	as := *opt.Server
	as.User = user
	l := &server{opt: opt, schema: opt.Server.schemaOf(opt.Environment)}
	l.opt.Server = &as
	if err := l.dial(); err != nil {
		return err
	}
	defer l.pool.Close()
	ctx, stop := context.WithTimeout(context.Background(), answer)
	defer stop()
	conn, err := l.pool.Acquire(ctx)
	if err != nil {
		return l.failed(err)
	}
	defer conn.Release()
	// Several statements at once go by the simple protocol.
	_, err = conn.Conn().PgConn().Exec(ctx, Grant(opt)).ReadAll()
	return l.failed(err)
}
