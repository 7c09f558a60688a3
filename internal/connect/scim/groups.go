package scim

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"pravet/internal/connect"
	"pravet/internal/connect/live"
	"pravet/internal/export"
)

// A group is a group as it was read last.
type group struct {
	id, name string
	members  []string // their ids
	partial  string   // why there may be more of them
}

// memberships reads all groups with their members. It takes memory for the memberships of everybody.
func (d *driver) memberships(ctx context.Context) (*roster, error) {
	asked := d.knows().asked
	groups, err := d.listed(ctx, membersAsked(asked))
	if err != nil {
		return nil, err
	}
	shows := func(groups []*group) bool {
		return slices.ContainsFunc(groups, func(g *group) bool { return len(g.members) > 0 })
	}
	if !asked && len(groups) > 0 && !shows(groups) {
		// Some show members to who asks for them alone (RFC 7643 §7, returned: request).
		again, err := d.listed(ctx, membersAsked(true))
		var fault *connect.Fault
		if err == nil && shows(again) {
			groups = again
			d.learn(func(l *learned) { l.asked = true })
		} else if err != nil && !errors.As(err, &fault) {
			return nil, err
		}
	}
	if err := d.complete(ctx, groups); err != nil {
		return nil, err
	}
	r, err := rosterOf(groups)
	if err != nil {
		return nil, err
	}
	d.remember(r)
	return r, nil
}

// membersAsked is the query by which members are shown.
func membersAsked(asked bool) url.Values {
	if asked {
		return url.Values{"attributes": {"displayName,members"}}
	}
	return nil
}

func (d *driver) remember(r *roster) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.roster = r
}

// listed reads the list of groups.
func (d *driver) listed(ctx context.Context, q url.Values) (out []*group, _ error) {
	err := d.list(ctx, d.can.groupsAt, q, func(raw json.RawMessage) error {
		g, err := readGroup(raw)
		out = append(out, g)
		return err
	})
	return out, err
}

func readGroup(raw json.RawMessage) (*group, error) {
	v := export.Resource(raw)
	id, err := v.Name("id")
	if err != nil {
		return nil, wrong("a group cannot be read: %v", err)
	}
	name, err := v.Name("displayName", "id")
	if err != nil {
		return nil, wrong("a group cannot be read: %v", err)
	}
	g := &group{id: strings.Clone(id), name: strings.Clone(name)}
	members, err := export.References(v)
	if err != nil {
		return nil, wrong("the group %q: %v", name, err)
	}
	for _, m := range members {
		g.members = append(g.members, strings.Clone(m.ID))
	}
	return g, nil
}

// complete makes sure that lists of members were not cut short. A list that is may show more of a group that is read by
// itself; and one of a round number of members may end there although there are more, unless another is longer.
func (d *driver) complete(ctx context.Context, groups []*group) error {
	knows := d.knows()
	longest := knows.cut
	for _, g := range groups {
		longest = max(longest, len(g.members))
	}
	if longest < 2 {
		return nil
	}
	most := 0
	for _, g := range groups {
		if len(g.members) == longest && (knows.cut == 0 || longest == knows.cut) {
			if knows.cut == 0 && knows.uncut && !round(longest) {
				break // one was looked at, and has no more
			}
			one, err := d.one(ctx, g.id)
			if err != nil {
				return err
			}
			if one == nil {
				continue
			}
			if len(one.members) > longest {
				knows.cut = longest
			}
			knows.uncut = knows.cut == 0
			g.members = one.members
			most = max(most, len(one.members))
		}
	}
	d.learn(func(l *learned) { l.cut, l.uncut = knows.cut, knows.uncut })
	for _, g := range groups {
		if n := len(g.members); n == max(most, longest) && round(n) && !d.spec.Whole {
			g.partial = fmt.Sprintf(
				"the application shows %d members, which may be where it stops; if it always shows all, say whole: true under connect", n,
			)
		}
	}
	return nil
}

// round reports whether a number of members looks like a limit.
func round(n int) bool {
	return n == 20 || n == 25 || n >= 50 && (n%50 == 0 || n&(n-1) == 0)
}

