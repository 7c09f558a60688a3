//go:build unix

package main_test

import (
	"context"
	"encoding/base64"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"reflect"
	"slices"
	"sort"
	"strings"
	"testing"

	"github.com/go-ldap/ldap/v3"
	"github.com/go-ldap/ldif"
	"github.com/stretchr/testify/require"

	"pravet/internal/standin"
)

const ferries = "dc=marrowick,dc=example"

// A directory is how somebody else may have set one up. The zero directory is the plainest.
type directory struct {
	Seed      uint64
	ByCN      bool      // entries are named by cn
	Classes   [3]string // of crew, deck and lead: "", "groupOfUniqueNames", "posixGroup", "both"
	Overlays  string    // "", "memberof", "refint", "unique", "all"
	Mails     bool      // people have several addresses, ours not first
	Limits    bool      // few entries in one answer
	Away      bool      // who is blocked is moved
	Equal     bool      // groups of one name in two branches
	Odd       bool      // the branch of people has a name that means something elsewhere
	Secure    bool      // LDAPS, and not StartTLS
	Nested    bool      // groups are in groups
	Unwritten bool      // nobody but the administrator may write mail
	Bare      string    // groups have no member but people: "", "keep": and an entry is named that may stay, "none"
	Hidden    bool      // the caller does not see who is in deck
	Strange   bool      // an entry among the groups whose class says nothing of members
}

func drawDirectory(seed uint64) directory {
	r := rand.New(rand.NewPCG(seed, 11))
	yes := func(share float64) bool { return r.Float64() < share }
	one := func(of ...string) string { return of[r.IntN(len(of))] }
	class := func() string { return one("", "", "groupOfUniqueNames", "posixGroup") }
	return directory{
		seed, yes(0.3), [3]string{class(), class(), class()}, one("", "", "memberof", "refint", "unique", "all"), yes(0.5),
		yes(0.3), yes(0.3), yes(0.3), yes(0.3), yes(0.5), yes(0.3), yes(0.1), one("", "", "keep", "none"),
		yes(0.15), yes(0.2),
	}
}

func (d directory) simpler() (out []directory) {
	for i := range reflect.TypeOf(d).NumField() {
		x := d
		f := reflect.ValueOf(&x).Elem().Field(i)
		if i == 0 || f.IsZero() {
			continue
		}
		if f.Kind() != reflect.Array {
			f.SetZero()
			out = append(out, x)
			continue
		}
		for k := range f.Len() {
			if x := d; x.Classes[k] != "" {
				x.Classes[k] = ""
				out = append(out, x)
			}
		}
	}
	return out
}

// TestAnyDirectoryEndsRight: whatever a directory is like, a run ends with what the files say and nothing else
// changed, or says what is left. PEERS="0 300" tries more of them.
func TestAnyDirectoryEndsRight(t *testing.T) {
	from, to := seeds(t, 12)
	for seed := from; seed < to; seed++ {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			w, d := drawWorld(uint64(seed)), drawDirectory(uint64(seed))
			d, wrong, said := smallest(d, directory.simpler, func(d directory) (wrong, said string) {
				p, stop := ldapPeer(t, w, d)
				defer stop()
				return goesWrong(t, w, p, d.plain())
			})
			if wrong == "" {
				return
			}
			t.Fatalf("seed %d, in its smallest form %+v\n%s\n%s", seed, d, wrong, said)
		})
	}
}

// plain reports whether everything can be done.
func (d directory) plain() bool { return !d.Unwritten && d.Bare != "none" && !d.Hidden }

func (d directory) people() string {
	if d.Odd {
		return `ou=Crew\, \"A\"\+B \#1,` + ferries
	}
	return "ou=people," + ferries
}

// dn is where the entry of an account is.
func (d directory) dn(m member, branch string) string {
	if d.ByCN {
		return "cn=" + ldap.EscapeDN(m.name) + "," + branch
	}
	return "uid=" + ldap.EscapeDN(m.name) + "," + branch
}

