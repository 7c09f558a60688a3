package ldap

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"
	"golang.org/x/sync/errgroup"

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

// search calls each with every entry below a base, page by page (RFC 2696). The next page is read while one is looked
// at.
func (d *driver) search(ctx context.Context, base, filter string, attrs []string, each func(*ldap.Entry) error) error {
	pages := make(chan []*ldap.Entry, 1)
	group, within := errgroup.WithContext(ctx)
	group.Go(func() error {
		defer close(pages)
		return d.pages(within, base, filter, attrs, func(page []*ldap.Entry) error {
			select {
			case pages <- page:
				return nil
			case <-within.Done():
				return within.Err()
			}
		})
	})
	group.Go(func() error {
		for page := range pages {
			for _, e := range page {
				if err := each(e); err != nil {
					return err
				}
			}
		}
		return nil
	})
	return group.Wait()
}

// pages calls each with the entries of every page.
func (d *driver) pages(
	ctx context.Context, base, filter string, attrs []string, each func([]*ldap.Entry) error,
) error {
	paging := ldap.NewControlPaging(uint32(d.spec.Page))
	cookies := map[string]bool{}
	var of *ldap.Conn
	broken := &live.Moved{Says: "the pages of " + base + " were broken off, as the connection was; try again"}
	for {
		var res *ldap.SearchResult
		err := d.ask(ctx, func(ctx context.Context) error {
			conn, err := d.connection(ctx)
			if err != nil {
				return err
			}
			if len(paging.Cookie) > 0 && of != conn { // a cookie is good on the connection that it came by (RFC 2696)
				return broken
			}
			of = conn
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
			if len(paging.Cookie) > 0 && ldap.IsErrorAnyOf(err, ldap.LDAPResultProtocolError, ldap.LDAPResultUnwillingToPerform) {
				return broken
			}
			return judge(err, false)
		})
		if err != nil {
			return err
		}
		if len(res.Referrals) > 0 {
			return wrong("part of %s is in another directory (%s), which is not read; name that one instead, or another branch",
				base, res.Referrals[0])
		}
		if err := each(res.Entries); err != nil {
			return err
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
	how     export.List
	members []string // keys, see export.Lister
}

// lists reads groups and roles: all, or those that a filter finds.
func (d *driver) lists(ctx context.Context, filter string) ([]*list, error) {
	var out []*list
	for _, b := range []struct {
		kind model.Kind
		base string
	}{{model.Group, d.at.Groups}, {model.Role, d.at.Roles}} {
		if b.base == "" {
			continue
		}
		attrs := append([]string{"cn"}, d.at.ListAttributes()...)
		err := d.search(ctx, b.base, d.but(filter), attrs, func(e *ldap.Entry) error {
			if export.SameDN(e.DN, b.base) ||
				b.kind == model.Group && export.Under(e.DN, d.at.Roles) && export.Under(d.at.Roles, d.at.Groups) {
				return nil // the branch itself, or roles that are below groups
			}
			l := &list{kind: b.kind, name: e.GetEqualFoldAttributeValue("cn"), dn: e.DN}
			if l.name == "" {
				return nil // a branch below
			}
			get := e.GetEqualFoldAttributeValues
			l.how = d.at.ListOfEntry(get)
			l.members = l.how.Keys(get)
			if l.how.Partial == "" && l.how.Needs && len(l.members) == 0 {
				l.how.Partial = "the directory shows no member, and an entry of this class has one: this caller may not see members"
			}
			for _, a := range e.Attributes {
				if name, options, _ := strings.Cut(a.Name, ";"); strings.HasPrefix(strings.ToLower(options), "range=") {
					l.how.Partial = "the directory shows " + name + " in parts alone"
				}
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

// but is a filter without what is left alone.
func (d *driver) but(filter string) string {
	if d.at.Except == "" {
		return filter
	}
	return "(&" + filter + "(!" + d.at.Except + "))"
}

// named gives all lists the names by which they are told apart.
func (d *driver) named(lists []*list) {
	var dns, cns []string
	for _, l := range lists {
		dns, cns = append(dns, l.dn), append(cns, l.name)
	}
	base := func(i int) string {
		if lists[i].kind == model.Role {
			return d.at.Roles
		}
		return d.at.Groups
	}
	for i, name := range export.Told(dns, cns, base) {
		lists[i].name = name
	}
}

// remember keeps all lists, to be looked up.
func (d *driver) remember(lists []*list) {
	d.named(lists)
	d.mu.Lock()
	defer d.mu.Unlock()
	d.groups, d.byDN = make(map[string]*list, len(lists)), make(map[string]*list, len(lists))
	for _, l := range lists {
		d.groups[l.kind.String()+" "+l.name], d.byDN[export.FoldDN(l.dn)] = l, l
	}
}

// all reads all lists.
func (d *driver) all(ctx context.Context) ([]*list, error) {
	lists, err := d.lists(ctx, "(objectClass=*)")
	var moved *live.Moved
	if errors.As(err, &moved) {
		lists, err = d.lists(ctx, "(objectClass=*)")
	}
	if err == nil {
		d.remember(lists)
	}
	return lists, err
}

// naming reads the lists that name one entry.
func (d *driver) naming(ctx context.Context, e *ldap.Entry) ([]*list, error) {
	var b strings.Builder
	for _, attr := range d.at.ListAttributes()[1:] {
		if strings.EqualFold(attr, "memberUid") {
			for _, uid := range e.GetEqualFoldAttributeValues("uid") {
				b.WriteString("(" + attr + "=" + ldap.EscapeFilter(uid) + ")")
			}
			continue
		}
		b.WriteString("(" + attr + "=" + ldap.EscapeFilter(e.DN) + ")")
	}
	some, err := d.lists(ctx, "(|"+b.String()+")")
	if err != nil {
		return nil, err
	}
	for again := true; ; again = false {
		d.mu.Lock()
		known := d.byDN != nil
		for _, l := range some {
			is := d.byDN[export.FoldDN(l.dn)]
			if known = known && is != nil; known {
				l.name = is.name
			}
		}
		d.mu.Unlock()
		if known || !again {
			return some, nil
		}
		if _, err := d.all(ctx); err != nil {
			return nil, err
		}
	}
}

// asked are the attributes that are read of an account.
func (d *driver) asked() []string {
	out := []string{d.attribute(d.app.Match), d.at.RDN, "uid", version}
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
		if lists, err = d.all(ctx); err != nil {
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
				some, err := d.naming(ctx, e)
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
	for _, l := range lists {
		r := &export.Record{Partial: l.how.Partial}
		if l.how.Needs && d.at.Keep == "" {
			r.Needs = len(l.members)
		}
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
	return nil
}

// filters ask for accounts, several at a time.
func (d *driver) filters(accounts []string) ([]string, error) {
	if len(d.at.Class) == 0 {
		return nil, errors.New("connect names no class of accounts")
	}
	class := d.but("(objectClass=" + ldap.EscapeFilter(d.at.Class[0]) + ")")
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
		for _, name := range e.GetEqualFoldAttributeValues(d.attribute(d.app.Match)) {
			if wanted[name] {
				r.Account = name // of several that it has
			}
		}
		if !wanted[r.Account] {
			return nil // of another case
		}
	}
	if d.at.Blocked(e.DN, e.GetEqualFoldAttributeValue) {
		r.State = model.Blocked.String()
	}
	for _, a := range d.app.Attrs {
		values := e.GetEqualFoldAttributeValues(d.attribute(a.Name))
		if a.Name == model.KeySince && len(values) > 0 {
			values = []string{date(values[0], d.zone)}
		}
		if a.Name != d.app.Match {
			r.Say(a.Name, values)
		}
	}
	x := &entry{dn: e.DN, version: r.Version, uid: e.GetEqualFoldAttributeValue("uid")}
	seen := map[*list]bool{}
	for _, key := range export.AccountKeys(e.DN, e.GetEqualFoldAttributeValues("uid")) {
		for _, l := range in[key] {
			if !seen[l] {
				seen[l] = true
				r.Hold(l.kind, l.name)
				x.lists = append(x.lists, l)
			}
		}
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
