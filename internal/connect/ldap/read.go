package ldap

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"pravet/internal/connect/live"
	"pravet/internal/core/day"
	"pravet/internal/core/model"
	"pravet/internal/export"
)

// manyAsk is how many accounts one filter names at the most. Of more accounts than fewGroups
// the groups are read whole, instead of asking for those that list them.
const (
	manyAsk   = 200
	fewGroups = 20
)

// search calls each with every entry below a base, page by page (RFC 2696).
func (d *driver) search(ctx context.Context, base, filter string, attrs []string, each func(*ldap.Entry) error) error {
	paging := ldap.NewControlPaging(uint32(d.spec.Page))
	cookies := map[string]bool{}
	for {
		var res *ldap.SearchResult
		err := d.ask(ctx, func(ctx context.Context) error {
			conn, err := d.connection(ctx)
			if err != nil {
				return err
			}
			res, err = conn.Search(ldap.NewSearchRequest(
				base,
				ldap.ScopeWholeSubtree,
				ldap.NeverDerefAliases,
				0,
				int(d.spec.Timeout.Seconds()),
				false,
				filter,
				attrs,
				[]ldap.Control{paging},
			))
			if ldap.IsErrorWithCode(err, ldap.LDAPResultNoSuchObject) {
				return wrong("there is no branch %s in the directory", base)
			}
			return judge(err, false)
		})
		if err != nil {
			return err
		}
		for _, e := range res.Entries {
			if err := each(e); err != nil {
				return err
			}
		}
		next, ok := ldap.FindControl(res.Controls, ldap.ControlTypePaging).(*ldap.ControlPaging)
		if !ok || len(next.Cookie) == 0 {
			return nil
		}
		if cookies[string(next.Cookie)] {
			return wrong("the pages of %s go in a circle", base)
		}
		cookies[string(next.Cookie)] = true
		paging.SetCookie(next.Cookie)
	}
}

// A list is a group or a role as it was read.
type list struct {
	kind    model.Kind
	name    string
	dn      string
	members []string // folded DNs, or names
}

