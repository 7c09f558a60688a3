package postgres

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"pravet/internal/connect"
	"pravet/internal/connect/live"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/secret"
)

// Requests makes one statement of all who come to a group role, one of all who leave it, and
// one of what is to be changed of a login role.
func (d *driver) Requests(_ context.Context, work []live.Work) ([]*live.Request, error) {
	var out []*live.Request
	members := map[string][]*plan.Change{}
	var order []string
	for _, w := range work {
		for _, c := range w.Changes {
			if c.Thing == nil {
				out = append(out, &live.Request{
					Changes: []*plan.Change{c}, Key: "role " + w.Account,
					Do: func(ctx context.Context, of []*plan.Change) []error { return live.All(of, d.carry(ctx, c)) },
				})
				continue
			}
			verb := "REVOKE"
			if c.Verb == model.Gaining(c.Thing.Kind) {
				verb = "GRANT"
			}
			key := verb + " " + c.Thing.Name
			if verb == "GRANT" {
				key = verb + terms(c.After.Text()) + "\n" + c.Thing.Name
			}
			if members[key] == nil {
				order = append(order, key)
			}
			members[key] = append(members[key], c)
		}
	}
	for _, key := range order {
		role := members[key][0].Thing.Name
		verb, with := "REVOKE", ""
		if strings.HasPrefix(key, "GRANT") {
			verb, with = "GRANT", terms(members[key][0].After.Text())
		}
		out = append(out, &live.Request{
			Changes: members[key], Key: "members of " + role,
			Do: func(ctx context.Context, of []*plan.Change) []error { return d.members(ctx, verb, role, with, of) },
		})
	}
	return out, nil
}

// members is one statement for all who come or go; where the server refuses it, each has one
// of its own, so that one refusal keeps nobody else waiting.
func (d *driver) members(ctx context.Context, verb, role, with string, changes []*plan.Change) []error {
	var names []string
	for _, c := range changes {
		names = append(names, quoted(c.Account))
	}
	to := " TO "
	if verb == "REVOKE" {
		to = " FROM "
	}
	sql := verb + " " + quoted(role) + to + strings.Join(names, ", ") + with
	var err error
	if verb == "REVOKE" && d.number >= sixteen {
		err = d.revoke(ctx, role, changes)
	} else {
		err = d.exec(ctx, sql)
	}
	var fault *connect.Fault
	if !errors.As(err, &fault) || len(changes) == 1 {
		return live.All(changes, err)
	}
	out := make([]error, 0, len(changes))
	for _, c := range changes {
		out = append(out, d.members(ctx, verb, role, with, []*plan.Change{c})...)
	}
	return out
}

// revoke takes accounts out of a role. From release 16 on a membership is there once for each role that has granted
// it, and only the named one is taken away; the statements are one transaction.
func (d *driver) revoke(ctx context.Context, role string, changes []*plan.Change) error {
	var names []string
	for _, c := range changes {
		names = append(names, c.Account)
	}
	rows, err := d.pool.Query(ctx, `
SELECT b.rolname, array_agg(u.rolname::text ORDER BY 1) FROM pg_auth_members m JOIN pg_roles g ON g.oid = m.roleid
JOIN pg_roles u ON u.oid = m.member JOIN pg_roles b ON b.oid = m.grantor
WHERE g.rolname = $1 AND u.rolname = ANY($2::text[]) GROUP BY 1 ORDER BY 1`, role, names)
	if err != nil {
		return judge(err, false)
	}
	var sql []string
	var by string
	var who []string
	_, err = pgx.ForEachRow(rows, []any{&by, &who}, func() error {
		for i := range who {
			who[i] = quoted(who[i])
		}
		sql = append(sql, "REVOKE "+quoted(role)+" FROM "+strings.Join(who, ", ")+" GRANTED BY "+quoted(by))
		return nil
	})
	if err != nil || len(sql) == 0 {
		return judge(err, false)
	}
	return d.together(ctx, sql)
}

// suspend lets nobody sign in as a role any more, and ends its sessions.
func (d *driver) suspend(ctx context.Context, account string) error {
	if !of(d.spec).Says() {
		var members bool
		err := d.pool.QueryRow(ctx, strings.ReplaceAll(`SELECT EXISTS (SELECT FROM pg_auth_members m
			JOIN pg_roles r ON r.oid = m.roleid WHERE r.rolname = $1 AND MEMBER)`, "MEMBER", d.member()), account).Scan(&members)
		if err != nil {
			return judge(err, false)
		}
		if members {
			return wrong(connect.Refused, "%s has members, and without LOGIN it would count as a group role; say under connect which "+
				"roles are accounts (in, named or comment)", account)
		}
	}
	if err := d.exec(ctx, "ALTER ROLE "+quoted(account)+" NOLOGIN"); err != nil {
		return err
	}
	var left int
	_, err := d.pool.Exec(
		ctx, "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE usename = $1 AND pid <> pg_backend_pid()", account,
	)
	var server *pgconn.PgError
	if errors.As(err, &server) && server.Code == "42501" {
		err = d.pool.QueryRow(ctx, "SELECT count(*) FROM pg_stat_activity WHERE usename = $1", account).Scan(&left)
		if err == nil && left > 0 && d.log != nil {
			d.log(fmt.Sprintf("%s can sign in no more, but %s open, which this caller may not end (pg_signal_backend)",
				account, model.Count(left, "session stays", "sessions stay")))
		}
	}
	return judge(err, true)
}

