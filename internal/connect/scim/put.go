package scim

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"
	"time"

	"pravet/internal/connect"
	"pravet/internal/connect/live"
	"pravet/internal/core/model"
	"pravet/internal/core/plain"
	"pravet/internal/core/plan"
	"pravet/internal/export"
)

// A resource that is written whole (PUT, RFC 7644 §3.5.1) is read just before: what somebody else has changed stays as
// it is, and what was not read whole is not written.

// written is who was put into a group and taken out by the last PUT of it.
type written struct {
	in, out []string
	at      time.Time
}

// fresh reads a resource that is to be written.
func (d *driver) fresh(ctx context.Context, m *message) (json.RawMessage, map[string]any, error) {
	var q map[string][]string
	if m.group != "" {
		q = membersAsked(d.knows().asked)
	}
	a, err := d.send(ctx, http.MethodGet, m.path, q, "", nil)
	if a != nil && a.status == http.StatusNotFound {
		return nil, nil, &connect.Fault{Kind: connect.Conflict, Says: "it is not there any more"}
	}
	if err != nil {
		return nil, nil, err
	}
	var body map[string]any
	dec := json.NewDecoder(strings.NewReader(string(a.body)))
	dec.UseNumber()
	if err := dec.Decode(&body); err != nil {
		return nil, nil, wrong("it cannot be read before it is written: %v", plain.JSON(err))
	}
	return a.body, body, nil
}

// putUser writes a user whole.
func (d *driver) putUser(ctx context.Context, m *message, changes []*plan.Change) []error {
	raw, body, err := d.fresh(ctx, m)
	if err != nil {
		return live.All(changes, err)
	}
	x, err := d.sight(raw)
	if err != nil {
		return live.All(changes, err)
	}
	if len(changes) > 0 && d.app.Folds {
		x.record.Account = changes[0].Account
	}
	out := make([]error, len(changes))
	var open []*plan.Change
	for i, c := range changes {
		done, err := live.Compare(d.app, c, map[string]*export.Record{x.record.Account: x.record})
		if out[i] = err; !done && err == nil {
			open = append(open, c)
		}
	}
	if len(open) == 0 {
		return out
	}
	e, _, err := d.edit(body, open)
	if err == nil {
		d.writable(e.body)
		_, err = d.send(ctx, http.MethodPut, m.path, nil, d.match(x.user.version), e.body)
	}
	for i, c := range changes {
		if slices.Contains(open, c) {
			out[i] = err
		}
	}
	return out
}

// writable leaves of a resource what may be written: an application that is told what is read-only need not take the
// rest either.
func (d *driver) writable(body map[string]any) {
	maps.DeleteFunc(body, func(name string, _ any) bool {
		lower := strings.ToLower(name)
		return lower == "meta" || lower == "groups" || lower != "id" && slices.Contains(d.can.readOnly, lower)
	})
	for name, v := range body {
		inner, ok := v.(map[string]any)
		if !ok || !strings.HasPrefix(strings.ToLower(name), "urn:") {
			continue
		}
		inner = maps.Clone(inner)
		maps.DeleteFunc(inner, func(sub string, _ any) bool {
			return slices.Contains(d.can.readOnly, strings.ToLower(name+":"+sub))
		})
		body[name] = inner
	}
}

