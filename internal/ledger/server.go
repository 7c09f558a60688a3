package ledger

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/url"
	"slices"
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

// Append adds entries, all or none.
func (l *server) Append(records ...Record) error {
	if len(records) == 0 {
		return nil
	}
	return l.append(func(context.Context, pgx.Tx) ([]Record, error) { return records, nil })
}

// Begin records the beginning of a run under a new name.
func (l *server) Begin(run Run) (string, error) {
	err := l.append(func(ctx context.Context, tx pgx.Tx) ([]Record, error) {
		var newest string
		err := tx.QueryRow(ctx, l.sql(`SELECT subject FROM $.entries WHERE kind = 'run' ORDER BY seq DESC LIMIT 1`)).Scan(&newest)
		if err != nil && !errors.Is(err, pgx.ErrNoRows) {
			return nil, err
		}
		if run.Run, err = nextRun(newest); err != nil {
			return nil, &refusal{err}
		}
		return []Record{{Kind: RunStarted, Subject: run.Run, Body: run}}, nil
	})
	return run.Run, err
}

// append adds entries, unless entries that were there before are gone.
func (l *server) append(what func(context.Context, pgx.Tx) ([]Record, error)) error {
	if !l.sound.Load() {
		if err := l.Cut(); err != nil {
			return err
		}
		l.sound.Store(true)
	}
	return l.put(what)
}

// Trust records that it is right that entries are gone; from then on the ledger may be written again.
func (l *server) Trust(d Decision) error {
	said := Record{Kind: Decided, Body: d}
	return l.put(func(context.Context, pgx.Tx) ([]Record, error) { return []Record{said}, nil })
}

// put adds entries. Where nobody has heard how a transaction ended, the next one looks whether its entries are there, once it is
// alone: so nothing is recorded twice, and nothing is lost. (What pg_xact_status says is no help: a server that was killed
// gives the numbers of transactions out again that it had not written down.)
func (l *server) put(what func(context.Context, pgx.Tx) ([]Record, error)) error {
	t := transaction{call: rand.Text()}
	until := time.Now().Add(again)
	for pause := 50 * time.Millisecond; ; pause *= 2 {
		err := l.write(&t, what)
		if err == nil {
			l.heads.note(t.head)
			return nil
		}
		late := time.Now().Add(pause).After(until)
		switch {
		case !away(err) || fatal(err):
			return l.failed(err)
		case late && t.sent:
			return &Unreachable{l.path, fmt.Errorf(
				"%s; whether the last entries were recorded cannot be told before it answers again", why(err),
			)}
		case late:
			return l.failed(err)
		}
		time.Sleep(pause)
	}
}

// A transaction is one that adds entries.
type transaction struct {
	call string // which no other call has, and by which its entries are known
	sent bool   // it was told to end well, and nobody knows whether it did
	head Head   // after it
}

func (l *server) write(t *transaction, what func(context.Context, pgx.Tx) ([]Record, error)) (err error) {
	ctx, stop := context.WithTimeout(context.Background(), answer)
	defer stop()
	tx, err := l.pool.Begin(ctx)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback(context.WithoutCancel(ctx)) }() // it does nothing after the end
	var head Head
	var moved movedTo
	var first pgx.Batch
	first.Queue(`SELECT set_config('idle_in_transaction_session_timeout', $1, true), set_config('synchronous_commit', 'on', true)`, idle)
	first.Queue(`SELECT pg_advisory_xact_lock(hashtextextended($1, 20))`, l.schema) // until then, one that broke off may not have ended
	first.Queue(l.sql(`SELECT coalesce((SELECT max(seq) FROM $.entries), 0),
		coalesce((SELECT hash FROM $.entries ORDER BY seq DESC LIMIT 1), ''),
		coalesce((SELECT CASE kind WHEN 'moved' THEN body END FROM $.entries ORDER BY seq DESC LIMIT 1), '')`)).
		QueryRow(func(row pgx.Row) error { return row.Scan(&head.Seq, &head.Hash, (*string)(&moved)) })
	if err := tx.SendBatch(ctx, &first).Close(); err != nil {
		return err
	}
	if t.sent {
		var call string
		err := tx.QueryRow(ctx, l.sql(`SELECT call FROM $.entries WHERE seq = $1`), t.head.Seq).Scan(&call)
		if err != nil && !errors.Is(err, pgx.ErrNoRows) {
			return err
		}
		if t.sent = false; call == t.call {
			return nil
		}
	}
	records, err := what(ctx, tx)
	if err != nil {
		return err
	}
	if err := moved.elsewhere(l.path, l.id); err != nil {
		return &refusal{err}
	}
	entries, about, err := l.opt.chain(head, records)
	if err != nil {
		return &refusal{err}
	}
	if err := l.insert(ctx, tx, t.call, entries, about); err != nil {
		return err
	}
	newest := entries[len(entries)-1]
	t.head, t.sent = Head{newest.Seq, newest.Hash}, true
	err = tx.Commit(ctx)
	if err == nil || !away(err) { // the server has said how it ended
		t.sent = false
	}
	return err
}

