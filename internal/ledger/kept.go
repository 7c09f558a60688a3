package ledger

import (
	"database/sql"
	"errors"
)

// Keep keeps what an export held, once.
func (l *sqlite) Keep(k Kept) error {
	_, err := l.db.Exec(
		`INSERT OR IGNORE INTO kept (digest, base, depth, data) VALUES (?, ?, ?, ?)`, k.Digest, k.Base, k.Depth, k.Data,
	)
	if err != nil {
		return failed(l.path, err)
	}
	return nil
}

// Kept is what was kept under a digest.
func (l *sqlite) Kept(digest string) (k Kept, ok bool, err error) {
	if v, err := l.version(); err != nil || v < 2 { // written before anything was kept
		return k, false, err
	}
	k.Digest = digest
	err = l.db.QueryRow(`SELECT base, depth, data FROM kept WHERE digest = ?`, digest).Scan(&k.Base, &k.Depth, &k.Data)
	if errors.Is(err, sql.ErrNoRows) {
		return k, false, nil
	}
	if err != nil {
		return k, false, failed(l.path, err)
	}
	return k, true, nil
}