func ldapPeer(t *testing.T, w *world, d directory) (*peer, func()) {
	t.Helper()
	p, _, stop := ldapPeerOf(t, w, d)
	return p, stop
}

func ldapPeerOf(t *testing.T, w *world, d directory) (*peer, *standin.Directory, func()) {
	t.Helper()
	var b strings.Builder
	entry := func(dn string, lines ...string) {
		b.WriteString("\n" + line("dn", dn))
		for _, l := range lines {
			name, value, _ := strings.Cut(l, ": ")
			b.WriteString(line(name, value))
		}
	}
	entry(ferries, "objectClass: organization", "objectClass: dcObject", "o: Marrowick Ferries", "dc: marrowick")
	people := d.people()
	for _, branch := range []string{people, "ou=ashore," + ferries, "ou=groups," + ferries, "ou=roles," + ferries} {
		parsed, err := ldap.ParseDN(branch)
		require.NoError(t, err)
		entry(branch, "objectClass: organizationalUnit", "ou: "+parsed.RDNs[0].Attributes[0].Value)
	}
	entry("cn=pravet,"+ferries, "objectClass: person", "cn: pravet", "sn: pravet", "userPassword: open sesame")
	members := map[string][]member{}
	for i, m := range w.people {
		if !m.is.There {
			continue
		}
		branch := people
		if d.Away && !m.is.Open {
			branch = "ou=ashore," + ferries
		}
		lines := []string{
			"objectClass: inetOrgPerson", "uid: " + m.name, "cn: " + m.name, "sn: x", "displayName: " + m.is.Shown,
			fmt.Sprintf("description: number %d", i), "mail: " + m.is.Email,
		}
		if d.Mails {
			for _, e := range m.email {
				lines = append(lines, "mail: "+e)
			}
		}
		if !d.Away && !m.is.Open {
			lines = append(lines, "pwdAccountLockedTime: 000001010000Z")
		}
		entry(d.dn(m, branch), lines...)
		for name, in := range map[string]bool{"crew": m.is.Crew, "deck": m.is.Deck, "lead": m.is.Lead, "spare": i%3 == 0} {
			if in {
				members[name] = append(members[name], m)
			}
		}
	}
	group := func(name, dn, class string, more ...string) {
		lines := []string{"objectClass: " + class, "cn: " + name}
		attr := map[string]string{"groupOfNames": "member", "groupOfUniqueNames": "uniqueMember", "posixGroup": "memberUid"}[class]
		if class == "posixGroup" {
			lines = append(lines, "gidNumber: 100")
		} else {
			if d.Bare == "" || len(members[name])+len(more) == 0 {
				lines = append(lines, attr+": cn=admin,"+ferries)
			}
		}
		for _, m := range members[name] {
			branch := people
			if d.Away && !m.is.Open {
				branch = "ou=ashore," + ferries
			}
			if class == "posixGroup" {
				lines = append(lines, attr+": "+m.name)
			} else {
				lines = append(lines, attr+": "+d.dn(m, branch))
			}
		}
		for _, dn := range more {
			lines = append(lines, attr+": "+dn)
		}
		entry(dn, lines...)
	}
	class := func(i int) string {
		if d.Classes[i] == "" {
			return "groupOfNames"
		}
		return d.Classes[i]
	}
	group("crew", "cn=crew,ou=groups,"+ferries, class(0))
	group("deck", "cn=deck,ou=groups,"+ferries, class(1))
	group("lead", "cn=lead,ou=roles,"+ferries, class(2))
	if d.Nested {
		group("everybody", "cn=everybody,ou=groups,"+ferries, "groupOfNames", "cn=crew,ou=groups,"+ferries)
	}
	group("spare", "cn=spare,ou=groups,"+ferries, "groupOfNames")
	if d.Equal {
		entry("ou=north,ou=groups,"+ferries, "objectClass: organizationalUnit", "ou: north")
		group("spare", "cn=spare,ou=north,ou=groups,"+ferries, "groupOfNames")
	}
	if d.Strange {
		entry("cn=printer,ou=groups,"+ferries, "objectClass: device", "cn: printer")
	}
	setup := standin.Setup{
		Server: "include /etc/ldap/schema/nis.schema\nmoduleload memberof\nmoduleload refint\nmoduleload unique\n",
	}
	for _, o := range []struct{ name, lines string }{
		{"memberof", "overlay memberof\n"},
		{"refint", "overlay refint\nrefint_attributes member uniqueMember\nrefint_nothing cn=admin," + ferries + "\n"},
		{"unique", "overlay unique\nunique_uri ldap:///?uid?sub\n"},
	} {
		if d.Overlays == o.name || d.Overlays == "all" {
			setup.Database += o.lines
		}
	}
	caller := `dn.exact="cn=pravet,` + ferries + `"`
	if d.Unwritten {
		setup.Database += "access to attrs=mail by " + caller + " read by * none\n"
	}
	setup.Database += "access to attrs=userPassword by " + caller + " write by anonymous auth by * none\n" +
		"access to * by " + caller + " manage by * none\n"
	if d.Hidden {
		setup.Database = "access to dn.exact=\"cn=deck,ou=groups," + ferries + "\" attrs=member,uniqueMember,memberUid by " + caller +
			" =w by * none\n" + setup.Database
	}
	if d.Limits {
		setup.Database += "limits " + caller + " size.soft=5 size.hard=unlimited size.pr=5\n"
	}
	s, err := standin.StartDirectory(
		context.Background(), t.TempDir(), ferries, strings.TrimPrefix(b.String(), "\n"), setup,
	)
	require.NoError(t, err)
	address, scheme := strings.TrimPrefix(s.URL, "ldap://"), "ldap://"
	if d.Secure {
		address, scheme = strings.TrimPrefix(s.Secure, "ldaps://"), "ldaps://"
	}
	_, port, err := net.SplitHostPort(address)
	require.NoError(t, err)
	connect := "  by: ldap\n  url: " + scheme + "127.0.0.1:" + port + "\n  user: cn=pravet," + ferries + "\n  password: env:YARD_PASSWORD\n" +
		"  ca: ca.pem\n  people: '" + people + "'\n  groups: ou=groups," + ferries + "\n  roles: ou=roles," + ferries +
		"\n  page: 5\n  settle: 1s\n  timeout: 10s\n"
	if d.Away {
		connect += "  away: ou=ashore," + ferries + "\n"
	} else {
		connect += "  block: {attribute: pwdAccountLockedTime, blocked: 000001010000Z}\n"
	}
	if d.Bare == "keep" {
		connect += "  keep: cn=admin," + ferries + "\n"
	}
	if d.ByCN {
		connect += "  name: cn\n  columns: {userName: uid}\n"
	}
	p := &peer{
		server: &yardServer{connect: connect, env: []string{"YARD_PASSWORD=open sesame", "CA=" + s.CA}}, plain: d.plain(),
		read: func() (map[string]holding, []string) { return ldapTruth(t, w, d, s) },
	}
	return p, s, func() { require.NoError(t, s.Stop()) }
}

