package ldap

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"pravet/internal/connect"
	"pravet/internal/connect/live"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/export"
)

// Requests makes one change of all that is to be done to an entry, and one for each group or
// role that somebody comes to or leaves.
func (d *driver) Requests(ctx context.Context, work []live.Work) ([]*live.Request, error) {
	var out []*live.Request
	lists := map[string][]*plan.Change{}
	var order []string
	for _, w := range work {
		var own []*plan.Change
		for _, c := range w.Changes {
			if c.Thing == nil {
				own = append(own, c)
				continue
			}
			key := c.Thing.Kind.String() + " " + c.Thing.Name
			if lists[key] == nil {
				order = append(order, key)
			}
			lists[key] = append(lists[key], c)
		}
		alone := func(c *plan.Change) bool {
			return c.Verb != model.Update || c.Attribute == d.app.Match || c.Attribute == model.KeySince
		}
		for _, c := range own { // each verb is a request of its own kind; attributes go together
			if alone(c) {
				out = append(out, d.one(c, &w))
			}
		}
		own = slices.DeleteFunc(own, alone)
		if len(own) > 0 {
			out = append(out, d.update(w.Account, own))
		}
	}
	for _, key := range order {
		l, err := d.list(ctx, key)
		out = append(
			out,
			&live.Request{Changes: lists[key], Key: key, Do: func(ctx context.Context, of []*plan.Change) []error {
				if err != nil {
					return live.All(of, err)
				}
				return d.members(ctx, l, of)
			}},
		)
	}
	return out, nil
}

// known is an account as it was read last.
func (d *driver) known(account string) *entry {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.entries[account]
}

// write sends a change.
func (d *driver) write(ctx context.Context, f func(*ldap.Conn) error) error {
	conn, err := d.connection(ctx)
	if err != nil {
		return err
	}
	return judge(f(conn), true)
}

// unchangedControl makes a modification fail unless the entry is still as it was read.
func (d *driver) unchangedControl(x *entry) []ldap.Control {
	if !d.asserts || x.version == "" {
		return nil
	}
	filter, err := ldap.CompileFilter("(" + version + "=" + ldap.EscapeFilter(x.version) + ")")
	if err != nil {
		return nil
	}
	return []ldap.Control{ldap.NewControlString(assertion, true, string(filter.Bytes()))}
}

// one carries out one change of an account that is no attribute.
func (d *driver) one(c *plan.Change, w *live.Work) *live.Request {
	return &live.Request{
		Changes: []*plan.Change{c},
		Key:     "account " + w.Account,
		Do: func(ctx context.Context, of []*plan.Change) []error {
			return live.All(of, d.carry(ctx, c))
		},
	}
}

func (d *driver) carry(ctx context.Context, c *plan.Change) error {
	if c.Verb == model.Create {
		return d.create(ctx, c)
	}
	x := d.known(c.Account)
	if x == nil {
		return &connect.Fault{
			Kind: connect.Conflict,
			Says: fmt.Sprintf("the account %s is not there any more", c.Account),
		}
	}
	switch c.Verb {
	case model.Remove:
		err := d.write(ctx, func(conn *ldap.Conn) error {
			err := conn.Del(ldap.NewDelRequest(x.dn, d.unchangedControl(x)))
			if ldap.IsErrorWithCode(err, ldap.LDAPResultNoSuchObject) {
				return nil
			}
			return err
		})
		return err
	case model.Suspend, model.Restore:
		return d.block(ctx, x, c.Verb == model.Suspend)
	case model.Update: // the key, or the name itself
		if c.Attribute == model.KeySince {
			return d.renew(ctx, c.Account, x)
		}
		return d.rename(ctx, x, c.After.Text())
	}
	return &connect.Fault{Kind: connect.Refused, Says: "a directory has no way to " + c.Verb.String()}
}

