package ledger

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"strings"
)

// maxPage is how many entries are in memory at a time while they are scanned.
const maxPage = 512

// Scan calls f for entries. No row is open while f runs, so that it may use the
// ledger itself. What an entry says is checked against its hash.
func (l *sqlite) Scan(q Query, f func(*Entry) error) error {
	seqs, err := find(context.Background(), l.db, q)
	if err != nil {
		return failed(l.path, err)
	}
	for page := range pages(seqs, q.Newest) {
		entries, err := l.page(page)
		if err != nil {
			return failed(l.path, err)
		}
		if more, err := hand(l.path, entries, f); err != nil || !more {
			return err
		}
	}
	return nil
}

// pages parts numbers of entries. Who asks for the newest first mostly wants few: the first pages are small.
func pages(seqs []int64, newest bool) iter.Seq[[]int64] {
	size := maxPage
	if newest {
		size = 1
	}
	return func(yield func([]int64) bool) {
		for len(seqs) > 0 {
			n := min(size, len(seqs))
			if !yield(seqs[:n]) {
				return
			}
			seqs, size = seqs[n:], min(size*8, maxPage)
		}
	}
}

// hand gives entries to whoever scans, each proved by its hash. more is false where no others are wanted.
func hand(path string, entries []*Entry, f func(*Entry) error) (more bool, err error) {
	for _, e := range entries {
		if e.sum() != e.Hash {
			return false, &Changed{path, e}
		}
		if err := f(e); errors.Is(err, ErrStop) {
			return false, nil
		} else if err != nil {
			return false, err
		}
	}
	return true, nil
}

// find lists the numbers of the entries that a query asks for.
func find(ctx context.Context, in querier, q Query) (seqs []int64, err error) {
	where, args := []string{}, []any{}
	// What an entry is about leaves few of them; the rest of a query then looks at
	// no index (a + keeps SQLite from it), in which there may be all.
	narrow := ""
	for _, x := range [][2]string{{"plan", q.Plan}, {"person", q.Person}, {"change", q.Change}} {
		if x[1] != "" {
			narrow = "+"
			where = append(where, "e.seq IN (SELECT seq FROM about WHERE what = ? AND name = ?)")
			args = append(args, x[0], x[1])
		}
	}
	if q.After > 0 {
		where, args = append(where, "e.seq > ?"), append(args, q.After)
		narrow = "+" // there are few of them as well
	}
	if q.Subject != "" {
		where, args = append(where, narrow+"e.subject = ?"), append(args, q.Subject)
	}
	if len(q.Kinds) > 0 {
		where = append(where, narrow+"e.kind IN (?"+strings.Repeat(", ?", len(q.Kinds)-1)+")")
		for _, k := range q.Kinds {
			args = append(args, k)
		}
	}
	if q.Others != "" {
		where, args = append(where, "+e.subject <> ?"), append(args, q.Others)
	}
	rows, err := in.QueryContext(ctx, "SELECT e.seq FROM entries e"+q.clauses(where), args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var seq int64
		if err := rows.Scan(&seq); err != nil {
			return nil, err
		}
		seqs = append(seqs, seq)
	}
	return seqs, rows.Err()
}

// clauses are what follows the table in a query for the entries of q: conditions, order and limit.
func (q *Query) clauses(where []string) (out string) {
	if len(where) > 0 {
		out = " WHERE " + strings.Join(where, " AND ")
	}
	out += " ORDER BY e.seq"
	if q.Newest {
		out += " DESC"
	}
	if q.Limit > 0 {
		out += fmt.Sprintf(" LIMIT %d", q.Limit)
	}
	return out
}