// few is how many rows a statement takes as well as a copy does.
const few = 20

// insert inserts the entries of a call as they are, and what they can be found by.
func (l *server) insert(ctx context.Context, tx pgx.Tx, call string, entries []Entry, about []aboutRow) error {
	slices.SortFunc(about, aboutRow.compare) // in the order of the table's key, in which they are inserted fastest
	about = slices.Compact(about)
	var batch pgx.Batch
	if len(entries) <= few {
		for i := range entries {
			e := &entries[i]
			batch.Queue(l.sql(`INSERT INTO $.entries (`+columns+`, call) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9)`),
				e.Seq, e.At, e.By, string(e.Kind), e.Subject, string(e.Body), e.Prev, e.Hash, call)
		}
	}
	if len(about) <= few {
		for _, r := range about {
			batch.Queue(l.sql(`INSERT INTO $.about (what, name, seq) VALUES ($1, $2, $3)`), r.what, r.name, r.seq)
		}
	}
	if batch.Len() > 0 {
		if err := tx.SendBatch(ctx, &batch).Close(); err != nil {
			return err
		}
	}
	if len(entries) > few {
		_, err := tx.CopyFrom(ctx, pgx.Identifier{l.schema, "entries"}, append(strings.Split(columns, ", "), "call"),
			pgx.CopyFromSlice(len(entries), func(i int) ([]any, error) {
				e := &entries[i]
				return []any{e.Seq, e.At, e.By, string(e.Kind), e.Subject, string(e.Body), e.Prev, e.Hash, call}, nil
			}))
		if err != nil {
			return err
		}
	}
	if len(about) > few {
		_, err := tx.CopyFrom(ctx, pgx.Identifier{l.schema, "about"}, []string{"what", "name", "seq"},
			pgx.CopyFromSlice(len(about), func(i int) ([]any, error) {
				return []any{about[i].what, about[i].name, about[i].seq}, nil
			}))
		return err
	}
	return nil
}

// Scan calls f for entries. What an entry says is checked against its hash.
func (l *server) Scan(q Query, f func(*Entry) error) error {
	var seqs []int64
	err := l.try(func(ctx context.Context) (err error) {
		seqs, err = l.find(ctx, l.pool, q)
		return err
	})
	if err != nil {
		return l.failed(err)
	}
	size := maxPage / 8 // who asks for the newest wants a few of them
	for len(seqs) > 0 {
		n := min(size, len(seqs))
		size = min(8*size, 8*maxPage)
		entries, err := l.page(seqs[:n])
		if err != nil {
			return err
		}
		seqs = seqs[n:]
		if more, err := hand(l.path, entries, f); err != nil || !more {
			return err
		}
	}
	return nil
}

// find lists the numbers of the entries that a query asks for.
func (l *server) find(ctx context.Context, in interface {
	Query(ctx context.Context, sql string, args ...any) (pgx.Rows, error)
}, q Query) (seqs []int64, err error) {
	var where []string
	var args []any
	arg := func(v any) string {
		args = append(args, v)
		return fmt.Sprintf("$%d", len(args))
	}
	for _, x := range [][2]string{{"plan", q.Plan}, {"person", q.Person}, {"change", q.Change}} {
		if x[1] != "" {
			where = append(where, l.sql("e.seq IN (SELECT seq FROM $.about WHERE what = "+arg(x[0])+" AND name = "+arg(x[1])+")"))
		}
	}
	if q.Subject != "" {
		where = append(where, "e.subject = "+arg(q.Subject))
	}
	if len(q.Kinds) > 0 {
		var kinds []string
		for _, k := range q.Kinds {
			kinds = append(kinds, string(k))
		}
		where = append(where, "e.kind = ANY("+arg(kinds)+")")
	}
	if q.After > 0 {
		where = append(where, "e.seq > "+arg(q.After))
	}
	if q.Others != "" {
		where = append(where, "e.subject <> "+arg(q.Others))
	}
	query := l.sql("SELECT e.seq FROM $.entries e")
	if len(where) > 0 {
		query += " WHERE " + strings.Join(where, " AND ")
	}
	query += " ORDER BY e.seq"
	if q.Newest {
		query += " DESC"
	}
	rows, err := in.Query(ctx, query, args...)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[int64])
}

const columns = `seq, at, by, kind, subject, body, prev, hash`

// entryOf is the one of a row.
func entryOf(row pgx.CollectableRow) (*Entry, error) {
	var e Entry
	var body string
	err := row.Scan(&e.Seq, &e.At, &e.By, &e.Kind, &e.Subject, &body, &e.Prev, &e.Hash)
	e.Body = json.RawMessage(body)
	return &e, err
}