// renew gives an account a new key.
func (d *driver) renew(ctx context.Context, account string, x *entry) error {
	if d.key == nil {
		return &connect.Fault{Kind: connect.Refused, Says: "nothing says who may read a new key"}
	}
	key, err := d.key(account)
	if err != nil {
		return err
	}
	req := ldap.NewModifyRequest(x.dn, d.unchangedControl(x))
	req.Replace("userPassword", []string{key})
	return d.write(ctx, func(conn *ldap.Conn) error { return conn.Modify(req) })
}

// block blocks an account as this directory does, or opens it again.
func (d *driver) block(ctx context.Context, x *entry, blocked bool) error {
	if b := d.at.Block; b.Attribute != "" {
		v := b.Open
		if blocked {
			v = b.Blocked
		}
		req := ldap.NewModifyRequest(x.dn, d.unchangedControl(x))
		req.Replace(b.Attribute, values(v))
		if err := d.write(ctx, func(conn *ldap.Conn) error { return conn.Modify(req) }); err != nil {
			return err
		}
	}
	if d.at.Away == "" || export.Under(x.dn, d.at.Away) == blocked {
		return nil
	}
	to := d.at.People
	if blocked {
		to = d.at.Away
	}
	dn, err := ldap.ParseDN(x.dn)
	if err != nil || len(dn.RDNs) == 0 {
		return wrong("the entry %q cannot be moved: its name cannot be read", x.dn)
	}
	rdn := dn.RDNs[0].String()
	return d.move(ctx, x, rdn, to)
}

// move gives an entry another name or another branch. The lists that name it are told the
// new one before, and forget the old one after, so that it is never in none.
func (d *driver) move(ctx context.Context, x *entry, rdn, to string) error {
	if err := d.seesAll(ctx); err != nil {
		return err
	}
	now := rdn + "," + to
	tell := func(change func(r *ldap.ModifyRequest, attr string)) error {
		for _, l := range x.lists {
			for _, by := range l.how.By {
				if by.ByName {
					continue
				}
				req := ldap.NewModifyRequest(l.dn, nil)
				change(req, by.Attribute)
				err := d.write(ctx, func(conn *ldap.Conn) error {
					err := conn.Modify(req)
					if ldap.IsErrorAnyOf(err, ldap.LDAPResultAttributeOrValueExists, ldap.LDAPResultNoSuchAttribute) {
						return nil
					}
					return err
				})
				if err != nil {
					return err
				}
			}
		}
		return nil
	}
	if err := tell(func(r *ldap.ModifyRequest, attr string) { r.Add(attr, []string{now}) }); err != nil {
		return err
	}
	err := d.write(
		ctx,
		func(conn *ldap.Conn) error { return conn.ModifyDN(ldap.NewModifyDNRequest(x.dn, rdn, true, to)) },
	)
	if err != nil {
		return err
	}
	return tell(func(r *ldap.ModifyRequest, attr string) { r.Delete(attr, []string{x.dn}) })
}