func line(name, value string) string {
	if strings.ContainsAny(value, "#\"") || strings.ContainsFunc(value, func(r rune) bool { return r > 126 }) {
		return name + ":: " + base64.StdEncoding.EncodeToString([]byte(value)) + "\n"
	}
	return name + ": " + value + "\n"
}

// ldapTruth reads a directory with ldapsearch, as its administrator.
func ldapTruth(t *testing.T, w *world, d directory, s *standin.Directory) (map[string]holding, []string) {
	cmd := exec.Command("ldapsearch", "-x", "-LLL", "-o", "ldif-wrap=no", "-H", s.Secure, "-D", s.User, "-w", s.Password, "-b",
		ferries, "(objectClass=*)", "*", "pwdAccountLockedTime")
	cmd.Env = append(os.Environ(), "LDAPTLS_CACERT="+s.CA)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	parsed, err := ldif.Parse(string(out))
	require.NoError(t, err)
	folded := func(dn string) string {
		x, err := ldap.ParseDN(dn)
		require.NoError(t, err, dn)
		return strings.ToLower(x.String())
	}
	of := map[string]*member{}
	for i := range w.people {
		of[w.people[i].name] = &w.people[i]
	}
	accounts, names, uids := map[string]holding{}, map[string]string{}, map[string]string{}
	var rest []string
	tell := func(e *ldap.Entry, leave ...string) {
		var text []string
		for _, a := range e.Attributes {
			if slices.ContainsFunc(leave, func(l string) bool { return strings.EqualFold(l, a.Name) }) {
				continue
			}
			values := slices.Clone(a.Values)
			for i, v := range values {
				if x, err := ldap.ParseDN(v); err == nil && strings.Contains(v, "=") {
					if name := names[strings.ToLower(x.String())]; name != "" {
						values[i] = "the account " + name // wherever it is now
					}
				}
			}
			sort.Strings(values)
			text = append(text, a.Name+"="+strings.Join(values, "|"))
		}
		sort.Strings(text)
		rest = append(rest, strings.Join(text, " "))
	}
	for _, x := range parsed.Entries {
		uid := x.Entry.GetAttributeValue("uid")
		if uid == "" {
			continue
		}
		_, twice := accounts[uid]
		require.False(t, twice, "two entries of one name: %s", uid)
		names[folded(x.Entry.DN)], uids[strings.ToLower(uid)] = uid, uid
		h := holding{There: true, Open: true, Shown: x.Entry.GetAttributeValue("displayName")}
		if m := of[uid]; m != nil {
			var more []string
			for _, v := range x.Entry.GetAttributeValues("mail") {
				if h.Email == "" && (v == m.is.Email || v == m.due.Email) {
					h.Email = v
				} else {
					more = append(more, v)
				}
			}
			sort.Strings(more)
			if m.is.There {
				rest = append(rest, fmt.Sprintf("account %s: %s, mail %v", uid, x.Entry.GetAttributeValue("description"), more))
			} else if len(more) > 0 {
				rest = append(rest, fmt.Sprintf("account %s: mail %v", uid, more))
			}
		}
		if d.Away {
			h.Open = !strings.HasSuffix(folded(x.Entry.DN), "ou=ashore,"+ferries)
		} else {
			h.Open = x.Entry.GetAttributeValue("pwdAccountLockedTime") == ""
		}
		accounts[uid] = h
	}
	for _, x := range parsed.Entries {
		e, cn := x.Entry, x.Entry.GetAttributeValue("cn")
		switch {
		case e.GetAttributeValue("uid") != "":
		case cn == "crew" || cn == "deck" || cn == "lead":
			seen := map[string]bool{}
			in := func(name string) {
				h := accounts[name]
				require.True(t, h.There, "%s lists %q, which is nobody", cn, name)
				require.False(t, seen[name], "%s lists %q twice", cn, name)
				seen[name] = true
				h.Crew, h.Deck, h.Lead = h.Crew || cn == "crew", h.Deck || cn == "deck", h.Lead || cn == "lead"
				accounts[name] = h
			}
			for _, attr := range []string{"member", "uniqueMember"} {
				for _, v := range e.GetAttributeValues(attr) {
					if v != "cn=admin,"+ferries {
						in(names[folded(v)])
					}
				}
			}
			for _, v := range e.GetAttributeValues("memberUid") {
				in(uids[strings.ToLower(v)])
			}
			tell(e, "member", "uniqueMember", "memberUid")
		default:
			tell(e, "pwdAccountLockedTime")
		}
	}
	sort.Strings(rest)
	return accounts, rest
}
