package postgres

import (
	"context"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"pravet/internal/connect/live"
	"pravet/internal/core/day"
	"pravet/internal/core/model"
	"pravet/internal/export"
)

// The attributes of accounts that a server has a place for, besides their name.
const (
	comment    = "displayName"     // COMMENT ON ROLE
	validUntil = "validUntil"      // VALID UNTIL: the last day that counts
	connLimit  = "connectionLimit" // CONNECTION LIMIT
)

// Read reads all roles, or those that are named. A role that cannot sign in and that the
// catalog lists, or that has members, is a thing that can be held; every other is an
// account.
func (d *driver) Read(ctx context.Context, part *live.Part, each func(*export.Record) error) error {
	var accounts []string
	if part != nil {
		accounts = part.Accounts
	}
	var records []*export.Record
	err := d.ask(ctx, func(ctx context.Context) (err error) {
		records, err = d.read(ctx, accounts)
		return judge(err, false)
	})
	if err != nil {
		return err
	}
	for _, r := range records {
		if err := each(r); err != nil {
			return err
		}
	}
	return nil
}

// rolesQuery reads roles. A membership that lets its holder do nothing but grant the role is none (PostgreSQL 16:
// whoever makes a role without being a superuser has one of it).
const rolesQuery = `
SELECT r.rolname, r.rolcanlogin, r.rolconnlimit, r.rolvaliduntil::text, coalesce(shobj_description(r.oid, 'pg_authid'), ''),
       EXISTS (SELECT FROM pg_auth_members m WHERE m.roleid = r.oid AND MEMBER),
       ARRAY(SELECT g.rolname || chr(10) || TERMS FROM pg_auth_members m JOIN pg_roles g ON g.oid = m.roleid
             WHERE m.member = r.oid AND MEMBER)
FROM pg_roles r WHERE $1::text[] IS NULL OR r.rolname = ANY($1::text[]) ORDER BY r.rolname`

// sixteen is the release from which on memberships have options and are told apart by who granted them.
const sixteen = 160000

func (d *driver) roles() string {
	terms := "CASE WHEN m.admin_option THEN 'ADMIN OPTION' ELSE '' END"
	if d.number >= sixteen {
		terms = "concat_ws(', ', CASE WHEN m.admin_option THEN 'ADMIN OPTION' END, CASE WHEN m.inherit_option <> r.rolinherit " +
			"THEN 'INHERIT ' || m.inherit_option END, CASE WHEN NOT m.set_option THEN 'SET false' END)"
	}
	return strings.NewReplacer("MEMBER", d.member(), "TERMS", terms).Replace(rolesQuery)
}

// terms is what follows a GRANT of a role for the terms on which it was held; what is none of ours is left out.
func terms(with string) string {
	var out []string
	for part := range strings.SplitSeq(with, ", ") {
		if slices.Contains([]string{"ADMIN OPTION", "INHERIT true", "INHERIT false", "SET false"}, part) {
			out = append(out, strings.ToUpper(part))
		}
	}
	if len(out) == 0 {
		return ""
	}
	return " WITH " + strings.Join(out, ", ")
}

// member is what makes a membership (m) one.
func (d *driver) member() string {
	if d.number >= sixteen {
		return "(m.inherit_option OR m.set_option OR NOT m.admin_option)"
	}
	return "true"
}

const ownedQuery = `
SELECT r.rolname, coalesce(db.datname, '')
FROM pg_shdepend s JOIN pg_roles r ON r.oid = s.refobjid LEFT JOIN pg_database db ON db.oid = s.dbid
WHERE s.refclassid = 'pg_authid'::regclass AND s.deptype = 'o' AND s.classid <> 'pg_default_acl'::regclass
  AND ($1::text[] IS NULL OR r.rolname = ANY($1::text[]))
GROUP BY 1, 2 ORDER BY 1, 2`

