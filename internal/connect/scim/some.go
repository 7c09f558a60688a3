package scim

import (
	"context"
	"encoding/json"
	"errors"
	"net/url"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"pravet/internal/connect"
	"pravet/internal/connect/live"
	"pravet/internal/core/table"
	"pravet/internal/export"
)

// A sighting is an account that was found, with what its own resource says of groups.
type sighting struct {
	record *export.Record
	user   *user
	own    []membership
}

// some reads the accounts that are named, several requests at a time, and what is in the groups that are named.
func (d *driver) some(ctx context.Context, part *live.Part, each func(*export.Record) error) error {
	d.mu.Lock()
	called := d.names != nil
	d.mu.Unlock()
	if !called {
		if err := d.call(ctx); err != nil {
			return err
		}
	}
	found, err := d.find(ctx, part.Accounts)
	if err != nil {
		return err
	}
	if err := d.joined(ctx, found, part.Groups); err != nil {
		return err
	}
	d.mu.Lock()
	for _, x := range found {
		d.users[x.record.Account] = x.user
	}
	d.mu.Unlock()
	for _, x := range found {
		if err := each(x.record); err != nil {
			return err
		}
	}
	return nil
}

// find reads accounts by their names. Where an application writes names as it likes, an account goes by the name that
// was asked for.
func (d *driver) find(ctx context.Context, accounts []string) ([]*sighting, error) {
	wanted := make(map[string]string, len(accounts)) // as it is compared → as it was asked for
	key := func(name string) string {
		if d.app.Folds {
			return table.Fold(name)
		}
		return name
	}
	for _, name := range accounts {
		wanted[key(name)] = name
	}
	var mu sync.Mutex
	var found []*sighting
	got := map[string]bool{}
	look := func(ctx context.Context, filter string) error {
		q := url.Values{}
		if filter != "" {
			q.Set("filter", filter)
		}
		return d.list(ctx, d.can.users, q, func(raw json.RawMessage) error {
			x, err := d.sight(raw)
			if err != nil {
				return err
			}
			mu.Lock()
			defer mu.Unlock()
			k := key(x.record.Account)
			name, is := wanted[k]
			if !is || got[k] && x.record.Account != name {
				return nil
			}
			if err := x.user.decode(raw); err != nil {
				return err
			}
			got[k] = true
			x.record.Account = name
			found = append(found, x)
			return nil
		})
	}
	again := func() { found, got = nil, map[string]bool{} }
	err := d.ways(ctx, accounts, look, again)
	if err != nil {
		return nil, err
	}
	// Some applications do not find a name with a quote or a backslash by a filter.
	for _, name := range accounts {
		if d.filters() && !got[key(name)] && strings.ContainsAny(name, `"\\`) {
			again()
			return found, look(ctx, "")
		}
	}
	return found, nil
}

// ways asks for accounts by filters that name many, by filters that name one, and without filters, whichever of them
// the application takes.
func (d *driver) ways(ctx context.Context, accounts []string, look func(context.Context, string) error, again func()) error {
	for {
		filters, many := d.filters(), !d.knows().single
		asks := []string{""}
		if filters {
			asks = d.asks(accounts, many)
		}
		group, within := errgroup.WithContext(ctx)
		group.SetLimit(max(1, d.spec.Parallel))
		for _, ask := range asks {
			group.Go(func() error { return look(within, ask) })
		}
		err := group.Wait()
		var refused *connect.Fault
		if err == nil || !filters || !errors.As(err, &refused) || refused.Kind != connect.Refused {
			return err
		}
		d.learn(func(l *learned) {
			if many && len(accounts) > 1 {
				l.single = true
			} else {
				l.noFilter = true
			}
		})
		again()
	}
}

// asks are the filters that name accounts, several in each where the application takes that.
func (d *driver) asks(accounts []string, many bool) (asks []string) {
	path := strings.Join(export.SCIMPath(d.named, d.app.Match), ".")
	if d.app.Match == "email" && path == "emails" {
		path = "emails.value"
	}
	var b strings.Builder
	n := 0
	for _, name := range accounts {
		ask := path + " eq " + quote(name)
		if n > 0 && (!many || b.Len()+len(ask) > maxAsk || n == manyAsk) {
			asks = append(asks, b.String())
			b.Reset()
			n = 0
		}
		if n++; n > 1 {
			b.WriteString(" or ")
		}
		b.WriteString(ask)
	}
	if n > 0 {
		asks = append(asks, b.String())
	}
	return asks
}

