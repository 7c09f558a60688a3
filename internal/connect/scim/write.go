package scim

import (
	"context"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"

	"pravet/internal/connect"
	"pravet/internal/connect/live"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/export"
)

// The schemas of messages (RFC 7644 §8.2).
const (
	patchSchema = "urn:ietf:params:scim:api:messages:2.0:PatchOp"
	bulkSchema  = "urn:ietf:params:scim:api:messages:2.0:BulkRequest"
	userSchema  = "urn:ietf:params:scim:schemas:core:2.0:User"
)

// A message is one request to change something, by itself or as an operation of a Bulk.
type message struct {
	method, path, version string
	body                  any
	changes               []*plan.Change
	key                   string
	bulkID                string
	group                 string // the id of the group whose members it changes, or ""
}

// An operation is one of a PATCH (RFC 7644 §3.5.2).
type operation struct {
	Op    string `json:"op"`
	Path  string `json:"path,omitempty"`
	Value any    `json:"value,omitempty"`
}

// Requests makes one message of all that is to be done to a user, and one for each group
// that somebody joins or leaves.
func (d *driver) Requests(ctx context.Context, work []live.Work) ([]*live.Request, error) {
	if err := d.meet(ctx, work); err != nil {
		return nil, err
	}
	messages, failed := d.messages(ctx, work)
	if d.bulky() && d.patches() {
		return append(failed, d.bulks(messages)...), nil
	}
	for _, m := range messages {
		failed = append(failed, d.request(m))
	}
	return failed, nil
}

// messages makes them; failed are the changes that none can be made for.
func (d *driver) messages(ctx context.Context, work []live.Work) (messages []*message, failed []*live.Request) {
	groups := map[string][]*plan.Change{}
	var order []string
	for _, w := range work {
		var own []*plan.Change
		for _, c := range w.Changes {
			if c.Thing != nil && c.Thing.Kind == model.Group && (c.Verb == model.Join || c.Verb == model.Leave) {
				if groups[c.Thing.Name] == nil {
					order = append(order, c.Thing.Name)
				}
				groups[c.Thing.Name] = append(groups[c.Thing.Name], c)
				continue
			}
			own = append(own, c)
		}
		if len(own) == 0 {
			continue
		}
		m, err := d.message(&w, own)
		if err != nil {
			failed = append(failed, answered(own, err))
			continue
		}
		messages = append(messages, m)
	}
	for _, name := range order {
		id, err := d.group(ctx, name)
		at := ""
		if err == nil {
			at, err = place(d.can.groupsAt, id)
		}
		if err != nil {
			failed = append(failed, answered(groups[name], err))
			continue
		}
		messages = append(messages, &message{
			method: http.MethodPatch, path: at, changes: groups[name], key: "group " + id, group: id,
		})
	}
	return messages, failed
}

// answered is a request that needs not be sent to know what becomes of it.
func answered(changes []*plan.Change, err error) *live.Request {
	return &live.Request{
		Changes: changes,
		Do:      func(_ context.Context, of []*plan.Change) []error { return live.All(of, err) },
	}
}

// group is the id of a group by its name.
func (d *driver) group(ctx context.Context, name string) (string, error) {
	d.mu.Lock()
	r := d.roster
	d.mu.Unlock()
	if r == nil {
		var err error
		if r, err = d.known(ctx, nil); err != nil {
			return "", err
		}
	}
	if g := r.byName[name]; g != nil {
		return g.id, nil
	}
	return "", &connect.Fault{Kind: connect.Refused, Says: fmt.Sprintf("the application has no group %q", name)}
}

// request sends one message by itself.
func (d *driver) request(m *message) *live.Request {
	return &live.Request{Changes: m.changes, Key: m.key, Do: func(ctx context.Context, of []*plan.Change) []error {
		return d.carry(ctx, m, of)
	}}
}

// carry sends one message: by PATCH, or by PUT where there is none or where the application says so only now.
func (d *driver) carry(ctx context.Context, m *message, of []*plan.Change) []error {
	if m.method == http.MethodPatch && d.patches() {
		body := m.body
		if m.group != "" {
			body = d.members(of)
		}
		a, err := d.send(ctx, m.method, m.path, nil, m.version, body)
		if a == nil || a.status != http.StatusNotImplemented && a.status != http.StatusMethodNotAllowed {
			return live.All(of, err)
		}
		d.learn(func(l *learned) { l.noPatch = true })
	}
	switch {
	case m.method == http.MethodPatch && m.group != "":
		return d.putGroup(ctx, m, of)
	case m.method == http.MethodPatch:
		return d.putUser(ctx, m, of)
	}
	a, err := d.send(ctx, m.method, m.path, nil, m.version, m.body)
	if err == nil {
		d.created(m)
	}
	return live.All(of, gone(a, err, m.method))
}

