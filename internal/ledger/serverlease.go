package ledger

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"os"
	"slices"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
)

// term is how long a lease lasts that nobody renews.
const term = time.Minute

// A hold is the lease of one application, in a database. By its clock alone is told when it ends.
type hold struct {
	app    string
	number int64

	mu    sync.Mutex
	until time.Time // by this machine's clock, a while before the database's says so
	lost  *Lost
}

// serverLease is a lease of which the database keeps who has it.
type serverLease struct {
	l     *server
	holds map[string]*hold
	stop  context.CancelFunc
	done  chan struct{}
}

// term is how long a lease lasts that is not renewed.
func (l *server) term() time.Duration { return cmp.Or(l.opt.Server.Term, term) }

// Lease makes this process the only one that changes some applications, on whatever machine.
func (l *server) Lease(apps []string, what string) (Lease, error) {
	out := &serverLease{l: l, holds: map[string]*hold{}, done: make(chan struct{})}
	for _, app := range slices.Compact(slices.Sorted(slices.Values(apps))) {
		h, err := l.take(app, what)
		if err != nil {
			close(out.done)
			return nil, errors.Join(err, out.Release())
		}
		out.holds[app] = h
	}
	ctx, stop := context.WithCancel(context.Background())
	out.stop = stop
	go out.keep(ctx)
	l.mu.Lock()
	defer l.mu.Unlock()
	for app, h := range out.holds {
		l.holds[app] = h
	}
	return out, nil
}

// take takes the lease of an application, which nobody may have, or whose time is over.
func (l *server) take(app, what string) (*hold, error) {
	machine, _ := os.Hostname() // without it, nobody can tell which
	h := &hold{app: app}
	call := rand.Text() // by which it is known to be this one, where the answer was lost
	for tries := 0; ; tries++ {
		asked := time.Now()
		err := l.try(func(ctx context.Context) error {
			return l.pool.QueryRow(ctx, l.sql(`INSERT INTO $.lease AS l (name, number, by, machine, pid, what, since, until, call)
				VALUES ($1, 1, $2, $3, $4, $5, $6, clock_timestamp() + $7 * interval '1 millisecond', $8)
				ON CONFLICT (name) DO UPDATE SET number = l.number + 1, call = excluded.call, by = excluded.by, machine = excluded.machine, pid = excluded.pid,
					what = excluded.what, since = excluded.since, until = excluded.until
				WHERE l.until < clock_timestamp() OR l.call = excluded.call RETURNING number`),
				app, l.opt.By, machine, os.Getpid(), what, l.opt.Now().UTC().Format(time.RFC3339), l.term().Milliseconds(), call,
			).Scan(&h.number)
		})
		switch {
		case err == nil:
			h.until = asked.Add(l.term() * 3 / 4)
			return h, nil
		case !errors.Is(err, pgx.ErrNoRows):
			return nil, l.failed(err)
		case tries > 0: // others may be looking whether it is free
			by := l.Holder(app)
			if by == nil {
				by = &Holder{App: app}
			}
			return nil, &Leased{by}
		}
		time.Sleep(time.Second)
	}
}

// keep renews a lease until it is given back.
func (s *serverLease) keep(ctx context.Context) {
	defer close(s.done)
	tick := time.NewTicker(s.l.term() / 4)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			for _, h := range s.holds {
				_ = s.l.renew(ctx, h) // whoever needs it asks again, and hears
			}
		}
	}
}

