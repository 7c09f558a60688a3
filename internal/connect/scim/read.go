package scim

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"hash/maphash"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"pravet/internal/connect"
	"pravet/internal/connect/live"
	"pravet/internal/core/model"
	"pravet/internal/core/plain"
	"pravet/internal/export"
)

// maxAsk is how long a filter may be, in bytes, and manyAsk how many accounts it may name.
const (
	maxAsk  = 6000
	manyAsk = 100
)

// A user is an account as it was read last, with what is needed to change it.
type user struct {
	id, version string
	body        map[string]any
}

// A page is an answer that lists resources (RFC 7644 §3.4.2).
type page struct {
	Schemas   []string          `json:"schemas"`
	Total     *int              `json:"totalResults"`
	Resources []json.RawMessage `json:"Resources"`
	Next      string            `json:"nextCursor"`
}

func wrong(format string, args ...any) error {
	return &connect.Fault{Kind: connect.Failed, Says: fmt.Sprintf(format, args...)}
}

// list calls each with every resource of a list, page by page. What the pages do not add up
// to is an error, and so is a loop of them.
func (d *driver) list(ctx context.Context, at string, query url.Values, each func(json.RawMessage) error) error {
	q := url.Values{}
	for k, v := range query {
		q[k] = v
	}
	count := d.spec.Page
	if d.can.most > 0 {
		count = min(count, d.can.most)
	}
	q.Set("count", strconv.Itoa(count))
	if d.can.sort && query.Get("filter") == "" {
		q.Set("sortBy", "id")
	}
	if d.can.cursor {
		q.Set("cursor", "")
	} else {
		q.Set("startIndex", "1")
	}
	seed := maphash.MakeSeed()
	ids, cursors := map[uint64]bool{}, map[string]bool{}
	total, found := -1, 0
	for {
		p, err := d.page(ctx, at, q)
		if err != nil {
			return err
		}
		if p.Total != nil {
			if total >= 0 && total != *p.Total {
				return &live.Moved{Says: fmt.Sprintf(
					"the list of %s changed while it was read, from %d to %d; try again", at, total, *p.Total,
				)}
			}
			total = *p.Total
		}
		for _, raw := range p.Resources {
			id, err := export.Resource(raw).Name("id")
			if err != nil {
				return wrong("a resource under %s cannot be read: %v", at, err)
			}
			if id == "" {
				return wrong("a resource under %s has no id", at)
			}
			sum := maphash.String(seed, id)
			if ids[sum] {
				return &live.Moved{Says: fmt.Sprintf(
					"the pages of %s give the resource %q twice: they go in a circle, or have moved", at, id,
				)}
			}
			ids[sum] = true
			if err := each(raw); err != nil {
				return err
			}
		}
		found += len(p.Resources)
		switch {
		case d.can.cursor && p.Next == "" || !d.can.cursor && total >= 0 && found >= total:
			if total >= 0 && found != total {
				return wrong("totalResults of %s says %d, and the pages give %d", at, total, found)
			}
			return nil
		case d.can.cursor && cursors[p.Next]:
			return wrong("the pages of %s go in a circle", at)
		case !d.can.cursor && total < 0:
			return wrong("what the application answers under %s does not say totalResults", at)
		case len(p.Resources) == 0:
			return wrong("totalResults of %s says %d, and the pages end after %d", at, total, found)
		}
		if d.can.cursor {
			cursors[p.Next] = true
			q.Set("cursor", p.Next)
		} else {
			q.Set("startIndex", strconv.Itoa(found+1))
		}
	}
}

func (d *driver) page(ctx context.Context, at string, q url.Values) (*page, error) {
	a, err := d.get(ctx, at, q)
	if err != nil {
		return nil, err
	}
	p := &page{}
	if err := json.Unmarshal(a.body, p); err != nil {
		return nil, wrong("what the application answers under %s is no list of SCIM: %v", at, plain.JSON(err))
	}
	if !strings.Contains(strings.ToLower(strings.Join(p.Schemas, " ")), "listresponse") {
		return nil, wrong(
			"what the application answers under %s is no ListResponse; is the address under url right?",
			at,
		)
	}
	return p, nil
}

