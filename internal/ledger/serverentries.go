package ledger

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
)

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
	rows, err := in.Query(ctx, l.sql("SELECT e.seq FROM $.entries e")+q.clauses(where), args...)
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