// renew makes a lease last, unless another has it by now.
func (l *server) renew(ctx context.Context, h *hold) error {
	within, stop := context.WithTimeout(ctx, l.term()/4)
	defer stop()
	asked := time.Now()
	tag, err := l.pool.Exec(within, l.sql(`UPDATE $.lease SET until = clock_timestamp() + $3 * interval '1 millisecond'
		WHERE name = $1 AND number = $2 AND until > clock_timestamp()`), h.app, h.number, l.term().Milliseconds())
	if err != nil {
		return l.failed(err)
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if tag.RowsAffected() == 0 {
		h.lost = &Lost{App: h.app}
		return h.lost
	}
	h.until = asked.Add(l.term() * 3 / 4)
	return nil
}

// holds makes sure that a lease lasts still. Both clocks of this machine are asked: the one goes on while a machine sleeps,
// and the other cannot be set.
func (l *server) still(h *hold) error {
	h.mu.Lock()
	until, lost := h.until, h.lost
	h.mu.Unlock()
	if lost == nil && time.Now().Before(until) && time.Now().Round(0).Before(until.Round(0)) {
		return nil
	}
	if lost == nil {
		err := l.renew(context.Background(), h)
		if err == nil || !errors.As(err, &lost) {
			return err
		}
	}
	return &Lost{App: h.app, By: l.Holder(h.app)}
}

// Number is how often the lease of an application was taken.
func (s *serverLease) Number(app string) int64 {
	if h := s.holds[app]; h != nil {
		return h.number
	}
	return 0
}

// Holds makes sure that this process still has the lease of an application.
func (s *serverLease) Holds(app string) error {
	h := s.holds[app]
	if h == nil {
		return &Lost{App: app}
	}
	return s.l.still(h)
}

// Release gives a lease back.
func (s *serverLease) Release() (err error) {
	if s.stop != nil {
		s.stop()
		<-s.done
	}
	s.l.mu.Lock()
	for app := range s.holds {
		delete(s.l.holds, app)
	}
	s.l.mu.Unlock()
	for _, h := range s.holds {
		err = errors.Join(err, s.l.release(h))
	}
	s.holds = nil
	return err
}

func (l *server) release(h *hold) error {
	return l.failed(l.try(func(ctx context.Context) error {
		_, err := l.pool.Exec(ctx, l.sql(`UPDATE $.lease SET until = '-infinity' WHERE name = $1 AND number = $2`), h.app, h.number)
		return err
	}))
}

// Append adds entries under the leases of some applications: by the database's clock, whatever clock this machine goes by.
func (s *serverLease) Append(apps []string, unless *Query, records ...Record) error {
	if len(records) == 0 {
		return nil
	}
	return s.l.append(func(ctx context.Context, tx pgx.Tx) ([]Record, error) {
		for _, app := range apps {
			h := s.holds[app]
			if h == nil {
				return nil, &refusal{&Lost{App: app}}
			}
			var number int64
			// Who comes next waits until these entries are there.
			err := tx.QueryRow(ctx, s.l.sql(`SELECT number FROM $.lease WHERE name = $1 AND number = $2 AND until > clock_timestamp()
				FOR SHARE`), app, h.number).Scan(&number)
			if errors.Is(err, pgx.ErrNoRows) {
				return nil, &refusal{&Lost{App: app}}
			}
			if err != nil {
				return nil, err
			}
		}
		if unless != nil {
			seqs, err := s.l.find(ctx, tx, *unless)
			if err != nil {
				return nil, err
			}
			if len(seqs) > 0 {
				return nil, &refusal{ErrOvertaken}
			}
		}
		return records, nil
	})
}

// sending is the name of the lease of who sends letters; no application has such a name.
const sending = "letters/"

// Sending makes this process the only one that sends letters.
func (l *server) Sending() (release func() error, err error) {
	lease, err := l.Lease([]string{sending}, "letters")
	if err != nil {
		return nil, err
	}
	return lease.Release, nil
}

// Holder is who has the lease of one of some applications.
func (l *server) Holder(apps ...string) *Holder {
	var h Holder
	var pid int64
	err := l.try(func(ctx context.Context) error {
		return l.pool.QueryRow(ctx, l.sql(`SELECT by, machine, pid, what, since, name FROM $.lease
			WHERE until > clock_timestamp() AND name <> $2 AND (cardinality($1::text[]) = 0 OR name = ANY($1::text[]))
			ORDER BY name LIMIT 1`), slices.Clone(append([]string{}, apps...)), sendingUnless(apps)).
			Scan(&h.By, &h.Machine, &pid, &h.What, &h.Since, &h.App)
	})
	if err != nil {
		return nil
	}
	h.PID = int(pid)
	return &h
}

// sendingUnless is the lease that counts for no application, unless it was asked for.
func sendingUnless(apps []string) string {
	if slices.Contains(apps, sending) {
		return ""
	}
	return sending
}

// Close gives back what this process holds, and ends the connections.
func (l *server) Close() error {
	l.mu.Lock()
	holds := l.holds
	l.holds = map[string]*hold{}
	l.mu.Unlock()
	var err error
	for _, h := range holds {
		err = errors.Join(err, l.release(h))
	}
	l.pool.Close()
	if err != nil {
		return fmt.Errorf("a lease was not given back, and ends by itself within %s: %w", l.term(), err)
	}
	return nil
}
