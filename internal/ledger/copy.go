package ledger

import (
	"context"
	"crypto/rand"
	"database/sql"
	"errors"

	"github.com/jackc/pgx/v5"
)

// parts calls next for the parts of a table until one is empty.
func parts[T any](next func() ([]T, error), f func([]T) error) error {
	for {
		some, err := next()
		if err != nil || len(some) == 0 {
			return err
		}
		if err := f(some); err != nil {
			return err
		}
	}
}

func (l *sqlite) dump(after int64, f loader) (err error) {
	ctx := context.Background()
	conn, err := l.db.Conn(ctx)
	if err != nil {
		return failed(l.path, err)
	}
	if _, err := conn.ExecContext(ctx, "BEGIN"); err != nil {
		return failed(l.path, errors.Join(err, conn.Close()))
	}
	defer func() {
		_, end := conn.ExecContext(ctx, "ROLLBACK")
		err = errors.Join(err, end, conn.Close())
	}()
	from := after
	err = parts(func() ([]Entry, error) {
		page, err := following(ctx, conn, from)
		out := make([]Entry, len(page))
		for i, e := range page {
			out[i], from = *e, e.Seq
		}
		return out, err
	}, f.entries)
	if err != nil {
		return err
	}
	query := func(text string, each func(*sql.Rows) error, args ...any) error {
		rows, err := conn.QueryContext(ctx, text, args...)
		if err != nil {
			return failed(l.path, err)
		}
		defer rows.Close()
		for rows.Next() {
			if err := each(rows); err != nil {
				return err
			}
		}
		return rows.Err()
	}
	var about []aboutRow
	flush := func() error {
		some := about
		about = nil
		return f.about(some)
	}
	err = query(`SELECT what, name, seq FROM about WHERE seq > ?`, func(rows *sql.Rows) error {
		var r aboutRow
		if err := rows.Scan(&r.what, &r.name, &r.seq); err != nil {
			return err
		}
		if about = append(about, r); len(about) == 4*maxPage {
			return flush()
		}
		return nil
	}, after)
	if err == nil {
		err = flush()
	}
	if err != nil {
		return err
	}
	return query(`SELECT digest, base, depth, data FROM kept`, func(rows *sql.Rows) error {
		var k Kept
		if err := rows.Scan(&k.Digest, &k.Base, &k.Depth, &k.Data); err != nil {
			return err
		}
		return f.kept(k)
	})
}

func (l *sqlite) load(f func(loader) error) error {
	tx, err := l.db.Begin()
	if err != nil {
		return failed(l.path, err)
	}
	defer tx.Rollback()
	var head Head
	err = f(loader{
		entries: func(entries []Entry) error {
			head = Head{entries[len(entries)-1].Seq, entries[len(entries)-1].Hash}
			return insertAll(tx, entries)
		},
		about: func(rows []aboutRow) error { return indexAll(tx, rows) },
		kept: func(k Kept) error {
			_, err := tx.Exec(`INSERT OR IGNORE INTO kept (digest, base, depth, data) VALUES (?, ?, ?, ?)`, k.Digest, k.Base, k.Depth, k.Data)
			return err
		},
	})
	if err == nil && head.Seq > 0 {
		err = setHead(tx, head)
	}
	if err == nil {
		err = tx.Commit()
	}
	if err != nil {
		return failed(l.path, err)
	}
	if head.Seq > 0 {
		l.heads.note(head)
	}
	return nil
}

func (l *server) dump(after int64, f loader) error {
	ctx := context.Background()
	tx, err := l.pool.BeginTx(ctx, pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly})
	if err != nil {
		return l.failed(err)
	}
	defer func() { _ = tx.Rollback(ctx) }() // nothing was changed
	from := after
	err = parts(func() (out []Entry, err error) {
		rows, err := tx.Query(ctx, l.sql(`SELECT `+columns+` FROM $.entries WHERE seq > $1 ORDER BY seq LIMIT $2`), from, 8*maxPage)
		if err != nil {
			return nil, l.failed(err)
		}
		page, err := pgx.CollectRows(rows, entryOf)
		for _, e := range page {
			out, from = append(out, *e), e.Seq
		}
		return out, l.failed(err)
	}, f.entries)
	if err != nil {
		return err
	}
	var at aboutRow
	at.seq = after
	err = parts(func() (out []aboutRow, err error) {
		rows, err := tx.Query(ctx, l.sql(`SELECT what, name, seq FROM $.about WHERE seq > $4 AND (what, name, seq) > ($1, $2, $3)
			ORDER BY what, name, seq LIMIT $5`), at.what, at.name, at.seq, after, 8*maxPage)
		if err != nil {
			return nil, l.failed(err)
		}
		out, err = pgx.CollectRows(rows, func(row pgx.CollectableRow) (r aboutRow, err error) {
			return r, row.Scan(&r.what, &r.name, &r.seq)
		})
		if len(out) > 0 {
			at = out[len(out)-1]
		}
		return out, l.failed(err)
	}, f.about)
	if err != nil {
		return err
	}
	digest := ""
	return parts(func() ([]Kept, error) {
		rows, err := tx.Query(ctx, l.sql(`SELECT digest, base, depth, data FROM $.kept WHERE digest > $1 ORDER BY digest LIMIT 16`), digest)
		if err != nil {
			return nil, l.failed(err)
		}
		out, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (k Kept, err error) {
			return k, row.Scan(&k.Digest, &k.Base, &k.Depth, &k.Data)
		})
		if len(out) > 0 {
			digest = out[len(out)-1].Digest
		}
		return out, l.failed(err)
	}, func(some []Kept) error {
		for _, k := range some {
			if err := f.kept(k); err != nil {
				return err
			}
		}
		return nil
	})
}

func (l *server) load(f func(loader) error) error {
	ctx := context.Background()
	tx, err := l.pool.Begin(ctx)
	if err != nil {
		return l.failed(err)
	}
	defer func() { _ = tx.Rollback(ctx) }() // it does nothing after the end
	if _, err := tx.Exec(ctx, `SELECT pg_advisory_xact_lock(hashtextextended($1, 20))`, l.schema); err != nil {
		return l.failed(err)
	}
	var head Head
	call := rand.Text()
	err = f(loader{
		entries: func(entries []Entry) error {
			head = Head{entries[len(entries)-1].Seq, entries[len(entries)-1].Hash}
			return l.insert(ctx, tx, call, entries, nil)
		},
		about: func(rows []aboutRow) error {
			if len(rows) == 0 {
				return nil
			}
			return l.insert(ctx, tx, call, nil, rows)
		},
		kept: func(k Kept) error {
			_, err := tx.Exec(ctx, l.sql(`INSERT INTO $.kept (digest, base, depth, data) VALUES ($1, $2, $3, $4) ON CONFLICT DO NOTHING`),
				k.Digest, k.Base, k.Depth, k.Data)
			return err
		},
	})
	if err == nil {
		err = tx.Commit(ctx)
	}
	if err != nil {
		return l.failed(err)
	}
	if head.Seq > 0 {
		l.heads.note(head)
	}
	return nil
}