func (d *driver) exec(ctx context.Context, sql string) error {
	_, err := d.pool.Exec(ctx, sql)
	return judge(err, true)
}

func (d *driver) carry(ctx context.Context, c *plan.Change) error {
	role := quoted(c.Account)
	switch c.Verb {
	case model.Create:
		return d.create(ctx, c)
	case model.Suspend:
		return d.suspend(ctx, c.Account)
	case model.Restore:
		return d.exec(ctx, "ALTER ROLE "+role+" LOGIN")
	case model.Update:
		v := c.After.Text()
		if c.Attribute == model.KeySince {
			return d.renew(ctx, c.Account)
		}
		if c.Attribute == d.app.Match {
			return d.exec(ctx, "ALTER ROLE "+role+" RENAME TO "+quoted(v))
		}
		sql, err := d.statement(c.Account, c.Attribute, v)
		if err != nil {
			return err
		}
		return d.exec(ctx, sql)
	case model.HandOver:
		return d.handOver(ctx, c)
	case model.Remove:
		return d.remove(ctx, c.Account)
	}
	return wrong(connect.Refused, "a PostgreSQL server has no way to %s", c.Verb)
}

// statement changes one attribute of a role.
func (d *driver) statement(account, attr, v string) (string, error) {
	role := quoted(account)
	switch attr {
	case comment:
		if v == "" {
			return "COMMENT ON ROLE " + role + " IS NULL", nil
		}
		return "COMMENT ON ROLE " + role + " IS " + literal(v), nil
	case validUntil:
		if v == "" {
			return "ALTER ROLE " + role + " VALID UNTIL 'infinity'", nil
		}
		until, err := untilAfter(v, d.zone)
		if err != nil {
			return "", wrong(connect.Refused, "%s is to be %q, which is no day", attr, v)
		}
		return "ALTER ROLE " + role + " VALID UNTIL " + literal(until), nil
	case connLimit:
		n := -1
		if v != "" {
			var err error
			if n, err = strconv.Atoi(v); err != nil || n < 0 {
				return "", wrong(connect.Refused, "%s is to be %q, which is no number", attr, v)
			}
		}
		return fmt.Sprintf("ALTER ROLE %s CONNECTION LIMIT %d", role, n), nil
	}
	return "", wrong(
		connect.Refused,
		"a role has no %s; it has userName, %s, %s and %s",
		attr,
		comment,
		validUntil,
		connLimit,
	)
}