// page reads some entries, in the order of their numbers as they are given.
func (l *sqlite) page(seqs []int64) ([]*Entry, error) {
	args := make([]any, len(seqs))
	for i, s := range seqs {
		args[i] = s
	}
	rows, err := l.db.Query(
		`SELECT seq, at, by, kind, subject, body, prev, hash FROM entries WHERE seq IN (?`+strings.Repeat(
			",?",
			len(seqs)-1,
		)+`)`,
		args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	byNumber := make(map[int64]*Entry, len(seqs))
	for rows.Next() {
		e, err := entry(rows)
		if err != nil {
			return nil, err
		}
		byNumber[e.Seq] = e
	}
	out := make([]*Entry, 0, len(seqs))
	for _, s := range seqs {
		if e := byNumber[s]; e != nil {
			out = append(out, e)
		}
	}
	return out, rows.Err()
}

// entry is the one of a row.
func entry(rows *sql.Rows) (*Entry, error) {
	var e Entry
	var body string
	err := rows.Scan(&e.Seq, &e.At, &e.By, &e.Kind, &e.Subject, &body, &e.Prev, &e.Hash)
	e.Body = json.RawMessage(body)
	return &e, err
}

// Last decodes the newest entry of a kind and a subject.
func (l *sqlite) Last(kind Kind, subject string, body any) (ok bool, err error) {
	query, args := `SELECT seq FROM entries WHERE kind = ?`, []any{kind}
	if subject != "" {
		query, args = query+` AND subject = ?`, append(args, subject)
	}
	var seq int64
	err = l.db.QueryRow(query+` ORDER BY seq DESC LIMIT 1`, args...).Scan(&seq)
	if errors.Is(err, sql.ErrNoRows) {
		return false, nil
	}
	var entries []*Entry
	if err == nil {
		entries, err = l.page([]int64{seq})
	}
	if err == nil && len(entries) == 1 && entries[0].sum() != entries[0].Hash {
		return false, &Changed{l.path, entries[0]}
	}
	if err == nil && len(entries) == 1 {
		err = json.Unmarshal(entries[0].Body, body)
	}
	if err != nil {
		return false, failed(l.path, err)
	}
	return len(entries) == 1, nil
}

// Verify recomputes the whole chain.
func (l *sqlite) Verify() (v *Verdict, err error) {
	// Entries and head are of one moment, whoever adds entries meanwhile.
	ctx := context.Background()
	conn, err := l.db.Conn(ctx)
	if err != nil {
		return nil, failed(l.path, err)
	}
	if _, err := conn.ExecContext(ctx, "BEGIN"); err != nil {
		return nil, failed(l.path, errors.Join(err, conn.Close()))
	}
	defer func() {
		_, end := conn.ExecContext(ctx, "ROLLBACK")
		err = errors.Join(err, end, conn.Close())
	}()
	return verify(func(f func(*Entry) error) error {
		for from := int64(-1 << 62); ; {
			entries, err := following(ctx, conn, from)
			if err != nil {
				return failed(l.path, err)
			}
			for _, e := range entries {
				if err := f(e); errors.Is(err, ErrStop) {
					return nil
				} else if err != nil {
					return err
				}
				from = e.Seq
			}
			if len(entries) == 0 {
				return nil
			}
		}
	}, func() (Head, error) { return l.headIn(ctx, conn) })
}

// A querier is the database, or one connection to it.
type querier interface {
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
	QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row
}

// following reads the next entries after a number.
func following(ctx context.Context, in querier, seq int64) ([]*Entry, error) {
	rows, err := in.QueryContext(
		ctx,
		`SELECT seq, at, by, kind, subject, body, prev, hash FROM entries WHERE seq > ? ORDER BY seq LIMIT ?`,
		seq,
		maxPage,
	)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []*Entry
	for rows.Next() {
		e, err := entry(rows)
		if err != nil {
			return nil, err
		}
		out = append(out, e)
	}
	return out, rows.Err()
}

// Head is the newest entry's number and hash; both are empty in a new ledger.
func (l *sqlite) Head() (h Head, err error) { return l.headIn(context.Background(), l.db) }

func (l *sqlite) headIn(ctx context.Context, in querier) (h Head, err error) {
	err = in.QueryRowContext(ctx, `SELECT seq, hash FROM head`).Scan(&h.Seq, &h.Hash)
	if errors.Is(err, sql.ErrNoRows) {
		return h, nil
	}
	if err != nil {
		return h, failed(l.path, err)
	}
	return h, nil
}