// page reads some entries, in the order of their numbers as they are given.
func (l *server) page(seqs []int64) (out []*Entry, err error) {
	var found []*Entry
	err = l.try(func(ctx context.Context) error {
		rows, err := l.pool.Query(ctx, l.sql(`SELECT `+columns+` FROM $.entries WHERE seq = ANY($1::bigint[])`), seqs)
		if err == nil {
			found, err = pgx.CollectRows(rows, entryOf)
		}
		return err
	})
	if err != nil {
		return nil, l.failed(err)
	}
	byNumber := make(map[int64]*Entry, len(found))
	for _, e := range found {
		byNumber[e.Seq] = e
	}
	for _, s := range seqs {
		if e := byNumber[s]; e != nil {
			out = append(out, e)
		}
	}
	return out, nil
}

// Last decodes the newest entry of a kind and a subject.
func (l *server) Last(kind Kind, subject string, body any) (ok bool, err error) {
	var e *Entry
	err = l.try(func(ctx context.Context) error {
		rows, err := l.pool.Query(ctx, l.sql(`SELECT `+columns+` FROM $.entries WHERE kind = $1 AND ($2 = '' OR subject = $2)
			ORDER BY seq DESC LIMIT 1`), string(kind), subject)
		if err == nil {
			e, err = pgx.CollectExactlyOneRow(rows, entryOf)
		}
		return err
	})
	switch {
	case errors.Is(err, pgx.ErrNoRows):
		return false, nil
	case err == nil && e.sum() != e.Hash:
		return false, &Changed{l.path, e}
	case err == nil:
		if err := json.Unmarshal(e.Body, body); err != nil {
			return false, failed(l.path, err)
		}
	}
	return err == nil, l.failed(err)
}

// Keep keeps what an export held, once.
func (l *server) Keep(k Kept) error {
	return l.failed(l.try(func(ctx context.Context) error {
		_, err := l.pool.Exec(ctx, l.sql(`INSERT INTO $.kept (digest, base, depth, data) VALUES ($1, $2, $3, $4) ON CONFLICT DO NOTHING`),
			k.Digest, k.Base, k.Depth, k.Data)
		return err
	}))
}

// Kept is what was kept under a digest.
func (l *server) Kept(digest string) (k Kept, ok bool, err error) {
	k.Digest = digest
	err = l.try(func(ctx context.Context) error {
		return l.pool.QueryRow(ctx, l.sql(`SELECT base, depth, data FROM $.kept WHERE digest = $1`), digest).
			Scan(&k.Base, &k.Depth, &k.Data)
	})
	if errors.Is(err, pgx.ErrNoRows) {
		return k, false, nil
	}
	return k, err == nil, l.failed(err)
}

// Head is the newest entry's number and hash.
func (l *server) Head() (h Head, err error) {
	err = l.try(func(ctx context.Context) error {
		return l.pool.QueryRow(ctx, l.sql(`SELECT seq, hash FROM $.entries ORDER BY seq DESC LIMIT 1`)).Scan(&h.Seq, &h.Hash)
	})
	if errors.Is(err, pgx.ErrNoRows) {
		return Head{}, nil
	}
	return h, l.failed(err)
}

// Cut reports that the noted entry is not in the ledger, or that the record is kept elsewhere by now.
func (l *server) Cut() error {
	if err := l.gone(); err != nil {
		return err
	}
	return l.heads.cut(l.path, l.At, l.Head)
}

// gone is an error where the record is kept elsewhere by now.
func (l *server) gone() error {
	var moved movedTo
	err := l.try(func(ctx context.Context) error {
		return l.pool.QueryRow(ctx, l.sql(`SELECT CASE kind WHEN 'moved' THEN body ELSE '' END FROM $.entries ORDER BY seq DESC LIMIT 1`)).
			Scan((*string)(&moved))
	})
	if err != nil && !errors.Is(err, pgx.ErrNoRows) {
		return l.failed(err)
	}
	return moved.elsewhere(l.path, l.id)
}

// Verify recomputes the whole chain.
func (l *server) Verify() (v *Verdict, err error) {
	err = l.try(func(ctx context.Context) error {
		// Entries and head are of one moment, whoever adds entries meanwhile.
		tx, err := l.pool.BeginTx(ctx, pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly})
		if err != nil {
			return err
		}
		defer func() { _ = tx.Rollback(context.WithoutCancel(ctx)) }() // nothing was changed
		v, err = verify(func(f func(*Entry) error) error {
			return l.all(ctx, tx, f)
		}, func() (Head, error) { return Head{}, nil })
		return err
	})
	return v, l.failed(err)
}

// all calls f for every entry, in their order, as one moment has them.
func (l *server) all(ctx context.Context, tx pgx.Tx, f func(*Entry) error) error {
	for from := int64(-1 << 62); ; {
		rows, err := tx.Query(ctx, l.sql(`SELECT `+columns+` FROM $.entries WHERE seq > $1 ORDER BY seq LIMIT $2`), from, 8*maxPage)
		if err != nil {
			return err
		}
		entries, err := pgx.CollectRows(rows, entryOf)
		if err != nil || len(entries) == 0 {
			return err
		}
		for _, e := range entries {
			if err := f(e); errors.Is(err, ErrStop) {
				return nil
			} else if err != nil {
				return err
			}
			from = e.Seq
		}
	}
}