// lists reads groups and roles: all, or those that list one of some entries.
func (d *driver) lists(ctx context.Context, filter string) ([]*list, error) {
	var out []*list
	for _, b := range []struct {
		kind model.Kind
		base string
	}{{model.Group, d.at.Groups}, {model.Role, d.at.Roles}} {
		if b.base == "" {
			continue
		}
		err := d.search(ctx, b.base, filter, []string{"cn", d.at.Member}, func(e *ldap.Entry) error {
			if export.SameDN(e.DN, b.base) ||
				b.kind == model.Group && export.Under(e.DN, d.at.Roles) && export.Under(d.at.Roles, d.at.Groups) {
				return nil // the branch itself, or roles that are below groups
			}
			l := &list{kind: b.kind, name: e.GetEqualFoldAttributeValue("cn"), dn: e.DN}
			if l.name == "" {
				return nil // a branch below
			}
			for _, m := range e.GetEqualFoldAttributeValues(d.at.Member) {
				l.members = append(l.members, d.at.Key(m))
			}
			out = append(out, l)
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	return out, nil
}

// asked are the attributes that are read of an account.
func (d *driver) asked() []string {
	out := []string{d.attribute(d.app.Match), d.at.RDN, version}
	if d.at.Block.Attribute != "" {
		out = append(out, d.at.Block.Attribute)
	}
	for _, a := range d.app.Attrs {
		out = append(out, d.attribute(a.Name))
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// Read reads all accounts, or those that are named.
func (d *driver) Read(ctx context.Context, part *live.Part, each func(*export.Record) error) error {
	var accounts []string
	if part != nil {
		accounts = part.Accounts
	}
	filters, err := d.filters(accounts)
	if err != nil {
		return err
	}
	var lists []*list
	whole := accounts == nil || len(accounts) > fewGroups
	if whole {
		if lists, err = d.lists(ctx, "(objectClass=*)"); err != nil {
			return err
		}
	}
	if accounts == nil {
		if err := d.told(lists, each); err != nil {
			return err
		}
	}
	in := index(lists)
	wanted := make(map[string]bool, len(accounts))
	for _, name := range accounts {
		wanted[name] = true
	}
	bases := []string{d.at.People}
	if d.at.Away != "" && !export.Under(d.at.Away, d.at.People) {
		bases = append(bases, d.at.Away)
	}
	for _, base := range bases {
		for _, filter := range filters {
			var found []*ldap.Entry
			err := d.search(ctx, base, filter, d.asked(), func(e *ldap.Entry) error {
				if accounts != nil && !whole {
					found = append(found, e) // no search within a search
					return nil
				}
				return d.account(e, in, accounts != nil, wanted, each)
			})
			if err != nil {
				return err
			}
			for _, e := range found {
				some, err := d.lists(ctx, "("+d.at.Member+"="+ldap.EscapeFilter(d.value(e.DN, e))+")")
				if err != nil {
					return err
				}
				if err := d.account(e, index(some), true, wanted, each); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// value is how a list names an entry.
func (d *driver) value(dn string, e *ldap.Entry) string {
	if d.at.ByName() {
		return e.GetEqualFoldAttributeValue(d.at.RDN)
	}
	return dn
}

// index is which lists name each member.
func index(lists []*list) map[string][]*list {
	out := map[string][]*list{}
	for _, l := range lists {
		for _, m := range l.members {
			out[m] = append(out[m], l)
		}
	}
	return out
}

// told tells which groups and roles there are, and which groups are in which.
func (d *driver) told(lists []*list, each func(*export.Record) error) error {
	in := index(lists)
	groups := map[string]string{}
	for _, l := range lists {
		name := l.kind.String() + " " + l.name
		if dn, twice := groups[name]; twice {
			return wrong("two entries are called %s: %s and %s", name, dn, l.dn)
		}
		groups[name] = l.dn
		r := &export.Record{}
		if l.kind == model.Role {
			r.Role = l.name
		} else {
			r.Group = l.name
			for _, parent := range in[export.FoldDN(l.dn)] {
				if parent.kind == model.Group {
					r.In = append(r.In, parent.name)
				}
			}
		}
		if err := each(r); err != nil {
			return err
		}
	}
	d.mu.Lock()
	d.groups = groups
	d.mu.Unlock()
	return nil
}

// filters ask for accounts, several at a time.
func (d *driver) filters(accounts []string) ([]string, error) {
	if len(d.at.Class) == 0 {
		return nil, errors.New("connect names no class of accounts")
	}
	class := "(objectClass=" + ldap.EscapeFilter(d.at.Class[0]) + ")"
	if accounts == nil {
		return []string{class}, nil
	}
	var out []string
	key := d.attribute(d.app.Match)
	for some := range slices.Chunk(accounts, manyAsk) {
		var b strings.Builder
		b.WriteString("(&" + class + "(|")
		for _, name := range some {
			b.WriteString("(" + key + "=" + ldap.EscapeFilter(name) + ")")
		}
		b.WriteString("))")
		out = append(out, b.String())
	}
	return out, nil
}

// account reads one entry.
func (d *driver) account(
	e *ldap.Entry, in map[string][]*list, remember bool, wanted map[string]bool, each func(*export.Record) error,
) error {
	r := &export.Record{
		Account: e.GetEqualFoldAttributeValue(d.attribute(d.app.Match)), State: model.Open.String(),
		Version: e.GetEqualFoldAttributeValue(version), Attributes: map[string]string{},
	}
	if remember && !wanted[r.Account] {
		return nil // of another case
	}
	if d.at.Blocked(e.DN, e.GetEqualFoldAttributeValue) {
		r.State = model.Blocked.String()
	}
	for _, a := range d.app.Attrs {
		v := e.GetEqualFoldAttributeValue(d.attribute(a.Name))
		if a.Name == model.KeySince {
			v = date(v, d.zone)
		}
		if v != "" && a.Name != d.app.Match {
			r.Attributes[a.Name] = v
		}
	}
	x := &entry{dn: e.DN, version: r.Version}
	for _, l := range in[d.at.Key(d.value(e.DN, e))] {
		r.Hold(l.kind, l.name)
		x.groups = append(x.groups, l.dn)
	}
	if remember {
		d.mu.Lock()
		d.entries[r.Account] = x
		d.mu.Unlock()
	}
	return each(r)
}

// date is the day of a moment as directories write it (RFC 4517 §3.3.13); what is none stays.
func date(v string, zone day.Zone) string {
	for _, form := range []string{"20060102150405Z", "20060102150405.000000Z", "200601021504Z"} {
		if t, err := time.Parse(form, v); err == nil {
			return zone.Day(t).String()
		}
	}
	return v
}