func (d *driver) read(ctx context.Context, accounts []string) ([]*export.Record, error) {
	owned, err := d.owned(ctx, accounts)
	if err != nil {
		return nil, err
	}
	rows, err := d.pool.Query(ctx, d.roles(), accounts)
	if err != nil {
		return nil, err
	}
	var out []*export.Record
	var name, about string
	var login, hasMembers bool
	var limit int
	var until *string
	var member []string
	_, err = pgx.ForEachRow(rows, []any{&name, &login, &limit, &until, &about, &hasMembers, &member}, func() error {
		in, with := parted(member)
		switch d.is(name, about, login, hasMembers, in) {
		case aThing:
			if accounts == nil {
				out = append(out, d.defined(name, in))
			}
			return nil
		case aStranger:
			return nil
		}
		r := &export.Record{Account: name, State: model.StateOf(login).String(), Attributes: map[string]string{}}
		keep := func(attr, v string) {
			if v != "" && d.app.Attr(attr) >= 0 {
				r.Attributes[attr] = v
			}
		}
		keep(comment, about)
		keep(model.Owned, strings.Join(owned[name], "\n"))
		if limit >= 0 {
			keep(connLimit, strconv.Itoa(limit))
		}
		if until != nil {
			keep(validUntil, lastDay(*until, d.zone))
		}
		for _, g := range in {
			if g != of(d.spec).In || d.thing(g) {
				r.Hold(d.kind(g), g)
			}
		}
		for g, on := range with {
			if r.With == nil {
				r.With = map[string]string{}
			}
			r.With[d.kind(g).String()+" "+g] = on
		}
		out = append(out, r)
		return nil
	})
	return out, err
}

// parted are the roles of memberships, each once and sorted, and the terms of those that are not on the usual ones.
func parted(member []string) (in []string, with map[string]string) {
	for _, x := range member {
		g, on, _ := strings.Cut(x, "\n")
		if in = append(in, g); on == "" {
			continue
		}
		if with == nil {
			with = map[string]string{}
		}
		with[g] = max(with[g], on)
	}
	slices.Sort(in)
	return slices.Compact(in), with
}

// What a role is to us.
const (
	anAccount = iota
	aThing    // that accounts hold
	aStranger // neither
)

// is tells what a role is: as the application's file says or, where it says nothing, by whether it can sign in.
func (d *driver) is(name, about string, login, hasMembers bool, in []string) int {
	rule := of(d.spec)
	switch {
	case strings.HasPrefix(name, "pg_"), d.thing(name):
		return aThing
	case !rule.Says() && (login || !hasMembers):
		return anAccount
	case !rule.Says():
		return aThing
	case rule.Fits(name, about, in):
		return anAccount
	case login:
		return aStranger
	}
	return aThing
}

// owned tells in which databases each role owns something.
func (d *driver) owned(ctx context.Context, accounts []string) (map[string][]string, error) {
	out := map[string][]string{}
	if d.app.Attr(model.Owned) < 0 {
		return out, nil
	}
	rows, err := d.pool.Query(ctx, ownedQuery, accounts)
	if err != nil {
		return nil, err
	}
	var name, database string
	_, err = pgx.ForEachRow(rows, []any{&name, &database}, func() error {
		out[name] = append(out[name], ownedIn(database))
		return nil
	})
	return out, err
}

// ownedIn is what a role owns in a database, as one thing to hand over; without a name it is
// a database, or a tablespace, itself.
func ownedIn(database string) string {
	if database == "" {
		return "databases of its own"
	}
	return "what is in database " + database
}

// thing reports whether the catalog lists a role.
func (d *driver) thing(name string) bool {
	return d.app.Thing(model.Group, name) >= 0 || d.app.Thing(model.Role, name) >= 0
}

// kind is as what a group role counts: as the catalog lists it, else as connect says.
func (d *driver) kind(name string) model.Kind {
	switch {
	case d.app.Thing(model.Group, name) >= 0:
		return model.Group
	case d.app.Thing(model.Role, name) >= 0, of(d.spec).Groups == "roles":
		return model.Role
	}
	return model.Group
}

func (d *driver) defined(name string, in []string) *export.Record {
	if d.kind(name) == model.Role {
		return &export.Record{Role: name}
	}
	in = slices.DeleteFunc(slices.Clone(in), func(g string) bool { return d.kind(g) != model.Group })
	return &export.Record{Group: name, In: in}
}

// lastDay is the last day that counts of a time until which a role is valid: a role that is
// valid until midnight is not on the day that begins then.
func lastDay(until string, zone day.Zone) string {
	if until == "infinity" {
		return ""
	}
	for _, form := range []string{"2006-01-02 15:04:05-07", "2006-01-02 15:04:05-07:00", "2006-01-02 15:04:05.999999-07"} {
		if t, err := time.Parse(form, until); err == nil {
			return zone.Day(t.Add(-time.Second)).String()
		}
	}
	return until
}

// untilAfter is the time until which a role is valid whose last day is given.
func untilAfter(last string, zone day.Zone) (string, error) {
	on, err := day.Parse(last)
	if err != nil {
		return "", err
	}
	return zone.End(on).UTC().Format("2006-01-02 15:04:05+00"), nil
}