// get reads something, again where that may help.
func (d *driver) get(ctx context.Context, at string, q url.Values) (*answer, error) {
	var a *answer
	err := d.ask(ctx, func(ctx context.Context) (err error) {
		a, err = d.send(ctx, http.MethodGet, at, q, "", nil)
		return err
	})
	var again *live.Again
	if errors.As(err, &again) {
		err = wrong("%s", again.Says)
	}
	if err != nil {
		err = fmt.Errorf("%s: %w", at, err)
	}
	return a, err
}

// Read reads all accounts, or those that are named.
func (d *driver) Read(ctx context.Context, accounts []string, each func(*export.Record) error) error {
	if accounts != nil {
		return d.some(ctx, accounts, each)
	}
	in, err := d.memberships(ctx, each)
	if err != nil {
		return err
	}
	return d.list(ctx, d.can.users, nil, func(raw json.RawMessage) error {
		r, u, err := d.record(raw)
		if err != nil {
			return err
		}
		for _, name := range in[u.id] {
			hold(r, name)
		}
		return each(r)
	})
}

// memberships reads the groups, and returns which of them each member is in, by its id. It
// takes memory for the memberships of everybody.
func (d *driver) memberships(ctx context.Context, each func(*export.Record) error) (map[string][]string, error) {
	in := map[string][]string{}
	if !d.can.groups {
		return in, nil
	}
	type group struct{ id, name string }
	var groups []group
	names := map[string]string{}
	err := d.list(ctx, d.can.groupsAt, nil, func(raw json.RawMessage) error {
		v := export.Resource(raw)
		id, err := v.Name("id")
		if err != nil {
			return err
		}
		name, err := v.Name("displayName", "id")
		if err != nil {
			return err
		}
		members, err := export.References(v)
		if err != nil {
			return wrong("the group %q: %v", name, err)
		}
		for _, m := range members {
			key := strings.Clone(m.ID)
			in[key] = append(in[key], name)
		}
		if _, twice := names[name]; twice {
			return wrong("two groups are called %q, and groups are told apart by their names", name)
		}
		names[name] = id
		groups = append(groups, group{id, name})
		return nil
	})
	if err != nil {
		return nil, err
	}
	d.mu.Lock()
	d.groups = names
	d.mu.Unlock()
	for _, g := range groups {
		if err := each(&export.Record{Group: g.name, In: in[g.id]}); err != nil {
			return nil, err
		}
	}
	return in, nil
}

func hold(r *export.Record, group string) {
	for _, g := range r.Groups {
		if g == group {
			return
		}
	}
	r.Groups = append(r.Groups, group)
}

