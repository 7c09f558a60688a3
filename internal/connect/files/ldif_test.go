package files_test

import (
	"encoding/base64"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/export"
)

// entries is an application whose export is of LDIF.
func entries() (*model.App, *export.Spec) {
	app, _ := tickets(',', ";")
	return app, &export.Spec{
		Format:    "ldif",
		Paths:     []model.Name{{Text: "t.ldif"}},
		Columns:   []export.Column{{Attr: "displayName", Name: "displayName"}},
		Delimiter: ',',
		Directory: &export.Directory{
			People: "ou=people,dc=x",
			Roles:  "ou=roles,dc=x",
			Away:   "ou=away,dc=x",
			RDN:    "uid",
			Member: "member",
			Class:  []string{"account"},
			Block:  export.Block{Attribute: "state", Blocked: "out", Open: "in"},
		},
	}
}

func TestLDIFKeepsEveryByteItDoesNotOwn(t *testing.T) {
	const lists = "version: 1\n\ndn: cn=seller,ou=roles,dc=x\ncn: seller\nmember: uid=a,ou=people,dc=x\n" +
		"# who else\nmember: UID=b, ou=people,\n  dc=x\n\ndn: cn=lead,ou=roles,dc=x\ncn: lead\n\n"
	const a = "# the first\ndn: uid=a,ou=people,dc=x\nobjectClass: account\nuid: a\nshoe: 38\nDISPLAYNAME: A\nstate: in\n"
	const b = "\n# the second\ndn:: dWlkPWIsb3U9cGVvcGxlLGRjPXg=\nobjectclass: account\nuid: b\n"
	for _, c := range []struct {
		name, before, after string
		changes             []*plan.Change
	}{
		{"nothing to do", lists + a + b, lists + a + b, []*plan.Change{role(model.Grant, "b", "seller")}},
		{
			"an attribute where it stood", lists + a + b,
			lists + strings.Replace(a, "DISPLAYNAME: A", "displayName:: w5g=", 1) + b,
			[]*plan.Change{update("a", "displayName", "Ø")},
		},
		{
			"one taken away, one new", lists + a + b,
			lists + strings.Replace(a, "DISPLAYNAME: A\nstate: in", "state: out", 1) + b + "displayName: B\n",
			[]*plan.Change{update("a", "displayName", ""), change(model.Suspend, "a"), update("b", "displayName", "B")},
		},
		{
			"out of one list, into another", lists + a + b,
			strings.Replace(
				strings.Replace(lists, "member: UID=b, ou=people,\n  dc=x\n", "", 1), "cn: lead\n",
				"cn: lead\nmember: uid=b,ou=people,dc=x\n", 1,
			) + a + b,
			[]*plan.Change{role(model.Revoke, "b", "seller"), role(model.Grant, "b", "lead")},
		},
		{
			"removed from every list; the next one's comment stays", lists + a + b,
			strings.Replace(lists, "member: uid=a,ou=people,dc=x\n", "", 1) + "# the first\n# the second\n" +
				strings.TrimPrefix(b, "\n# the second\n"),
			[]*plan.Change{change(model.Remove, "a")},
		},
		{
			"a new one, in lines of the file's own end", strings.ReplaceAll(lists+a, "\n", "\r\n"),
			strings.ReplaceAll(strings.Replace(lists, "cn: lead\n", "cn: lead\nmember: uid=c\\2Cc,ou=people,dc=x\n", 1)+a+
				"\ndn: uid=c\\2Cc,ou=people,dc=x\nobjectClass: account\ndisplayName: C\nstate: in\nuid: c,c\n", "\n", "\r\n"),
			[]*plan.Change{
				create("c,c", map[string]string{"userName": "c,c", "displayName": "C"}), role(model.Grant, "c,c", "lead"),
			},
		},
	} {
		t.Run(c.name, func(t *testing.T) {
			app, spec := entries()
			after, err := apply(t, app, spec, c.before, c.changes...)
			require.NoError(t, err)
			after = strings.ReplaceAll(after, `\,`, `\2C`) // RFC 4514 has both
			require.Equal(t, c.after, after)
		})
	}
}

func TestLDIFIsLeftAloneWhenItCannotBeDone(t *testing.T) {
	const file = "dn: cn=seller,ou=roles,dc=x\ncn: seller\n\ndn: uid=a,ou=away,dc=x\nobjectClass: account\nuid: a\n"
	for _, c := range []struct {
		change *plan.Change
		want   string
	}{
		{update("a", "userName", "z"), "the account a cannot be renamed in a file of LDIF"},
		{change(model.Restore, "a"), "a is in ou=away,dc=x, and an entry cannot be moved in a file of LDIF"},
		{role(model.Grant, "a", "lead"), "t.ldif: no entry is of the role lead, which a is to be in"},
		{change(model.Suspend, "q"), `"q"`},
	} {
		app, spec := entries()
		after, err := apply(t, app, spec, file, c.change)
		require.ErrorContains(t, err, c.want)
		require.Equal(t, file, after)
	}
}

// TestAnyLDIFIsChangedAsMeantAndNowhereElse draws files in any of the ways in which LDIF is written.
func TestAnyLDIFIsChangedAsMeantAndNowhereElse(t *testing.T) {
	dir := t.TempDir()
	rapid.Check(t, func(t *rapid.T) {
		users := drawUsers(t)
		end := rapid.SampledFrom([]string{"\n", "\r\n"}).Draw(t, "line end")
		line := func(name, value string) string {
			if strings.ContainsAny(value, "\nØ") || rapid.IntRange(0, 5).Draw(t, "coded") == 0 {
				return name + ":: " + base64.StdEncoding.EncodeToString([]byte(value)) + end
			}
			if at := rapid.IntRange(1, 40).Draw(t, "fold"); at < len(value) {
				value = value[:at] + end + " " + value[at:]
			}
			return name + ": " + value + end
		}
		var all, people []string
		for _, r := range []string{"seller", "lead", "auditor"} {
			text := line("dn", "cn="+r+",ou=roles,dc=x") + line("cn", r)
			for _, u := range users {
				if slices.Contains(u.roles, r) {
					dn := rapid.SampledFrom([]string{"uid=%s,ou=people,dc=x", "UID=%s, OU=people, dc=x"}).
						Draw(t, "member")
					text += line("member", fmt.Sprintf(dn, u.login))
				}
			}
			all = append(all, text)
		}
		for i, u := range users {
			text := line("dn", "uid="+u.login+",ou=people,dc=x") + line("objectClass", "account") + line("uid", u.login)
			if u.name != "" {
				text += line("displayName", u.name)
			}
			text += line(
				"state",
				map[bool]string{true: "in", false: "out"}[u.open],
			) + line("note", fmt.Sprint("of ", i))
			people = append(people, text)
		}
		all = rapid.Permutation(append(all, people...)).Draw(t, "order")
		file := filepath.Join(dir, "t.ldif")
		app, spec := entries()
		require.NoError(t, os.WriteFile(file, []byte(strings.Join(all, end)), 0o644))
		require.Equal(t, words(users), readBack(t, dir, spec, app))

		touched, now := changed(t, dir, file, spec, app, users)
		for i, u := range users {
			if !touched[u.login] {
				require.Contains(t, string(now), people[i], "an entry that no change is about")
			}
		}
	})
}