// seesAll makes sure that the members of all lists are shown: one that names an entry unseen would go on naming it as
// it was called before.
func (d *driver) seesAll(ctx context.Context) error {
	d.mu.Lock()
	lists := d.groups
	d.mu.Unlock()
	if lists == nil {
		if _, err := d.all(ctx); err != nil {
			return err
		}
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, name := range slices.Sorted(maps.Keys(d.groups)) {
		if l := d.groups[name]; l.how.Partial != "" && len(l.how.By) > 0 {
			return &connect.Fault{Kind: connect.Refused, Says: fmt.Sprintf(
				"the entry is not moved, as %s may name it and not all of its members are shown: %s", name, l.how.Partial,
			)}
		}
	}
	return nil
}

func (d *driver) rename(ctx context.Context, x *entry, name string) error {
	if key := d.attribute(d.app.Match); !strings.EqualFold(key, d.at.RDN) {
		req := ldap.NewModifyRequest(x.dn, d.unchangedControl(x))
		req.Replace(key, []string{name})
		return d.write(ctx, func(conn *ldap.Conn) error { return conn.Modify(req) })
	}
	dn, err := ldap.ParseDN(x.dn)
	if err != nil || len(dn.RDNs) < 2 {
		return wrong("the entry %q cannot be renamed: its name cannot be read", x.dn)
	}
	parent := (&ldap.DN{RDNs: dn.RDNs[1:]}).String()
	return d.move(ctx, x, d.at.RDN+"="+ldap.EscapeDN(name), parent)
}

func values(v string) []string {
	if v == "" {
		return nil
	}
	return []string{v}
}

// update changes the attributes of an entry that differ, as one change.
func (d *driver) update(account string, changes []*plan.Change) *live.Request {
	return &live.Request{
		Changes: changes,
		Key:     "account " + account,
		Do: func(ctx context.Context, of []*plan.Change) []error {
			x := d.known(account)
			if x == nil {
				return live.All(
					of,
					&connect.Fault{
						Kind: connect.Conflict,
						Says: fmt.Sprintf("the account %s is not there any more", account),
					},
				)
			}
			return live.All(of, d.exchange(ctx, x, of, false))
		},
	}
}

// exchange gives an entry other values in the place of those that it had; others that it has stay. Whole replaces all
// of them, of attributes whose values cannot be compared (RFC 4511 §4.6).
func (d *driver) exchange(ctx context.Context, x *entry, changes []*plan.Change, whole bool) error {
	req := ldap.NewModifyRequest(x.dn, d.unchangedControl(x))
	for _, c := range changes {
		attr, before, after := d.attribute(c.Attribute), c.Before.Text(), c.After.Text()
		switch {
		case whole || after == "":
			req.Replace(attr, values(after))
		case before == "":
			req.Add(attr, []string{after})
		default:
			req.Delete(attr, []string{before})
			req.Add(attr, []string{after})
		}
	}
	incomparable := false
	err := d.write(ctx, func(conn *ldap.Conn) error {
		err := conn.Modify(req)
		if incomparable = ldap.IsErrorWithCode(err, ldap.LDAPResultInappropriateMatching); !incomparable &&
			ldap.IsErrorWithCode(err, ldap.LDAPResultNoSuchAttribute) {
			return &connect.Fault{
				Kind: connect.Conflict, Says: "somebody else has changed the entry just now; nothing was overwritten",
			}
		}
		return err
	})
	if incomparable && !whole {
		return d.exchange(ctx, x, changes, true)
	}
	return err
}

// create adds an entry, with the attributes that its class cannot do without.
func (d *driver) create(ctx context.Context, c *plan.Change) error {
	attrs := c.After.Fields()
	if attrs == nil {
		return fmt.Errorf("change %s creates an account and has no attributes", c.ID)
	}
	all := map[string]string{d.attribute(d.app.Match): c.Account}
	for name, v := range attrs {
		all[d.attribute(name)] = v
	}
	name := all[d.at.RDN]
	if name == "" {
		name = c.Account
		all[d.at.RDN] = name
	}
	d.at.Required(all, c.Account, attrs["displayName"])
	to := d.at.People
	if c.Blocked {
		if d.at.Away != "" {
			to = d.at.Away
		}
		if d.at.Block.Attribute != "" {
			all[d.at.Block.Attribute] = d.at.Block.Blocked
		}
	} else if d.at.Block.Attribute != "" && d.at.Block.Open != "" {
		all[d.at.Block.Attribute] = d.at.Block.Open
	}
	req := ldap.NewAddRequest(d.at.RDN+"="+ldap.EscapeDN(name)+","+to, nil)
	req.Attribute("objectClass", d.at.Class)
	if d.first != nil {
		password, err := d.first(c.Account)
		if err != nil {
			return err
		}
		req.Attribute("userPassword", []string{password})
		if d.policy {
			req.Attribute("pwdReset", []string{"TRUE"}) // it must be changed at the first sign-in
		}
	}
	for _, attr := range slices.Sorted(maps.Keys(all)) {
		if all[attr] != "" {
			req.Attribute(attr, []string{all[attr]})
		}
	}
	return d.write(ctx, func(conn *ldap.Conn) error { return conn.Add(req) })
}