// putGroup writes a group whole.
func (d *driver) putGroup(ctx context.Context, m *message, changes []*plan.Change) []error {
	raw, body, err := d.fresh(ctx, m)
	if err != nil {
		return live.All(changes, err)
	}
	now, err := readGroup(raw)
	if err == nil {
		err = d.safe(ctx, now, m.group)
	}
	if err != nil {
		return live.All(changes, err)
	}
	references, err := export.References(export.Resource(raw))
	if err != nil {
		return live.All(changes, err)
	}
	name, there := key(body, "members")
	if !there {
		name = "members"
	}
	old, _ := body[name].([]any)
	w := written{at: time.Now()}
	d.mu.Lock()
	for _, c := range changes {
		switch u := d.users[c.Account]; {
		case u == nil:
		case c.Verb == model.Leave:
			w.out = append(w.out, u.id)
		case !slices.Contains(now.members, u.id):
			w.in = append(w.in, u.id)
		}
	}
	d.mu.Unlock()
	gone := make(map[string]bool, len(w.out))
	for _, id := range w.out {
		gone[id] = true
	}
	members := []any{}
	for i, r := range references {
		if !gone[r.ID] && i < len(old) {
			members = append(members, old[i])
		}
	}
	for _, id := range w.in {
		members = append(members, map[string]any{"value": id})
	}
	body[name] = members
	version, err := export.SCIMText(export.Resource(raw), []string{"meta", "version"})
	if err != nil {
		return live.All(changes, err)
	}
	d.writable(body)
	_, err = d.send(ctx, http.MethodPut, m.path, nil, d.match(version), body)
	var f *connect.Fault
	switch {
	case errors.As(err, &f) && f.Kind == connect.Conflict:
		return live.All(changes, &live.Again{Says: f.Says}) // others may join meanwhile; it is read again
	case err == nil:
		d.mu.Lock()
		d.wrote[m.group] = w
		d.mu.Unlock()
	}
	return live.All(changes, err)
}

// sure makes sure that a group of a round number of members has no more: as many users say that they are in it, or
// nobody else is, of a few users that can be asked for one by one.
func (d *driver) sure(ctx context.Context, id string, members int) (bool, error) {
	says := 0
	var ids []string
	err := d.list(ctx, d.can.users, nil, func(raw json.RawMessage) error {
		x, err := d.sight(raw)
		if err != nil {
			return err
		}
		if slices.ContainsFunc(x.own, func(m membership) bool { return m.id == id }) {
			says++
		}
		if len(ids) <= fewUsers {
			ids = append(ids, x.user.id)
		}
		return nil
	})
	if err != nil || says == members {
		return says == members, err
	}
	r, err := d.memberships(ctx)
	if err != nil {
		return false, err
	}
	if err := d.tryEach(ctx, r, ids); err != nil {
		return false, err
	}
	g := r.of[id]
	return g != nil && g.partial == "" && len(g.members) == members, nil
}

// safe makes sure that a group was read whole, and as it was written last.
func (d *driver) safe(ctx context.Context, now *group, id string) error {
	d.mu.Lock()
	last, wrote := d.wrote[id]
	d.mu.Unlock()
	if wrote && time.Since(last.at) < d.spec.Settle {
		for _, m := range last.in {
			if !slices.Contains(now.members, m) {
				return &live.Again{
					Says: fmt.Sprintf("the application does not show yet what was just written to the group %q", now.name),
				}
			}
		}
		for _, m := range last.out {
			if slices.Contains(now.members, m) {
				return &live.Again{
					Says: fmt.Sprintf("the application does not show yet what was just written to the group %q", now.name),
				}
			}
		}
	}
	if d.spec.Whole {
		return nil
	}
	refuse := func(format string, args ...any) error {
		return &connect.Fault{Kind: connect.Refused, Says: fmt.Sprintf(format, args...) +
			"; to write it whole could throw others out. Do it in the application, or say whole: true under connect if members are always shown whole"}
	}
	if n := len(now.members); round(n) {
		if whole, err := d.sure(ctx, id, n); err != nil || whole {
			return err
		}
		return refuse("the application shows %d members of the group %q, which may be where it stops", n, now.name)
	}
	if len(now.members) > 0 {
		return nil
	}
	d.mu.Lock()
	r := d.roster
	d.mu.Unlock()
	if r == nil || len(r.in) == 0 {
		var err error
		if r, err = d.memberships(ctx); err != nil {
			return err
		}
	}
	if len(r.in) == 0 {
		return refuse(
			"the application shows no members of any group, and so does not say whether the group %q has some", now.name,
		)
	}
	return nil
}
