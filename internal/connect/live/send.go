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
	Down  bool          // nothing is carried out for now, whoever asks: an outage, which is waited out
	Over  bool          // there were too many requests, and the rate is to be lower
	Away  bool          // nothing is there that answers
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
	// maxPause is the longest pause that is told from another.
	maxPause = 1000 * 24 * time.Hour
	// An outage is told of once it has lasted for so long, and then again and again.
	silence = 2 * time.Second
	news    = 15 * time.Second
	// firstContact is how long an application is waited for that has never answered: its address may be wrong.
	firstContact = 20 * time.Second
)

// The rate is kept a little lower than it may be, as requests that are sent evenly do not arrive so; lower still each
// time that the application says that they were too many, and then higher again by and by.
const (
	below    = 0.985
	lower    = 0.97
	higher   = 1.01
	lowest   = 0.5
	harmless = 50 // requests
)

// Pause is the pause that an application asks for, in seconds.
func Pause(seconds float64) time.Duration {
	return time.Duration(min(max(seconds, 0), maxPause.Seconds()) * float64(time.Second))
}

// A pacer keeps to the rate of an application, and knows how long it has been out of order. When the application asks
// for a pause, all requests wait.
type pacer struct {
	limit  *rate.Limiter
	most   rate.Limit
	outage time.Duration
	tell   func(text string)

	mu    sync.Mutex
	until time.Time
	calm  int       // requests since there were too many
	since time.Time // when the outage began; zero where there is none
	told  time.Time // when it was told of last
	met   bool      // it has answered something
}

func newPacer(s *connect.Spec, tell func(string)) *pacer {
	p := &pacer{outage: s.Outage, tell: tell}
	if s.Rate > 0 {
		p.most = rate.Limit(s.Rate * below)
		p.limit = rate.NewLimiter(p.most, 1)
	}
	return p
}

// answered notes that an application has answered, so that an outage is over, and whether there were too many requests.
func (p *pacer) answered(tooMany bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.met = true
	if !tooMany {
		p.since = time.Time{}
	}
	if p.limit == nil {
		return
	}
	if p.calm++; tooMany {
		p.calm = 0
		p.limit.SetLimit(max(p.limit.Limit()*lower, p.most*lowest))
	} else if p.calm%harmless == 0 {
		p.limit.SetLimit(min(p.limit.Limit()*higher, p.most))
	}
}

// down notes that an application is out of order, or has had too many requests. It reports whether to wait for another
// while, and says why not.
func (p *pacer) down(more *Again, wait time.Duration) (goesOn bool, says string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	now := time.Now()
	if p.since.IsZero() {
		p.since, p.told = now, now.Add(silence-news)
	}
	outage := p.outage
	if p.met = p.met || !more.Away; !p.met {
		outage = min(outage, firstContact)
	}
	switch left := outage - now.Sub(p.since); {
	case more.After > outage:
		return false, fmt.Sprintf("%s, and asks us to come back in %s", more.Says, more.After.Round(time.Second))
	case left <= 0 || more.After > left:
		return false, fmt.Sprintf("%s, for %s", more.Says, now.Sub(p.since).Round(time.Second))
	case p.tell != nil && now.Add(wait).Sub(p.told) >= news:
		p.told = now
		p.tell(fmt.Sprintf("%s; waiting for up to %s", more.Says, left.Round(time.Second)))
	}
	return true, ""
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
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if !errors.As(err, &more) {
			a.pace.answered(false)
			return err
		}
		wait, says := a.longer(more, &try, pauses)
		if says != "" {
			return &connect.Fault{Kind: connect.Failed, Says: says}
		}
		if err := pause(ctx, wait); err != nil {
			return err
		}
	}
}

// longer is how long to wait before a request is sent again, or what is to be said where it is not. An outage is waited
// out, and does not count as a try.
func (a *Application) longer(more *Again, try *int, pauses *backoff.ExponentialBackOff) (wait time.Duration, says string) {
	wait = max(more.After, pauses.NextBackOff())
	if more.Over {
		a.pace.answered(true)
	}
	if more.Down && a.pace.outage > 0 {
		*try--
		if goesOn, says := a.pace.down(more, wait); !goesOn {
			return 0, says
		}
	} else if *try >= a.Spec.Tries {
		return 0, fmt.Sprintf("%s, %d times", more.Says, *try)
	} else if more.After > longest {
		return 0, fmt.Sprintf("%s, and asks us to come back in %s", more.Says, more.After.Round(time.Second))
	}
	if more.After > 0 {
		a.pace.hold(more.After)
	}
	return wait, ""
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
		err := a.pace.wait(ctx)
		if err == nil {
			err = connect.Still(ctx)
		}
		if err != nil {
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
		var worst *Again
		for i, c := range changes {
			var more *Again
			if !errors.As(errs[i], &more) {
				tell(c, errs[i])
				continue
			}
			rest = append(rest, c)
			sent = sent || more.Sent
			if worst == nil || more.After > worst.After || more.Down && !worst.Down {
				worst = more
			}
		}
		if worst == nil || !worst.Down {
			a.pace.answered(false)
		}
		if changes = rest; len(changes) == 0 {
			return
		}
		wait, says := a.longer(worst, &try, pauses)
		if says == "" && !worst.Down && !again() {
			says = worst.Says + ", and so many were sent again that no more are"
		}
		if says != "" {
			kind := connect.Failed
			if sent {
				kind = connect.Unknown
			}
			for _, c := range changes {
				tell(c, &connect.Fault{Kind: kind, Says: says})
			}
			return
		}
		if pause(ctx, wait) == nil && sent {
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
