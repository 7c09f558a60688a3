package scim

import (
	"context"
	"fmt"
	"strings"
	"sync"

	"pravet/internal/connect"
	"pravet/internal/connect/live"
	"pravet/internal/core/model"
	"pravet/internal/export"
)

// managerPath is where a user's manager is, by the id of another user (RFC 7643 §4.3).
var managerPath = []string{export.Enterprise, "manager", "value"}

// driver speaks SCIM to one application.
type driver struct {
	*client
	app   *model.App
	named *export.Spec // where attributes are
	ask   func(ctx context.Context, f func(context.Context) error) error
	can   offers
	first func(account string) (string, error)
	anew  func(account string) (string, error) // a new key

	mu     sync.Mutex
	users  map[string]*user // accounts as they were read last by name
	roster *roster          // groups as they were read last; nil before
	wrote  map[string]written

	learned learned

	names map[string]string // id → the account's name, where references are read; nil before
	ids   map[string]string // and the other way
}

// Open asks the application what it can do.
func Open(ctx context.Context, o live.Options) (live.Driver, error) {
	c, err := newClient(o.Spec, o.Roots, o.Secret, o.Keep)
	if err != nil {
		return nil, err
	}
	d := &driver{
		client: c, app: o.App, named: &export.Spec{Format: "scim", Columns: o.Spec.Columns}, ask: o.Ask, first: o.First, anew: o.Key,
		users: map[string]*user{}, wrote: map[string]written{},
	}
	if err := d.discover(ctx); err != nil {
		return nil, err
	}
	return d, nil
}

// Close lets the connections go.
func (d *driver) Close() error {
	d.http.CloseIdleConnections()
	return nil
}

// Guards: the application knows versions (RFC 7644 §3.14).
func (d *driver) Guards() bool { return d.can.etag }

// Check reads one page of users and of groups, and says what discovery says of the rest.
func (d *driver) Check(ctx context.Context) ([]connect.Ability, error) {
	var out []connect.Ability
	add := func(what string, may bool, format string, args ...any) {
		spare := what == "discovery" || what == "bulk" || what == "look at one account"
		out = append(out, connect.Ability{What: what, May: may, Spare: spare, Says: fmt.Sprintf(format, args...)})
	}
	if len(d.can.discovery) == 0 {
		add("discovery", false, "the application does not say what it can do; only what every server has is used")
	} else {
		add("discovery", true, "%s", strings.Join(d.can.discovery, ", "))
	}
	for _, at := range []string{d.can.users, d.can.groupsAt} {
		if at == d.can.groupsAt && !d.can.groups {
			add("read groups", d.catalog() == 0, "the application has no groups as resources")
			continue
		}
		what := "read " + strings.ToLower(at)
		p, err := d.page(ctx, at, map[string][]string{"startIndex": {"1"}, "count": {"1"}})
		if err != nil {
			add(what, false, "%v", err)
			continue
		}
		n := len(p.Resources)
		if p.Total != nil {
			n = *p.Total
		}
		add(what, true, "%s", model.Count(n, "resource", "resources"))
	}
	how := "PATCH"
	if !d.can.patch {
		how = "PUT of the whole resource, as there is no PATCH"
	}
	if d.can.etag {
		how += ", only where nobody has changed it (If-Match)"
	}
	add("change", true, "%s", how)
	if d.can.bulk {
		add("bulk", true, "%d operations in one request", d.can.bulkOps)
	} else {
		add("bulk", false, "each change is a request of its own")
	}
	if !d.can.filter {
		add("look at one account", false, "no filters; to look at a few accounts, all are read")
	}
	paging := "by index"
	if d.can.cursor {
		paging = "by cursor"
	}
	add("pages", true, "%s", paging)
	for _, a := range d.app.Attrs {
		path := export.SCIMPath(d.named, a.Name)
		if has, writable := d.takes(path); !has {
			add("attribute "+a.Name, false, "the application's schemas have no %s", strings.Join(path, "."))
		} else if !writable && !a.Observed && !a.Fixed {
			add("attribute "+a.Name, false, "the application's schemas say that %s is read-only", strings.Join(path, "."))
		}
	}
	return out, nil
}