// gone takes an account that is not there for removed.
func gone(a *answer, err error, method string) error {
	if method == http.MethodDelete && a != nil && a.status == http.StatusNotFound {
		return nil
	}
	return err
}

// created remembers nothing of what was changed: what is not read again is not known.
func (d *driver) created(m *message) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, c := range m.changes {
		if c.Verb == model.Create || c.Verb == model.Invite {
			delete(d.users, c.Account)
		}
	}
}

// members is the PATCH that puts accounts into a group and takes others out.
func (d *driver) members(changes []*plan.Change) any {
	var ops []operation
	var add []any
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, c := range changes {
		u := d.users[c.Account]
		if u == nil {
			continue // it was looked at just before
		}
		if c.Verb == model.Join {
			add = append(add, map[string]any{"value": u.id})
		} else {
			ops = append(ops, operation{Op: "remove", Path: "members[value eq " + quote(u.id) + "]"})
		}
	}
	if len(add) > 0 {
		ops = append(ops, operation{Op: "add", Path: "members", Value: add})
	}
	return patch(ops)
}

func patch(ops []operation) any {
	return map[string]any{"schemas": []string{patchSchema}, "Operations": ops}
}

// match is the version to send, where the application knows what that is.
func (d *driver) match(version string) string {
	if d.can.etag {
		return version
	}
	return ""
}

// message is what carries out all changes of one account but those of groups.
func (d *driver) message(w *live.Work, changes []*plan.Change) (*message, error) {
	m := &message{changes: changes, key: "user " + w.Account}
	first := changes[0]
	if first.Verb == model.Create || first.Verb == model.Invite && first.Attribute == "" {
		return m, d.create(m, first)
	}
	d.mu.Lock()
	u := d.users[w.Account]
	d.mu.Unlock()
	if u == nil {
		return nil, &connect.Fault{
			Kind: connect.Conflict,
			Says: fmt.Sprintf("the account %s is not there any more", w.Account),
		}
	}
	var err error
	if m.path, err = place(d.can.users, u.id); err != nil {
		return nil, err
	}
	m.version = d.match(u.version)
	e, removes, err := d.edit(u.body, changes)
	switch {
	case err != nil:
		return nil, err
	case removes:
		m.method = http.MethodDelete
	default:
		m.method, m.body = http.MethodPatch, patch(e.ops)
	}
	return m, nil
}

// edit carries changes out on a user's resource; removes reports that the user is to be deleted instead.
func (d *driver) edit(body map[string]any, changes []*plan.Change) (e *editing, removes bool, _ error) {
	e = &editing{d: d, body: maps.Clone(body)}
	for _, c := range changes {
		if !c.Verb.Deed().Clears {
			if err := e.change(c); err != nil {
				return nil, false, err
			}
			continue
		}
		removes = true
		if status := d.named.Column(export.Status); c.Verb == model.Remove && status != nil {
			if _, keeps := status.Word(model.Removed); keeps {
				removes = false
				e.state(model.Removed)
			}
		}
	}
	return e, removes, nil
}

// create makes a user (RFC 7644 §3.3).
func (d *driver) create(m *message, c *plan.Change) error {
	e := &editing{d: d, body: map[string]any{}}
	attrs := c.After.Fields()
	if attrs == nil {
		return fmt.Errorf("change %s creates an account and has no attributes", c.ID)
	}
	if _, ok := attrs[d.app.Match]; !ok {
		e.set(d.app.Match, c.Account)
	}
	for _, name := range slices.Sorted(maps.Keys(attrs)) {
		v := attrs[name]
		if v != "" && d.refers(name) {
			id, err := d.id(v)
			if err != nil {
				return err
			}
			v = id
		}
		e.set(name, v)
	}
	state := model.Open
	switch {
	case c.Verb == model.Invite:
		state = model.Invited
	case c.Blocked:
		state = model.Blocked
	}
	e.state(state)
	schemas := []string{userSchema}
	for name := range e.body {
		if strings.HasPrefix(name, "urn:") {
			schemas = append(schemas, name)
		}
	}
	slices.Sort(schemas[1:])
	e.body["schemas"] = schemas
	if d.first != nil {
		password, err := d.first(c.Account)
		if err != nil {
			return err
		}
		e.body["password"] = password // never shown again (RFC 7643 §4.1.1)
	}
	m.method, m.path, m.body = http.MethodPost, d.can.users, e.body
	return nil
}
