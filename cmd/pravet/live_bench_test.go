//go:build unix

package main_test

import (
	"bytes"
	"context"
	"fmt"
	"net"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"pravet/internal/standin"
)

// many is how many changes the benchmarks of live applications carry out.
const many = 5000

// manyRepo is a repository with so many people, whose application is reached as connect says;
// more ends its file, and kits says what people get.
func manyRepo(b *testing.B, people int, connect, more, kits string) string {
	b.Helper()
	dir := b.TempDir()
	var rows strings.Builder
	rows.WriteString("id,userName,displayName\n")
	for i := range people {
		fmt.Fprintf(&rows, "%d,p%05d,Person %d\n", i, i, i)
	}
	for name, text := range map[string]string{
		"pravet.yaml": "organization: Marrowick Ferries\nguards: {exportAge: P10Y, suspensions: 100%, narrowing: 100%, " +
			"exportShrink: 100%}\n",
		"people/all.csv": rows.String(), "kits/all.yaml": "kits:\n  all: {everyone: true, gives: {yard: " + kits + "}}\n",
		"apps/yard.yaml": "app: yard\nconnect:\n" + connect + "match: userName\n" + more + "protect: [keeper]\n",
	} {
		require.NoError(b, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(b, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	return dir
}

// pravet runs the built program in a repository and returns how long that took and how much
// memory it had, in bytes.
func pravet(b *testing.B, repo string, env []string, args ...string) (out string, took time.Duration, memory int64) {
	b.Helper()
	cmd := exec.Command(released, args...)
	cmd.Dir, cmd.Env = repo, append(append(os.Environ(), "HOME="+repo), env...)
	var said bytes.Buffer
	cmd.Stdout, cmd.Stderr = &said, &said
	began := time.Now()
	require.NoError(b, cmd.Run(), said.String())
	if usage, ok := cmd.ProcessState.SysUsage().(*syscall.Rusage); ok {
		memory = usage.Maxrss << 10
	}
	return said.String(), time.Since(began), memory
}

// planned fetches and drafts, and returns the plan.
func planned(b *testing.B, repo string, env []string) string {
	b.Helper()
	out, _, _ := pravet(b, repo, env, "draft", "--fetch")
	var id string
	_, err := fmt.Sscanf(out[strings.Index(out, "Plan "):], "Plan %s", &id)
	require.NoError(b, err)
	require.Contains(b, out, "5,000 changes: ")
	return id
}

// BenchmarkDirectory changes an attribute of 5,000 entries of a directory, with the ledger on,
// and has OpenLDAP's ldapmodify do the same to another directory.
func BenchmarkDirectory(b *testing.B) {
	var seed strings.Builder
	seed.WriteString(
		"dn: dc=marrowick,dc=example\nobjectClass: organization\nobjectClass: dcObject\no: Marrowick Ferries\n" +
			"dc: marrowick\n\ndn: ou=people,dc=marrowick,dc=example\nobjectClass: organizationalUnit\nou: people\n\n" +
			"dn: ou=roles,dc=marrowick,dc=example\nobjectClass: organizationalUnit\nou: roles\n",
	)
	var changes, members strings.Builder
	for i := range many {
		dn := fmt.Sprintf("uid=p%05d,ou=people,dc=marrowick,dc=example", i)
		fmt.Fprintf(
			&seed,
			"\ndn: %s\nobjectClass: inetOrgPerson\nuid: p%05d\ncn: x\nsn: x\ndisplayName: Old name\n",
			dn,
			i,
		)
		fmt.Fprintf(&members, "member: %s\n", dn)
		fmt.Fprintf(&changes, "dn: %s\nchangetype: modify\nreplace: displayName\ndisplayName: Person %d\n\n", dn, i)
	}
	seed.WriteString(
		"\ndn: cn=crew,ou=roles,dc=marrowick,dc=example\nobjectClass: groupOfNames\ncn: crew\n" + members.String(),
	)
	for b.Loop() {
		start := func() *standin.Directory {
			s, err := standin.StartDirectory(
				context.Background(),
				b.TempDir(),
				"dc=marrowick,dc=example",
				seed.String(),
			)
			require.NoError(b, err)
			return s
		}
		s := start()
		ca, err := os.ReadFile(s.CA)
		require.NoError(b, err)
		_, port, err := net.SplitHostPort(strings.TrimPrefix(s.URL, "ldap://"))
		require.NoError(b, err)
		repo := manyRepo(b, many, "  by: ldap\n  url: ldap://127.0.0.1:"+port+"\n  user: "+s.User+
			"\n  password: env:YARD_PASSWORD\n  ca: ca.pem\n  people: ou=people,dc=marrowick,dc=example\n  page: 1000\n"+
			"  roles: ou=roles,dc=marrowick,dc=example\n  block: {attribute: employeeType, blocked: gone}\n"+
			"  batch: 5000\n  parallel: 3\n",
			"account: {userName: userName, displayName: displayName}\nroles: {crew: {}}\n", "{roles: [crew]}")
		require.NoError(b, os.WriteFile(filepath.Join(repo, "ca.pem"), ca, 0o644))
		env := []string{"YARD_PASSWORD=" + s.Password}
		id := planned(b, repo, env)
		_, ours, _ := pravet(b, repo, env, "apply", id, "--yes")
		require.NoError(b, s.Stop())

		s = start()
		file, secret := filepath.Join(b.TempDir(), "changes.ldif"), filepath.Join(b.TempDir(), "secret")
		require.NoError(b, os.WriteFile(file, []byte(changes.String()), 0o600))
		require.NoError(b, os.WriteFile(secret, []byte(s.Password), 0o600))
		cmd := exec.Command("ldapmodify", "-ZZ", "-H", s.URL, "-D", s.User, "-y", secret, "-f", file)
		cmd.Env = append(os.Environ(), "LDAPTLS_CACERT="+s.CA)
		began := time.Now()
		out, err := cmd.CombinedOutput()
		theirs := time.Since(began)
		require.NoError(b, err, string(out))
		require.NoError(b, s.Stop())
		b.ReportMetric(ours.Seconds(), "apply-s")
		b.ReportMetric(theirs.Seconds(), "ldapmodify-s")
		b.ReportMetric(ours.Seconds()/theirs.Seconds(), "times")
	}
}

// benchDirectory is a directory of people with a group.
func benchDirectory(b *testing.B, people int) (s *standin.Directory, connect string, env []string) {
	b.Helper()
	var seed strings.Builder
	seed.WriteString(
		"dn: " + ferries + "\nobjectClass: organization\nobjectClass: dcObject\no: Marrowick Ferries\ndc: marrowick\n",
	)
	for _, ou := range []string{"people", "groups"} {
		fmt.Fprintf(&seed, "\ndn: ou=%s,%s\nobjectClass: organizationalUnit\nou: %s\n", ou, ferries, ou)
	}
	for i := range people {
		fmt.Fprintf(&seed, "\ndn: uid=p%05d,ou=people,%s\nobjectClass: inetOrgPerson\nuid: p%05d\ncn: x\nsn: x\ndisplayName: Person %d\n",
			i, ferries, i, i)
	}
	fmt.Fprintf(
		&seed, "\ndn: cn=crew,ou=groups,%s\nobjectClass: groupOfNames\ncn: crew\nmember: cn=admin,%s\n", ferries, ferries,
	)
	s, err := standin.StartDirectory(context.Background(), b.TempDir(), ferries, seed.String())
	require.NoError(b, err)
	_, port, err := net.SplitHostPort(strings.TrimPrefix(s.URL, "ldap://"))
	require.NoError(b, err)
	return s, "  by: ldap\n  url: ldap://127.0.0.1:" + port + "\n  user: " + s.User + "\n  password: env:YARD_PASSWORD\n  ca: ca.pem\n" +
		"  people: ou=people," + ferries + "\n  groups: ou=groups," + ferries + "\n  page: 1000\n" +
		"  block: {attribute: employeeType, blocked: gone}\n  batch: 5000\n", []string{"YARD_PASSWORD=" + s.Password}
}

// BenchmarkMemberships puts 5,000 people into a group of a directory, with the ledger on, and has OpenLDAP's
// ldapmodify do the same to another, one record a membership.
func BenchmarkMemberships(b *testing.B) {
	for b.Loop() {
		s, connect, env := benchDirectory(b, many)
		repo := manyRepo(b, many, connect, "account: {userName: userName, displayName: displayName}\ngroups: {crew: {}}\n",
			"{groups: [crew]}")
		trust(b, repo, s)
		id := planned(b, repo, env)
		_, ours, _ := pravet(b, repo, env, "apply", id, "--yes")
		require.NoError(b, s.Stop())
		s, _, _ = benchDirectory(b, many)
		var changes strings.Builder
		for i := range many {
			fmt.Fprintf(&changes, "dn: cn=crew,ou=groups,%s\nchangetype: modify\nadd: member\nmember: uid=p%05d,ou=people,%s\n\n", ferries, i, ferries)
		}
		file := filepath.Join(b.TempDir(), "changes.ldif")
		require.NoError(b, os.WriteFile(file, []byte(changes.String()), 0o600))
		theirs := timed(b, s, "ldapmodify", "-ZZ", "-H", s.URL, "-D", s.User, "-w", s.Password, "-f", file)
		require.NoError(b, s.Stop())
		b.ReportMetric(ours.Seconds(), "apply-s")
		b.ReportMetric(theirs.Seconds(), "ldapmodify-s")
		b.ReportMetric(ours.Seconds()/theirs.Seconds(), "times")
	}
}

// BenchmarkFetchDirectory fetches 20,000 entries of a directory, and has ldapsearch read them.
func BenchmarkFetchDirectory(b *testing.B) {
	s, connect, env := benchDirectory(b, 4*many)
	repo := manyRepo(
		b, 1, connect, "account: {userName: userName, displayName: displayName}\ngroups: {crew: {}}\n", "{groups: [crew]}",
	)
	trust(b, repo, s)
	for b.Loop() {
		_, ours, memory := pravet(b, repo, env, "fetch")
		theirs := timed(b, s, "ldapsearch", "-x", "-LLL", "-ZZ", "-E", "pr=1000/noprompt", "-H", s.URL, "-D", s.User, "-w", s.Password,
			"-b", ferries, "(objectClass=*)")
		b.ReportMetric(ours.Seconds(), "fetch-s")
		b.ReportMetric(theirs.Seconds(), "ldapsearch-s")
		b.ReportMetric(ours.Seconds()/theirs.Seconds(), "times")
		b.ReportMetric(float64(memory)/1e6, "MB")
	}
	require.NoError(b, s.Stop())
}

func trust(b *testing.B, repo string, s *standin.Directory) {
	b.Helper()
	ca, err := os.ReadFile(s.CA)
	require.NoError(b, err)
	require.NoError(b, os.WriteFile(filepath.Join(repo, "ca.pem"), ca, 0o644))
}

// timed runs another program against a directory and returns how long it took.
func timed(b *testing.B, s *standin.Directory, name string, args ...string) time.Duration {
	b.Helper()
	cmd := exec.Command(name, args...)
	cmd.Env = append(os.Environ(), "LDAPTLS_CACERT="+s.CA)
	began := time.Now()
	out, err := cmd.CombinedOutput()
	require.NoError(b, err, "%.500s", out)
	return time.Since(began)
}

// BenchmarkDatabase grants a role to 5,000 others of a PostgreSQL server, with the ledger on,
// and has psql send the same grants.
func BenchmarkDatabase(b *testing.B) {
	s := aDatabase(b)
	var roles, grants strings.Builder
	for i := range many {
		fmt.Fprintf(&roles, "CREATE ROLE p%05d LOGIN; COMMENT ON ROLE p%05d IS 'Person %d';", i, i, i)
		fmt.Fprintf(&grants, "GRANT crew TO p%05d;\n", i)
	}
	run := func(sql string) { require.NoError(b, s.Run(context.Background(), sql)) }
	run("CREATE ROLE crew;" + roles.String())
	for b.Loop() {
		run("DROP ROLE crew; CREATE ROLE crew;")
		repo := manyRepo(
			b,
			many,
			"  by: postgres\n  url: "+s.URL+"\n  user: keeper\n  password: env:YARD_PASSWORD\n  batch: 5000\n",
			"account: {userName: userName, displayName: displayName}\ngroups: {crew: {}}\n",
			"{groups: [crew]}",
		)
		env := []string{"YARD_PASSWORD=" + s.Password}
		id := planned(b, repo, env)
		_, ours, _ := pravet(b, repo, env, "apply", id, "--yes")
		run("DROP ROLE crew; CREATE ROLE crew;")
		file := filepath.Join(b.TempDir(), "grants.sql")
		require.NoError(b, os.WriteFile(file, []byte(grants.String()), 0o600))
		cmd := exec.Command("psql", "-q", "-U", s.User, "-f", file, s.URL)
		cmd.Env = append(os.Environ(), "PGPASSWORD="+s.Password)
		began := time.Now()
		out, err := cmd.CombinedOutput()
		theirs := time.Since(began)
		require.NoError(b, err, string(out))
		b.ReportMetric(ours.Seconds(), "apply-s")
		b.ReportMetric(theirs.Seconds(), "psql-s")
		b.ReportMetric(ours.Seconds()/theirs.Seconds(), "times")
	}
}

// BenchmarkSCIM updates 5,000 users of an application that takes 50 ms for a request and a
// hundred of them a second; by PATCH, and by Bulk.
func BenchmarkSCIM(b *testing.B) {
	for _, bulk := range []bool{false, true} {
		b.Run(fmt.Sprintf("bulk=%t", bulk), func(b *testing.B) {
			for b.Loop() {
				s, err := standin.New(standin.Options{Token: "open sesame"})
				require.NoError(b, err)
				for i := range many {
					s.AddUser(
						map[string]any{
							"userName":    fmt.Sprintf("p%05d", i),
							"displayName": "Old name",
							"active":      true,
							"roles":       []any{map[string]any{"value": "crew"}},
						},
					)
				}
				web := httptest.NewServer(s)
				repo := manyRepo(
					b,
					many,
					"  by: scim\n  url: "+web.URL+"\n  token: env:YARD_TOKEN\n  rate: 100\n  parallel: 16\n  batch: 5000\n",
					"account: {userName: userName, displayName: displayName}\nroles: {crew: {}}\n",
					"{roles: [crew]}",
				)
				env := []string{"YARD_TOKEN=open sesame"}
				id := planned(b, repo, env)
				before := s.Requests()
				s.SetFaults(standin.Faults{Delay: 50 * time.Millisecond, Limit: 100, NoBulk: !bulk})
				_, took, _ := pravet(b, repo, env, "apply", id, "--yes")
				n := s.Requests() - before
				web.Close()
				b.ReportMetric(float64(n), "requests")
				b.ReportMetric(float64(n)/took.Seconds(), "requests/s")
				b.ReportMetric(took.Seconds(), "apply-s")
			}
		})
	}
}

// BenchmarkFetch fetches a million users by SCIM.
func BenchmarkFetch(b *testing.B) {
	for _, users := range []int{50_000, 100_000, 1_000_000} {
		b.Run(fmt.Sprint(users), func(b *testing.B) { fetches(b, users) })
	}
}

func fetches(b *testing.B, users int) {
	b.Helper()
	s, err := standin.New(standin.Options{Token: "open sesame"})
	require.NoError(b, err)
	for i := range users {
		s.AddUser(
			map[string]any{
				"userName":    fmt.Sprintf("p%07d", i),
				"displayName": fmt.Sprintf("Person %d", i),
				"active":      true,
			},
		)
	}
	s.SetFaults(standin.Faults{NoGroupsOfUsers: true, Page: 1000})
	web := httptest.NewServer(s)
	defer web.Close()
	for b.Loop() {
		repo := manyRepo(b, 1, "  by: scim\n  url: "+web.URL+"\n  token: env:YARD_TOKEN\n  page: 1000\n",
			"account: {userName: userName, displayName: displayName}\nroles: {crew: {}}\n", "{roles: [crew]}")
		out, took, memory := pravet(b, repo, []string{"YARD_TOKEN=open sesame"}, "fetch")
		require.Contains(b, out, fmt.Sprint(users))
		b.ReportMetric(took.Seconds(), "fetch-s")
		b.ReportMetric(float64(memory)/(1<<20), "MiB")
	}
}