// joined adds the groups that accounts are in, by what the accounts say and by what the groups say; named are groups
// whose members are looked at whatever accounts say.
func (d *driver) joined(ctx context.Context, found []*sighting, named []string) error {
	if !d.can.groups || d.catalog() == 0 || len(found) == 0 {
		for _, x := range found {
			x.hold(nil)
		}
		return nil
	}
	knows := d.knows()
	if knows.trust == trusted {
		return d.byName(ctx, found, named)
	}
	if knows.proven && knows.trust == distrusted {
		return d.byFilter(ctx, found)
	}
	r, err := d.memberships(ctx)
	if err != nil {
		return err
	}
	if err := d.prove(ctx, r); err != nil {
		return err
	}
	for _, x := range found {
		x.hold(r)
	}
	d.weigh(r, found)
	return nil
}

// manyMembers is how large a group may be to be read whole each time that somebody in it is looked at. Of larger ones
// accounts are believed, who were found to say all groups that they are in.
const manyMembers = 5000

// byName takes what accounts say of their groups, and looks at the members of the groups that are named.
func (d *driver) byName(ctx context.Context, found []*sighting, named []string) error {
	r, err := d.known(ctx, found)
	if err != nil {
		return err
	}
	part := &roster{of: r.of, byName: r.byName, in: map[string][]*group{}, parents: r.parents}
	work, within := errgroup.WithContext(ctx)
	work.SetLimit(max(1, d.spec.Parallel))
	var mu sync.Mutex
	for _, name := range named {
		g := r.byName[name]
		if g == nil || len(g.members) > manyMembers {
			continue
		}
		work.Go(func() error {
			one, err := d.one(within, g.id)
			if err != nil || one == nil {
				return err
			}
			mu.Lock()
			defer mu.Unlock()
			for _, id := range one.members {
				part.in[id] = append(part.in[id], g)
			}
			return nil
		})
	}
	if err := work.Wait(); err != nil {
		return err
	}
	for _, x := range found {
		x.hold(part)
	}
	return nil
}

// byFilter asks for the groups of each account by a filter, besides what it says itself.
func (d *driver) byFilter(ctx context.Context, found []*sighting) error {
	if err := d.byName(ctx, found, nil); err != nil {
		return err
	}
	work, within := errgroup.WithContext(ctx)
	work.SetLimit(max(1, d.spec.Parallel))
	for _, x := range found {
		work.Go(func() error {
			return d.groupsOf(within, x.user.id, func(name string) { hold(x.record, name) })
		})
	}
	return work.Wait()
}

// weigh finds out whether what accounts say of their groups can be relied on: nobody may be in a group and not say it,
// and somebody must be in one and say it.
func (d *driver) weigh(r *roster, found []*sighting) {
	seen := false
	for _, x := range found {
		says := map[string]bool{}
		for _, m := range x.own {
			if g := r.find(m); g != nil {
				says[g.id] = true
			}
		}
		for _, g := range r.in[x.user.id] {
			if !says[g.id] {
				d.learn(func(l *learned) { l.trust = distrusted })
				return
			}
			seen = true
		}
	}
	if seen {
		d.learn(func(l *learned) { l.trust = trusted })
	}
}

// prove tries whether a filter finds just the groups that somebody is in. A filter that finds nobody would make
// everybody look like a member of nothing, and one that is not heeded like a member of all.
func (d *driver) prove(ctx context.Context, r *roster) error {
	if !d.filters() || d.knows().proven {
		return nil
	}
	for id, in := range r.in {
		if len(in) == len(r.groups) {
			continue
		}
		want := map[string]bool{}
		for _, g := range in {
			want[g.name] = true
		}
		n, fits := 0, true
		err := d.groupsOf(ctx, id, func(name string) { n, fits = n+1, fits && want[name] })
		var fault *connect.Fault
		if err != nil && !errors.As(err, &fault) {
			return err
		}
		d.learn(func(l *learned) { l.proven = err == nil && fits && n == len(want) })
		return nil
	}
	return nil
}