// some reads the accounts that are named, several requests at a time.
func (d *driver) some(ctx context.Context, accounts []string, each func(*export.Record) error) error {
	path := strings.Join(export.SCIMPath(d.named, d.app.Match), ".")
	if d.app.Match == "email" && path == "emails" {
		path = "emails.value"
	}
	var asks []string
	var b strings.Builder
	n := 0
	for _, name := range accounts {
		ask := path + " eq " + quote(name)
		if n > 0 && (b.Len()+len(ask) > maxAsk || n == manyAsk) {
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
	wanted := make(map[string]bool, len(accounts))
	for _, name := range accounts {
		wanted[name] = true
	}
	if !d.can.filter {
		asks = []string{""}
	}
	in := sync.OnceValues(func() (map[string][]string, error) { return d.proof(ctx) })
	var mu sync.Mutex
	find := func(ctx context.Context, asks []string) error {
		group, within := errgroup.WithContext(ctx)
		group.SetLimit(max(1, d.spec.Parallel))
		for _, ask := range asks {
			group.Go(func() error {
				q := url.Values{}
				if ask != "" {
					q.Set("filter", ask)
				}
				return d.list(within, d.can.users, q, func(raw json.RawMessage) error {
					r, u, err := d.record(raw)
					mu.Lock()
					is := err == nil && wanted[r.Account]
					mu.Unlock()
					if !is {
						return err
					}
					if err := u.decode(raw); err != nil {
						return err
					}
					if err := d.joined(within, r, u, in); err != nil {
						return err
					}
					d.mu.Lock()
					d.users[r.Account] = u
					d.mu.Unlock()
					mu.Lock()
					defer mu.Unlock()
					delete(wanted, r.Account)
					return each(r)
				})
			})
		}
		return group.Wait()
	}
	if err := find(ctx, asks); err != nil {
		return err
	}
	// Some applications do not find a name with a quote or a backslash by a filter.
	for name := range wanted {
		if d.can.filter && strings.ContainsAny(name, `"\\`) {
			return find(ctx, []string{""})
		}
	}
	return nil
}

// joined finds out which groups a user is in whose own resource does not say: by a filter
// where that is known to find them, else from all groups.
func (d *driver) joined(
	ctx context.Context, r *export.Record, u *user, all func() (map[string][]string, error),
) error {
	if _, says := key(u.body, "groups"); says || !d.can.groups || d.catalog() == 0 {
		return nil
	}
	d.mu.Lock()
	proven := d.proven
	d.mu.Unlock()
	if !proven {
		in, err := all()
		for _, name := range in[u.id] {
			hold(r, name)
		}
		return err
	}
	return d.groupsOf(ctx, u.id, func(name string) { hold(r, name) })
}

// groupsOf asks by a filter which groups a user is in.
func (d *driver) groupsOf(ctx context.Context, id string, each func(name string)) error {
	return d.list(ctx, d.can.groupsAt, url.Values{
		"filter": {"members.value eq " + quote(id)}, "excludedAttributes": {"members"},
	}, func(raw json.RawMessage) error {
		name, err := export.Resource(raw).Name("displayName", "id")
		if err == nil {
			each(name)
		}
		return err
	})
}

// proof reads all memberships, and tries on one of them whether a filter finds it. A filter
// that finds nobody would make everybody look like a member of nothing.
func (d *driver) proof(ctx context.Context) (map[string][]string, error) {
	in, err := d.memberships(ctx, func(*export.Record) error { return nil })
	if err != nil || !d.can.filter {
		return in, err
	}
	for id, groups := range in {
		found := false
		err := d.groupsOf(ctx, id, func(name string) { found = found || slices.Contains(groups, name) })
		var fault *connect.Fault
		if err != nil && !errors.As(err, &fault) {
			return nil, err
		}
		d.mu.Lock()
		d.proven = found && err == nil
		d.mu.Unlock()
		break
	}
	return in, nil
}

// catalog is how many groups Pravet manages.
func (d *driver) catalog() int { return len(d.app.Names(model.Group)) }

// quote writes a value for a filter (RFC 7644 §3.4.2.2), as JSON has texts.
func quote(s string) string {
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(false)
	if err := enc.Encode(s); err != nil {
		return `""`
	}
	return strings.TrimSuffix(b.String(), "\n")
}

// record reads one user.
func (d *driver) record(raw json.RawMessage) (*export.Record, *user, error) {
	v := export.Resource(raw)
	fail := func(err error) (*export.Record, *user, error) {
		return nil, nil, wrong("a user cannot be read: %v", err)
	}
	u := &user{}
	var err error
	if u.id, err = v.Name("id"); err != nil {
		return fail(err)
	}
	if u.version, err = export.SCIMText(v, []string{"meta", "version"}); err != nil {
		return fail(err)
	}
	r := &export.Record{Version: u.version, Attributes: map[string]string{}}
	if r.Account, err = export.SCIMText(v, export.SCIMPath(d.named, d.app.Match)); err != nil {
		return fail(err)
	}
	for _, a := range d.app.Attrs {
		text, err := export.SCIMText(v, export.SCIMPath(d.named, a.Name))
		if err != nil {
			return fail(err)
		}
		if text != "" && a.Name != d.app.Match {
			r.Attributes[a.Name] = strings.Clone(text)
		}
	}
	state, err := export.SCIMState(d.named, v)
	if err != nil {
		return fail(err)
	}
	r.State = state.String()
	for k := range model.Common {
		kind := model.Kind(k)
		names, err := export.SCIMNames(v, kind)
		if err != nil {
			return fail(err)
		}
		for _, name := range names {
			r.Hold(kind, strings.Clone(name))
		}
	}
	return r, u, nil
}

// decode keeps all that a user is, to be changed.
func (u *user) decode(raw json.RawMessage) error {
	dec := json.NewDecoder(bytes.NewReader(raw))
	dec.UseNumber()
	if err := dec.Decode(&u.body); err != nil {
		return wrong("a user cannot be read: %v", err)
	}
	return nil
}
