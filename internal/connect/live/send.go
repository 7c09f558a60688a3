package live

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"github.com/cenkalti/backoff/v5"
	"golang.org/x/sync/errgroup"
	"golang.org/x/time/rate"

	"pravet/internal/connect"
	"pravet/internal/core/account"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/export"
)

// An Again says that a request may be sent once more, after some time.
type Again struct {
	Says  string
	After time.Duration // as the application asks for (Pause); 0 where it does not
	Sent  bool          // it may have been carried out
}

func (e *Again) Error() string { return e.Says }

// The pauses between the tries of one request grow from first to longest, each by half as
// much again, and by chance up to half longer or shorter, so that many do not come back at
// the same moment.
const (
	first   = 100 * time.Millisecond
	longest = 20 * time.Second
	// budget is how many requests of a step may be sent again, for each that is sent, so
	// that an application which is down is not stormed.
	budget      = 3
	leastBudget = 20
	// maxPause is the longest pause that an application can make us take.
	maxPause = 5 * time.Minute
)

// Pause is the pause that an application asks for, in seconds; as long as one is taken at most where it asks for more.
func Pause(seconds float64) time.Duration {
	return time.Duration(min(max(seconds, 0), maxPause.Seconds()) * float64(time.Second))
}

// A pacer keeps to the rate of an application. When the application asks for a pause, all
// requests wait.
type pacer struct {
	limit *rate.Limiter
	mu    sync.Mutex
	until time.Time
}

func newPacer(s *connect.Spec) *pacer {
	p := &pacer{}
	if s.Rate > 0 {
		p.limit = rate.NewLimiter(rate.Limit(s.Rate), 1)
	}
	return p
}

// wait waits for a request's turn.
func (p *pacer) wait(ctx context.Context) error {
	for {
		p.mu.Lock()
		left := time.Until(p.until)
		p.mu.Unlock()
		if left <= 0 {
			break
		}
		if err := pause(ctx, left); err != nil {
			return err
		}
	}
	if p.limit == nil {
		return ctx.Err()
	}
	return p.limit.Wait(ctx)
}

// hold makes all requests wait.
func (p *pacer) hold(d time.Duration) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if until := time.Now().Add(d); until.After(p.until) {
		p.until = until
	}
}

func pause(ctx context.Context, d time.Duration) error {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-t.C:
		return nil
	}
}

// Ask sends something that only reads, again where that may help. Drivers use it for all
// that they read.
func (a *Application) Ask(ctx context.Context, f func(context.Context) error) error {
	pauses := backoff.NewExponentialBackOff()
	pauses.InitialInterval, pauses.MaxInterval = first, longest
	for try := 1; ; try++ {
		if err := a.pace.wait(ctx); err != nil {
			return err
		}
		within, stop := context.WithTimeout(ctx, a.Spec.Timeout)
		err := f(within)
		stop()
		var more *Again
		switch {
		case ctx.Err() != nil:
			return ctx.Err()
		case !errors.As(err, &more):
			return err
		case try >= a.Spec.Tries:
			return &connect.Fault{Kind: connect.Failed, Says: fmt.Sprintf("%s, %d times", more.Says, try)}
		}
		if more.After > 0 {
			a.pace.hold(more.After)
		}
		if err := pause(ctx, max(more.After, pauses.NextBackOff())); err != nil {
			return err
		}
	}
}

// send sends requests, as many at a time as the application takes, and tells what became of
// each change. When the context ends, those in flight are finished and no other is begun.
func (a *Application) send(ctx context.Context, requests []*Request, done func(*plan.Change, error)) error {
	var mu sync.Mutex
	tell := func(c *plan.Change, err error) {
		mu.Lock()
		defer mu.Unlock()
		done(c, err)
	}
	left := max(leastBudget, budget*len(requests))
	again := func() bool {
		mu.Lock()
		defer mu.Unlock()
		left--
		return left >= 0
	}
	var order []string
	queues := map[string][]*Request{}
	for i, r := range requests {
		key := r.Key
		if key == "" {
			key = fmt.Sprint(i)
		}
		if queues[key] == nil {
			order = append(order, key)
		}
		queues[key] = append(queues[key], r)
	}
	var group errgroup.Group
	group.SetLimit(max(1, a.Spec.Parallel))
	for _, key := range order {
		group.Go(func() error {
			for _, r := range queues[key] {
				a.carry(ctx, r, tell, again)
			}
			return nil
		})
	}
	return group.Wait()
}

// carry sends one request until each of its changes has an answer.
func (a *Application) carry(ctx context.Context, r *Request, tell func(*plan.Change, error), again func() bool) {
	pauses := backoff.NewExponentialBackOff()
	pauses.InitialInterval, pauses.MaxInterval = first, longest
	changes, sent := r.Changes, false
	for try := 1; len(changes) > 0; try++ {
		if err := a.pace.wait(ctx); err != nil {
			for _, c := range changes {
				if !sent {
					tell(c, connect.ErrNotBegun)
				} else {
					tell(c, &connect.Fault{Kind: connect.Unknown, Says: "the run ended before the application said yes"})
				}
			}
			return
		}
		// What has begun is finished, whoever interrupts.
		within, stop := context.WithTimeout(context.WithoutCancel(ctx), a.Spec.Timeout)
		errs := r.Do(within, changes)
		stop()
		answered := time.Now()
		var rest []*plan.Change
		var wait time.Duration
		for i, c := range changes {
			var more *Again
			if !errors.As(errs[i], &more) {
				tell(c, errs[i])
				continue
			}
			wait, sent = max(wait, more.After), sent || more.Sent
			if try < a.Spec.Tries && again() {
				rest = append(rest, c)
				continue
			}
			kind := connect.Failed
			if sent {
				kind = connect.Unknown
			}
			tell(c, &connect.Fault{Kind: kind, Says: fmt.Sprintf("%s, %d times", more.Says, try)})
		}
		if changes = rest; len(changes) == 0 {
			return
		}
		if wait > 0 {
			a.pace.hold(wait)
		}
		if pause(ctx, max(wait, pauses.NextBackOff())) == nil && sent {
			changes = a.unseen(ctx, changes, answered, tell)
		}
	}
}

// unseen leaves of changes that may have been carried out those that the application does not show, once what was
// changed by then must be seen: to send one again that is only not seen yet would do it twice. The others are answered
// with yes, and read back like all others.
func (a *Application) unseen(
	ctx context.Context,
	changes []*plan.Change,
	since time.Time,
	tell func(*plan.Change, error),
) []*plan.Change {
	pauses := backoff.NewExponentialBackOff()
	pauses.InitialInterval, pauses.MaxInterval = first, longest
	for {
		late := time.Until(since.Add(a.Spec.Settle))
		found, err := a.readAccounts(ctx, PartOf(a.App, changes))
		var rest []*plan.Change
		for _, c := range changes {
			if err == nil && shows(a.App, c, found) {
				tell(c, nil)
				continue
			}
			rest = append(rest, c)
		}
		if changes = rest; len(changes) == 0 || late <= 0 || pause(ctx, min(late, pauses.NextBackOff())) != nil {
			return changes // where it could not be read, sending it again says what is wrong
		}
	}
}

// shows reports whether accounts, as they were read just now, show a change as done. An account that a
// change makes must be there just as the change makes it.
func shows(app *model.App, c *plan.Change, found map[string]*export.Record) bool {
	if c.Verb.OfThing() {
		return false
	}
	ok, _ := account.Shows(app, finder(app, found), c)
	return ok
}