// literal writes a text as a constant, also where backslashes count.
func literal(s string) string {
	s = strings.ReplaceAll(s, "'", "''")
	if strings.Contains(s, `\`) {
		return " E'" + strings.ReplaceAll(s, `\`, `\\`) + "'"
	}
	return "'" + s + "'"
}

// create makes a login role with all its attributes, or nothing.
func (d *driver) create(ctx context.Context, c *plan.Change) error {
	attrs := c.After.Fields()
	if attrs == nil {
		return fmt.Errorf("change %s creates an account and has no attributes", c.ID)
	}
	login := "LOGIN"
	if c.Blocked {
		login = "NOLOGIN"
	}
	if d.first != nil {
		password, err := d.password(d.first, c.Account)
		if err != nil {
			return err
		}
		login += password
	}
	rule := of(d.spec)
	about := attrs[comment]
	if rule.Says() && !rule.Fits(c.Account, about, []string{rule.In}) {
		return wrong(
			connect.Refused, "the role would not count as an account, by what connect says of accounts (named, comment)",
		)
	}
	sql := []string{"CREATE ROLE " + quoted(c.Account) + " " + login}
	if rule.In != "" {
		sql = append(sql, "GRANT "+quoted(rule.In)+" TO "+quoted(c.Account))
	}
	for _, attr := range slices.Sorted(maps.Keys(attrs)) {
		v := attrs[attr]
		if attr == d.app.Match || v == "" {
			continue
		}
		one, err := d.statement(c.Account, attr, v)
		if err != nil {
			return err
		}
		sql = append(sql, one)
	}
	return d.together(ctx, sql)
}

// password is what follows a role that gets a new password: the server is told a verifier (RFC 5803) alone.
func (d *driver) password(anew func(account string) (string, error), account string) (string, error) {
	password, err := anew(account)
	if err != nil {
		return "", err
	}
	verifier, err := secret.Verifier(password)
	if err != nil {
		return "", err
	}
	d.keep(verifier) // it signs nobody in, and is nobody's business either
	return " PASSWORD " + literal(verifier), nil
}

// renew gives a role a new key.
func (d *driver) renew(ctx context.Context, account string) error {
	if d.key == nil {
		return wrong(connect.Refused, "nothing says who may read a new key")
	}
	password, err := d.password(d.key, account)
	if err != nil {
		return err
	}
	return d.exec(ctx, "ALTER ROLE "+quoted(account)+password)
}

// together sends several statements as one message, which is one transaction (PostgreSQL,
// "Multiple Statements in a Simple Query").
func (d *driver) together(ctx context.Context, sql []string) error {
	conn, err := d.pool.Acquire(ctx)
	if err != nil {
		return judge(err, false)
	}
	defer conn.Release()
	_, err = conn.Conn().PgConn().Exec(ctx, strings.Join(sql, "; ")).ReadAll()
	return judge(err, true)
}

// handOver gives what a role owns to another, in every database that is named.
func (d *driver) handOver(ctx context.Context, c *plan.Change) error {
	if err := d.listed(ctx, c.Account); err != nil {
		return err
	}
	sql := "REASSIGN OWNED BY " + quoted(c.Account) + " TO " + quoted(c.After.Text())
	return d.everywhere(ctx, func(ctx context.Context, conn *pgx.Conn) error {
		_, err := conn.Exec(ctx, sql)
		return err
	})
}

// listed makes sure that a role owns nothing in a database that connect does not name.
func (d *driver) listed(ctx context.Context, account string) error {
	rows, err := d.pool.Query(ctx, ownedQuery, []string{account})
	if err != nil {
		return judge(err, false)
	}
	var name, database string
	missing := ""
	_, err = pgx.ForEachRow(rows, []any{&name, &database}, func() error {
		if database != "" && !slices.Contains(d.databases(), database) {
			missing = database
		}
		return nil
	})
	if err == nil && missing != "" {
		return wrong(
			connect.Refused,
			"the role owns something in the database %q; add it to databases under connect",
			missing,
		)
	}
	return judge(err, false)
}

// databases are those whose objects are handed over: those that are named, else the one that
// is connected to.
func (d *driver) databases() []string {
	if len(of(d.spec).Databases) > 0 {
		return of(d.spec).Databases
	}
	return []string{d.config.ConnConfig.Database}
}

func (d *driver) everywhere(ctx context.Context, f func(context.Context, *pgx.Conn) error) error {
	for _, database := range d.databases() {
		if err := d.in(ctx, database, func(conn *pgx.Conn) error { return f(ctx, conn) }); err != nil {
			return judge(err, true)
		}
	}
	return nil
}

// remove removes a role that owns nothing. What it may do in databases is taken away first:
// DROP OWNED would drop what it owns as well, so it is looked up in the same transaction
// whether that is nothing.
func (d *driver) remove(ctx context.Context, account string) error {
	nothing := func(ctx context.Context, tx pgx.Tx) error {
		var owns bool
		err := tx.QueryRow(ctx, `SELECT EXISTS (SELECT FROM pg_shdepend s JOIN pg_roles r ON r.oid = s.refobjid
			WHERE s.refclassid = 'pg_authid'::regclass AND s.deptype = 'o' AND r.rolname = $1
			AND s.classid <> 'pg_default_acl'::regclass)`, account).Scan(&owns)
		if err == nil && owns {
			err = wrong(connect.Refused, "the role still owns something; hand it over first")
		}
		return err
	}
	var hangs bool // privileges, default privileges and policies, which DROP ROLE does not take with it
	err := d.pool.QueryRow(ctx, `SELECT EXISTS (SELECT FROM pg_shdepend s JOIN pg_roles r ON r.oid = s.refobjid
		WHERE s.refclassid = 'pg_authid'::regclass AND r.rolname = $1)`, account).Scan(&hangs)
	if err != nil {
		return judge(err, false)
	}
	if !hangs {
		return d.exec(ctx, "DROP ROLE IF EXISTS "+quoted(account))
	}
	err = d.everywhere(ctx, func(ctx context.Context, conn *pgx.Conn) error {
		return pgx.BeginTxFunc(ctx, conn, pgx.TxOptions{IsoLevel: pgx.Serializable}, func(tx pgx.Tx) error {
			if err := nothing(ctx, tx); err != nil {
				return err
			}
			_, err := tx.Exec(ctx, "DROP OWNED BY "+quoted(account))
			return err
		})
	})
	if err != nil {
		return err
	}
	return d.exec(ctx, "DROP ROLE IF EXISTS "+quoted(account))
}
