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
	"strconv"
	"strings"

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
	Items     int               `json:"itemsPerPage"`
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
	l := &listing{
		d: d, at: at, query: q, count: count, seed: maphash.MakeSeed(), ids: map[uint64]bool{}, total: -1, each: each,
	}
	if d.can.cursor {
		return l.byCursor(ctx)
	}
	return l.byIndex(ctx)
}

// A listing is a list while it is read. It holds a number of eight bytes for each resource.
type listing struct {
	d     *driver
	at    string
	query url.Values
	count int // resources asked for in one answer
	seed  maphash.Seed
	ids   map[uint64]bool
	total int // as the pages say; -1 where none has said it
	found int
	twice string // the id of a resource that came again
	each  func(json.RawMessage) error
}

// next reads one page, and returns how many resources it has and how many of them are new.
func (l *listing) next(ctx context.Context) (p *page, all, fresh int, _ error) {
	p, err := l.d.page(ctx, l.at, l.query)
	if err != nil {
		return nil, 0, 0, err
	}
	if p.Total != nil {
		if l.total >= 0 && l.total != *p.Total {
			return nil, 0, 0, &live.Moved{Says: fmt.Sprintf(
				"the list of %s changed while it was read, from %d to %d; try again", l.at, l.total, *p.Total,
			)}
		}
		l.total = *p.Total
	}
	for _, raw := range p.Resources {
		id, err := export.Resource(raw).Name("id")
		if err != nil {
			return nil, 0, 0, wrong("a resource under %s cannot be read: %v", l.at, err)
		}
		if id == "" {
			return nil, 0, 0, wrong("a resource under %s has no id", l.at)
		}
		sum := maphash.String(l.seed, id)
		if l.ids[sum] {
			l.twice = strings.Clone(id)
			continue
		}
		l.ids[sum] = true
		fresh++
		if err := l.each(raw); err != nil {
			return nil, 0, 0, err
		}
	}
	l.found += fresh
	return p, len(p.Resources), fresh, nil
}

// circle is the error of pages that give again what was given before.
func (l *listing) circle() error {
	return &live.Moved{Says: fmt.Sprintf(
		"the pages of %s give the resource %q twice: they go in a circle, or have moved", l.at, l.twice,
	)}
}

// byCursor reads pages by cursors (RFC 9865).
func (l *listing) byCursor(ctx context.Context) error {
	l.query.Set("cursor", "")
	for cursors := map[string]bool{}; ; {
		p, all, fresh, err := l.next(ctx)
		switch {
		case err != nil:
			return err
		case fresh < all:
			return l.circle()
		case p.Next == "" && l.total >= 0 && l.found != l.total:
			return wrong("totalResults of %s says %d, and the pages give %d", l.at, l.total, l.found)
		case p.Next == "":
			return nil
		case cursors[p.Next]:
			return wrong("the pages of %s go in a circle", l.at)
		}
		cursors[p.Next] = true
		l.query.Set("cursor", p.Next)
	}
}

// byIndex reads pages by the number of their first resource, which is 1 for the first (RFC 7644 §3.4.2.4). Some servers
// count from 0, and some do not say how many there are, or too few: where a page is as full as it may be, another is
// asked for, until one gives nothing new.
func (l *listing) byIndex(ctx context.Context) error {
	for {
		l.query.Set("startIndex", strconv.Itoa(l.found+1))
		before := l.found
		p, all, fresh, err := l.next(ctx)
		switch {
		case err != nil:
			return err
		case l.total >= 0 && l.found > l.total:
			return wrong("totalResults of %s says %d, and the pages give %d", l.at, l.total, l.found)
		case fresh < all && (fresh > 0 || l.found != l.total):
			return l.circle()
		case l.total >= 0 && l.found == l.total && (fresh == 0 || all < l.full(p)):
			return nil
		case l.total < 0 && l.found == 0 && p.Resources == nil:
			return wrong("what the application answers under %s does not say totalResults", l.at)
		case l.total < 0 && fresh == 0:
			return nil // whoever does not say how many there are ends with a page of none
		case fresh == 0 && before+1 == l.total:
			return l.fromZero(ctx)
		case fresh == 0:
			return wrong("totalResults of %s says %d, and the pages end after %d", l.at, l.total, l.found)
		}
	}
}

// full is how many resources a page has that may not be the last, by what it says of itself.
func (l *listing) full(p *page) int {
	if p.Items > 0 && len(p.Resources) < p.Items {
		return p.Items
	}
	return l.count
}

// fromZero reads the one resource that is missing where a server counts from 0.
func (l *listing) fromZero(ctx context.Context) error {
	l.query.Set("startIndex", "0")
	_, _, _, err := l.next(ctx)
	if err == nil && l.found != l.total {
		err = wrong("totalResults of %s says %d, and the pages end after %d", l.at, l.total, l.found)
	}
	return err
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

// sight reads one user, but for who it is and what else it has in common with groups.
func (d *driver) sight(raw json.RawMessage) (*sighting, error) {
	r, u, err := d.record(raw)
	if err != nil {
		return nil, err
	}
	x := &sighting{record: r, user: u}
	if x.own, err = ownGroups(export.Resource(raw)); err != nil {
		return nil, wrong("a user cannot be read: %v", err)
	}
	return x, nil
}

// record reads one user, without its groups.
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
		if text == "" || a.Name == d.app.Match {
			continue
		}
		if d.refers(a.Name) {
			text = d.name(text)
		}
		also, err := export.SCIMAlso(v, export.SCIMPath(d.named, a.Name))
		if err != nil {
			return fail(err)
		}
		r.Say(a.Name, append([]string{strings.Clone(text)}, also...))
	}
	state, err := export.SCIMState(d.named, v)
	if err != nil {
		return fail(err)
	}
	r.State = state.String()
	for k := range model.Common {
		kind := model.Kind(k)
		if kind == model.Group {
			continue
		}
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
