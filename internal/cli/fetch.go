package cli

import (
	"fmt"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"pravet/internal/core/model"
	"pravet/internal/desk"
	"pravet/internal/prepare"
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
		d, err := c.desk()
		if err != nil {
			return err
		}
		if check {
			list, err := d.Abilities(args)
			if err != nil || list == nil {
				return c.nothingLive(err)
			}
			return c.reached(list, format)
		}
		list, err := d.Fetch(args)
		if err != nil || list == nil {
			return c.nothingLive(err)
		}
		if err := show.Output(c.Stdout, c.Environ, format, show.FetchedTable(fetchings(list))); err != nil {
			return err
		}
		failed := 0
		for _, f := range list {
			if f.Err != nil {
				failed++
				c.tell(sayNotFetchedBecause(f.Err))
			}
		}
		if failed > 0 {
			return desk.SayFetchFailed(failed, len(list))
		}
		return nil
	}
	return cmd
}

// nothingLive says that there was nothing to fetch, where nothing else was wrong.
func (c *program) nothingLive(err error) error {
	if err == nil {
		c.tell(sayNothingLive())
	}
	return err
}

// fetched says what was fetched before a draft.
func (c *program) fetched(list []prepare.Fetched) {
	for _, f := range list {
		if f.Err != nil {
			c.tell(sayNotFetchedBecause(f.Err))
		} else {
			c.tell(sayFetched(f.App, f.Accounts))
		}
	}
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
			c.tell(sayReading(app, n))
		}
	}
}

// reached shows what may be done in applications.
func (c *program) reached(list []desk.Ability, format string) error {
	var rows []show.Reached
	lacks := 0
	for _, x := range list {
		rows = append(rows, show.Reached{App: x.App, What: x.What, May: x.May, Says: x.Says})
		if !x.May && !x.Spare {
			lacks++
		}
	}
	if err := show.Output(c.Stdout, c.Environ, format, show.ReachedTable(rows)); err != nil {
		return err
	}
	if lacks > 0 {
		return fail(Failed, sayLacking(lacks))
	}
	return nil
}

// sayNothingLive is that there is nothing to fetch.
func sayNothingLive() string {
	return "There is nothing to fetch: each application writes its export itself."
}

// sayNotFetchedBecause is why an application could not be fetched.
func sayNotFetchedBecause(err error) string { return "Not fetched: " + err.Error() }

// sayFetched is that an application was fetched.
func sayFetched(app string, accounts int) string {
	return fmt.Sprintf("%s: fetched, %s", app, model.Count(accounts, "account", "accounts"))
}

// sayLacking is that callers may not do all that is needed.
func sayLacking(n int) error {
	return fmt.Errorf("%s; look for “no” above", model.Count(n, "thing is lacking", "things are lacking"))
}
