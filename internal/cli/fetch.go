package cli

import (
	"sync"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/sync/errgroup"

	"pravet/internal/connect"
	"pravet/internal/core/day"
	"pravet/internal/desired"
	"pravet/internal/ledger"
	"pravet/internal/prepare"
	"pravet/internal/say"
	"pravet/internal/show"
)

func (c *program) fetch() *cobra.Command {
	var format string
	var check bool
	cmd := &cobra.Command{
		Use:     "fetch [APP…]",
		Short:   "Fetch fresh exports from live applications",
		GroupID: seeing,
		Long: `Fetch reads live applications, all or those that are named, side by side, and keeps
what they show as their exported state, on record with its time, its digest and the
number of accounts. What breaks off half-way never becomes an export: the one before
stays in place.

With --check nothing is fetched: it tries the connection, signs in, and says what
this caller may and may not do. Nothing is changed in any application.

Exit status: 0 done; 1 an application could not be fetched, or lacks something that
is needed; the others are done.`,
		Example:           example("pravet fetch", "pravet fetch berths", "pravet fetch --check"),
		Args:              cobra.ArbitraryArgs,
		ValidArgsFunction: c.completeApps,
	}
	formatFlag(cmd, &format, "table", "json", "csv")
	cmd.Flags().BoolVar(&check, "check", false, "only try the connections, and say what is allowed")
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		dir, err := c.dir()
		if err != nil {
			return err
		}
		tree, err := c.tree(dir)
		if err != nil {
			return err
		}
		s := c.rulesOf(prepare.Rules(c.ctx, tree))
		defer s.Close()
		if len(s.Errors()) > 0 {
			return c.problems(s)
		}
		live, notLive, err := s.Live(args)
		switch {
		case err != nil:
			return err
		case len(notLive) > 0:
			return usage(say.NotFetched(notLive))
		case len(live) == 0:
			c.tell(say.NothingLive())
			return nil
		}
		if check {
			return c.checkReach(s, live, format)
		}
		l, err := c.ledger(dir)
		if err != nil {
			return err
		}
		defer l.Close()
		release, err := l.Lease("fetch")
		if err != nil {
			return err
		}
		defer release()
		if err := c.settle(dir, s, l); err != nil {
			return err
		}
		return c.fetchNow(s, l, live, format)
	}
	return cmd
}

// rulesOf gives the rules of a repository what applications need to be reached.
func (c *program) rulesOf(s *prepare.State) *prepare.State {
	s.Environ, s.Now, s.Log = c.Environ, c.Now, c.tell
	s.Settled = func(environment string) (map[string]day.Day, error) {
		o := c.ledgerOptions()
		if o.Environment = environment; environment == desired.Usual {
			o.Environment = ""
		}
		l, err := ledger.OpenReading(s.Repo.Dir, o)
		if err != nil || l == nil {
			return nil, err
		}
		defer l.Close()
		return prepare.Settled(l)
	}
	return s
}

// fetchNow fetches applications and says what came of it.
func (c *program) fetchNow(s *prepare.State, l ledger.Ledger, live []int, format string) error {
	fetched, err := s.Fetch(c.ctx, l, live, c.counter())
	if err != nil {
		return err
	}
	if format != "" {
		if err := show.Output(c.Stdout, c.Environ, format, show.FetchedTable(fetchings(fetched))); err != nil {
			return err
		}
	}
	failed := 0
	for _, f := range fetched {
		if f.Err != nil {
			failed++
			c.tell(say.NotFetchedBecause(f.Err))
		} else if format == "" {
			c.tell(say.Fetched(f.App, f.Accounts))
		}
	}
	if failed > 0 {
		return fail(Failed, say.FetchFailed(failed, len(fetched)))
	}
	return nil
}

func fetchings(list []prepare.Fetched) (out []show.Fetching) {
	for _, f := range list {
		out = append(out, show.Fetching{
			App: f.App, Accounts: f.Accounts, Before: f.Before, TakenAt: f.TakenAt, Digest: f.Digest, Same: f.Same,
			Error: f.Error, Seconds: f.Took,
		})
	}
	return out
}

// counter tells on standard error, now and then, how many accounts were read.
func (c *program) counter() func(app string, n int) {
	const every = 2 * time.Second
	var mu sync.Mutex
	last := map[string]time.Time{}
	return func(app string, n int) {
		mu.Lock()
		defer mu.Unlock()
		now := time.Now()
		if last[app].IsZero() {
			last[app] = now
		}
		if now.Sub(last[app]) >= every {
			last[app] = now
			c.tell(say.Reading(app, n))
		}
	}
}

// checkReach tries to reach applications, and says what may be done there.
func (c *program) checkReach(s *prepare.State, live []int, format string) error {
	abilities := make([][]connect.Ability, len(live))
	var group errgroup.Group
	for i, a := range live {
		group.Go(func() error {
			reached, ok := s.Reached[a].(connect.Live)
			if !ok {
				return nil
			}
			var err error
			if abilities[i], err = reached.Check(c.ctx); err != nil {
				abilities[i] = []connect.Ability{{What: "reach", Says: err.Error()}}
			}
			return nil
		})
	}
	if err := group.Wait(); err != nil {
		return err
	}
	var rows []show.Reached
	lacks := 0
	for i, a := range live {
		for _, x := range abilities[i] {
			rows = append(rows, show.Reached{App: s.Repo.Apps[a].ID, What: x.What, May: x.May, Says: x.Says})
			if !x.May && !x.Spare {
				lacks++
			}
		}
	}
	if err := show.Output(c.Stdout, c.Environ, format, show.ReachedTable(rows)); err != nil {
		return err
	}
	if lacks > 0 {
		return fail(Failed, say.Lacking(lacks))
	}
	return nil
}
