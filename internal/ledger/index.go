package ledger

import (
	"cmp"
	"database/sql"
	"encoding/json"
	"slices"
	"strings"
)

// indexOld fills the index of a ledger that was written before there was one.
func indexOld(tx *sql.Tx) error {
	rows, err := tx.Query(`SELECT seq, kind, body FROM entries ORDER BY seq`)
	if err != nil {
		return err
	}
	defer rows.Close()
	abouts := map[int64]About{}
	for rows.Next() {
		var seq int64
		var kind Kind
		var text string
		if err := rows.Scan(&seq, &kind, &text); err != nil {
			return err
		}
		var body struct {
			Plan    string
			Changes json.RawMessage
			Along   []string
			Change  string
		}
		if err := json.Unmarshal([]byte(text), &body); err != nil {
			continue // Verify and whoever reads it will say so
		}
		a := About{Plan: body.Plan, Changes: body.Along}
		var ids []string
		if json.Unmarshal(body.Changes, &ids) == nil { // of a run it is a number
			a.Changes = append(a.Changes, ids...)
		}
		if body.Change != "" {
			a.Changes = append(a.Changes, body.Change)
		}
		abouts[seq] = a
	}
	if err := rows.Err(); err != nil {
		return err
	}
	for seq, a := range abouts {
		if err := index(tx, seq, a); err != nil {
			return err
		}
	}
	return nil
}

// index notes what an entry can be found by.
func index(tx *sql.Tx, seq int64, a About) error { return indexAll(tx, a.rows(seq, nil)) }

// An aboutRow is one row of the index: what an entry can be found by.
type aboutRow struct {
	what, name string
	seq        int64
}

// compare is the order of the table's key.
func (r aboutRow) compare(o aboutRow) int {
	return cmp.Or(strings.Compare(r.what, o.what), strings.Compare(r.name, o.name), cmp.Compare(r.seq, o.seq))
}

// rows adds the rows of an entry.
func (a About) rows(seq int64, to []aboutRow) []aboutRow {
	add := func(what string, names ...string) {
		for _, name := range names {
			if name != "" {
				to = append(to, aboutRow{what, name, seq})
			}
		}
	}
	add("plan", a.Plan)
	add("change", a.Changes...)
	add("person", a.People...)
	return to
}

// atOnce is how many rows one statement inserts: SQLite reads a statement with many rows faster
// than many statements.
const atOnce = 200

// indexAll inserts rows, in the order of the table's key, in which they are inserted fastest.
func indexAll(tx *sql.Tx, rows []aboutRow) error {
	slices.SortFunc(rows, aboutRow.compare)
	var whole *sql.Stmt
	for some := range slices.Chunk(rows, atOnce) {
		args := make([]any, 0, 3*len(some))
		for _, r := range some {
			args = append(args, r.what, r.name, r.seq)
		}
		text := `INSERT OR IGNORE INTO about (what, name, seq) VALUES (?, ?, ?)` + strings.Repeat(
			", (?, ?, ?)",
			len(some)-1,
		)
		if len(some) < atOnce {
			if _, err := tx.Exec(text, args...); err != nil {
				return err
			}
			continue
		}
		if whole == nil {
			var err error
			if whole, err = tx.Prepare(text); err != nil {
				return err
			}
			defer whole.Close()
		}
		if _, err := whole.Exec(args...); err != nil {
			return err
		}
	}
	return nil
}
