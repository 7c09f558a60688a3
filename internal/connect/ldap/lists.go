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
)

// list is a group or a role as it was read last.
func (d *driver) list(ctx context.Context, key string) (*list, error) {
	for again := true; ; again = false {
		d.mu.Lock()
		l := d.groups[key]
		d.mu.Unlock()
		switch {
		case l != nil && l.how.Partial != "" && len(l.how.By) == 0:
			return nil, &connect.Fault{Kind: connect.Refused, Says: l.how.Partial}
		case l != nil:
			return l, nil
		case !again:
			return nil, &connect.Fault{Kind: connect.Refused, Says: "the directory has no " + key}
		}
		if _, err := d.all(ctx); err != nil {
			return nil, err
		}
	}
}

// members puts entries into a group or a role and takes others out, as one change; where
// the directory has some of it already, each by itself.
func (d *driver) members(ctx context.Context, l *list, changes []*plan.Change) []error {
	in, out := map[string][]string{}, map[string][]string{} // attribute → members
	for _, c := range changes {
		x := d.known(c.Account)
		if x == nil {
			return live.All(
				changes,
				&connect.Fault{
					Kind: connect.Conflict,
					Says: fmt.Sprintf("the account %s is not there any more", c.Account),
				},
			)
		}
		by, to := l.how.In, in
		if c.Verb != model.Gaining(c.Thing.Kind) {
			by, to = l.how.By, out
		}
		for _, a := range by {
			v := a.Value(x.dn, x.uid)
			listed := slices.Contains(l.members, a.Key(v))
			switch {
			case v == "" && len(by) == 1:
				return live.All(changes, &connect.Fault{Kind: connect.Refused, Says: fmt.Sprintf(
					"%s lists members by uid, and the account %s has none", l.name, c.Account,
				)})
			case v != "" && (len(by) == 1 || listed == (c.Verb != model.Gaining(c.Thing.Kind))):
				to[a.Attribute] = append(to[a.Attribute], v)
			}
		}
	}
	return d.modify(ctx, l, changes, in, out)
}

// modify sends who comes into a list and who goes, first without the entry that is kept in lists that need a member.
func (d *driver) modify(ctx context.Context, l *list, changes []*plan.Change, in, out map[string][]string) []error {
	kept := false
	for {
		req := ldap.NewModifyRequest(l.dn, nil)
		for _, attr := range slices.Sorted(maps.Keys(in)) { // before others leave, as a group may need a member
			req.Add(attr, in[attr])
		}
		for _, attr := range slices.Sorted(maps.Keys(out)) {
			req.Delete(attr, out[attr])
		}
		have, empty := false, false
		err := d.write(ctx, func(conn *ldap.Conn) error {
			err := conn.Modify(req)
			have = ldap.IsErrorAnyOf(err, ldap.LDAPResultAttributeOrValueExists, ldap.LDAPResultNoSuchAttribute)
			empty = ldap.IsErrorWithCode(err, ldap.LDAPResultObjectClassViolation)
			return err
		})
		switch {
		case have && len(changes) == 1:
			return live.All(changes, nil) // it is so already
		case have:
			errs := make([]error, 0, len(changes))
			for _, c := range changes {
				errs = append(errs, d.members(ctx, l, []*plan.Change{c})...)
			}
			return errs
		case empty && d.at.Keep != "" && !kept && len(out) > 0:
			kept = true
			for _, attr := range slices.Sorted(maps.Keys(out)) {
				if !strings.EqualFold(attr, "memberUid") {
					in[attr] = append(in[attr], d.at.Keep)
				}
			}
			continue
		case empty:
			err = &connect.Fault{
				Kind: connect.Refused,
				Says: "the directory refused it: a group of this class needs a member; let another account join first, or name an " +
					"entry that stays in such groups: keep: DN under connect",
			}
		}
		return live.All(changes, err)
	}
}
