package prepare

import (
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"time"

	"pravet/internal/connect"
	"pravet/internal/ledger"
)

// What one machine fetches of a live application, others who share its record go by as well, who may not reach it at all: the
// file that was fetched is kept in the record, and brought from there.

// maxFetched is how long a fetched file may be, in bytes.
const maxFetched = 4 << 30

func fetchedAs(mark string) string { return "fetched/" + mark }

// fetchedFile is where the fetched state of a live application is; "" for any other.
func (s *State) fetchedFile(a int) string {
	if _, live := s.Reached[a].(connect.Live); !live {
		return ""
	}
	return s.Repo.Exports[a].Paths[0].Text
}

// Share keeps what was fetched of a live application in a record that others share.
func (s *State) Share(ctx context.Context, l ledger.Ledger, a int, mark string) error {
	file := s.fetchedFile(a)
	if !l.Shared() || file == "" {
		return nil
	}
	if _, ok, err := l.Kept(fetchedAs(mark)); err != nil || ok {
		return err
	}
	data, _, _, err := s.Repo.Tree.ReadAll(ctx, file, maxFetched)
	if err != nil {
		return err
	}
	var pressed bytes.Buffer
	z, err := gzip.NewWriterLevel(&pressed, gzip.BestSpeed)
	if err == nil {
		_, err = z.Write(data)
	}
	if err == nil {
		err = z.Close()
	}
	if err != nil {
		return err
	}
	return l.Keep(ledger.Kept{Digest: fetchedAs(mark), Data: pressed.Bytes()})
}

// Bring puts what another machine has fetched of live applications last in the place of what was fetched here before, if
// anything was. nil means all of them.
func (s *State) Bring(ctx context.Context, l ledger.Ledger, apps []string) error {
	if !l.Shared() || s.Repo.Problems.Errors() > 0 {
		return nil
	}
	chosen, err := choose(s.Repo, apps)
	if err != nil {
		return err
	}
	for a := range s.Repo.Apps {
		if file := s.fetchedFile(a); file != "" && chosen[a] && s.Exports[a] == nil {
			if err := s.bring(ctx, l, a, file); err != nil {
				return err
			}
		}
	}
	return nil
}

func (s *State) bring(ctx context.Context, l ledger.Ledger, a int, file string) error {
	app := s.Repo.Apps[a].ID
	var seen ledger.Export
	if ok, err := l.Last(ledger.ExportSeen, app, &seen); err != nil || !ok {
		return err
	}
	at, err := time.Parse(time.RFC3339, seen.TakenAt)
	if err != nil {
		return err
	}
	mark, err := s.Reached[a].Mark(ctx)
	if err == nil {
		if mark == seen.Digest {
			return nil
		}
		if r, err := s.Repo.Tree.Open(ctx, file); err == nil {
			info, err := r.Info()
			if err = errors.Join(err, r.Close()); err != nil {
				return err
			}
			if !info.ModTime().Before(at) { // fetched here since, and not yet on record
				return nil
			}
		} else if !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	k, ok, err := l.Kept(fetchedAs(seen.Digest))
	if err != nil || !ok {
		return err
	}
	z, err := gzip.NewReader(bytes.NewReader(k.Data))
	if err != nil {
		return fmt.Errorf("what the record keeps of %s cannot be read: %w", app, err)
	}
	tree := s.Repo.Tree
	if err := tree.MakeFolder(file); err != nil {
		return err
	}
	staged, err := tree.Stage(file, 0o600, func(w io.Writer) error {
		_, err := io.Copy(w, io.LimitReader(z, maxFetched))
		return err
	})
	if err != nil {
		return err
	}
	if err = staged.Dated(at); err == nil {
		err = staged.Commit()
	}
	if err != nil {
		staged.Drop()
		return err
	}
	if is, err := s.Reached[a].Mark(ctx); err != nil || is != seen.Digest {
		return fmt.Errorf("what the record keeps of %s is not what was fetched; fetch it again with: pravet fetch %[1]s", app)
	}
	return nil
}