// one reads one group by its id, with its members; nil where it is not there.
func (d *driver) one(ctx context.Context, id string) (*group, error) {
	at, err := place(d.can.groupsAt, id)
	if err != nil {
		return nil, err
	}
	a, err := d.get(ctx, at, membersAsked(d.knows().asked))
	if a != nil && a.status == http.StatusNotFound {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return readGroup(a.body)
}

// place is the path of a resource. An id that would lead elsewhere is refused.
func place(at, id string) (string, error) {
	if id == "" || id == "." || id == ".." {
		return "", &connect.Fault{
			Kind: connect.Refused, Says: fmt.Sprintf("the application gives the id %q, by which nothing can be reached", id),
		}
	}
	return at + "/" + url.PathEscape(id), nil
}

// known are the groups as they were read last, or are read now without their members: where they were not yet, and
// where somebody says a group that is not among them.
func (d *driver) known(ctx context.Context, found []*sighting) (*roster, error) {
	d.mu.Lock()
	r := d.roster
	d.mu.Unlock()
	if r != nil && !slices.ContainsFunc(found, func(x *sighting) bool {
		return slices.ContainsFunc(x.own, func(m membership) bool { return r.find(m) == nil })
	}) {
		return r, nil
	}
	groups, err := d.listed(ctx, url.Values{"excludedAttributes": {"members"}})
	if err != nil {
		return nil, err
	}
	now, err := rosterOf(groups)
	if err != nil {
		return nil, err
	}
	if r != nil {
		for id, above := range r.parents {
			for _, g := range above {
				if is := now.of[g.id]; is != nil && now.of[id] != nil {
					now.parents[id] = append(now.parents[id], is)
				}
			}
		}
	}
	d.remember(now)
	return now, nil
}

// groupsOf asks by a filter which groups a user is in.
func (d *driver) groupsOf(ctx context.Context, id string, each func(name string)) error {
	return d.list(ctx, d.can.groupsAt, url.Values{
		"filter": {"members.value eq " + quote(id)}, "excludedAttributes": {"members"},
	}, func(raw json.RawMessage) error {
		name, err := export.Resource(raw).Name("displayName", "id")
		if err == nil {
			each(strings.Clone(name))
		}
		return err
	})
}

// Read reads all accounts, or those that are named.
func (d *driver) Read(ctx context.Context, part *live.Part, each func(*export.Record) error) error {
	if part != nil {
		return d.some(ctx, part, each)
	}
	if err := d.call(ctx); err != nil {
		return err
	}
	r := &roster{}
	if d.can.groups {
		var err error
		if r, err = d.memberships(ctx); err != nil {
			return err
		}
	}
	tell := func() error {
		for _, g := range r.groups {
			record := &export.Record{Group: g.name, Partial: g.partial}
			for _, p := range r.parents[g.id] {
				record.In = append(record.In, p.name)
			}
			if err := each(record); err != nil {
				return err
			}
		}
		return nil
	}
	partial := slices.ContainsFunc(r.groups, func(g *group) bool { return g.partial != "" })
	if !partial {
		if err := tell(); err != nil {
			return err
		}
	}
	says := map[*group]int{} // how many accounts say that they are in a group of which there may be more
	more := map[*group]bool{}
	var ids []string // of a few users, to be asked for one by one
	err := d.list(ctx, d.can.users, nil, func(raw json.RawMessage) error {
		x, err := d.sight(raw)
		if err != nil {
			return err
		}
		if partial && len(ids) <= fewUsers {
			ids = append(ids, x.user.id)
		}
		for _, m := range x.own {
			if g := r.find(m); g != nil && g.partial != "" {
				says[g]++
				more[g] = more[g] || !slices.Contains(r.in[x.user.id], g)
			}
		}
		if !d.can.groups {
			x.hold(nil)
		} else {
			x.hold(r)
		}
		return each(x.record)
	})
	if err != nil || !partial {
		return err
	}
	for _, g := range r.groups {
		// Where accounts say their groups, the group itself is not needed to know who is in it.
		if more[g] || says[g] > 0 && says[g] >= len(g.members) {
			g.partial = ""
		}
	}
	if err := d.tryEach(ctx, r, ids); err != nil {
		return err
	}
	return tell()
}

// fewUsers are so many that each can be asked for by itself.
const fewUsers = 200

// tryEach asks of a few users, one by one, which groups they are in, where a filter is known to find that: groups of a
// round number of members that nobody else is in are whole.
func (d *driver) tryEach(ctx context.Context, r *roster, ids []string) error {
	doubtful := func(g *group) bool { return g.partial != "" }
	if len(ids) > fewUsers || !slices.ContainsFunc(r.groups, doubtful) {
		return nil
	}
	if err := d.prove(ctx, r); err != nil || !d.knows().proven {
		return err
	}
	for _, id := range ids {
		err := d.groupsOf(ctx, id, func(name string) {
			if g := r.byName[name]; g != nil && !slices.Contains(r.in[id], g) {
				g.partial = fmt.Sprintf("the application shows %d members, and there are more", len(g.members))
			}
		})
		if err != nil {
			return err
		}
	}
	for _, g := range r.groups {
		if !strings.HasSuffix(g.partial, "there are more") {
			g.partial = ""
		}
	}
	return nil
}
