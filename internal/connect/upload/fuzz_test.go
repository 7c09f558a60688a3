package upload

import (
	"pravet/internal/connect"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/go-ldap/ldif"
	"github.com/stretchr/testify/require"

	"pravet/internal/core/account"
	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/core/table"
	"pravet/internal/export"
)

// FuzzChangeRecordsAreReadAsTheyWereMeant: whatever an name is called, and whatever its name
// is, LDIF that we write holds those, and a checklist holds no control characters and no links.
func FuzzChangeRecordsAreReadAsTheyWereMeant(f *testing.F) {
	f.Add("ada", "Ada Fell")
	f.Add(`o'neil, "x"+*(y)\=;#<z>`, " leads with a space")
	f.Add("# comment", "ends with one ")
	f.Add(strings.Repeat("long ", 40), "line\nfeed\r\n- more: x")
	f.Add("ünï", ":colon <angle")
	f.Add("x", "[a](http://x) <b> `c` \x1b[31m")
	f.Fuzz(func(t *testing.T, name, shown string) {
		if name == "" || !utf8.ValidString(name) || !utf8.ValidString(shown) ||
			strings.ContainsRune(name+shown, 0) ||
			strings.TrimSpace(name) != name {
			t.Skip() // none of these is a name that check lets through
		}
		app := &model.App{ID: "yard", Match: "userName", Attrs: []model.Attr{{Name: "userName"}, {Name: "displayName"}}}
		app.Index()
		w := &writer{
			Upload: &Upload{App: app, Spec: &connect.Spec{Own: &Loading{Directory: &export.Directory{
				People: "ou=people,dc=x", Class: []string{"inetOrgPerson"}, RDN: "uid", Member: "member",
			}}}},
			covered: map[*plan.Change]bool{}, accounts: account.In(app, &model.Accounts{Key: &table.Column{}, Sets: model.NewSets()}),
		}
		c := &plan.Change{Verb: model.Update, Account: name, Attribute: "displayName", After: plan.Text(shown)}
		text := string(w.ldif([]*plan.Change{c}))
		got, err := ldif.Parse(text)
		require.NoError(t, err, text)
		require.Len(t, got.Entries, 1)
		m := got.Entries[0].Modify
		require.NotNil(t, m, text)
		require.True(t, export.Under(m.DN, "ou=people,dc=x"), m.DN)
		require.Len(t, m.Changes, 1)
		if shown != "" {
			require.Equal(t, []string{shown}, m.Changes[0].Modification.Vals)
		}
		list := string(w.checklist([]*plan.Change{c}, "f.ldif"))
		for _, r := range list {
			require.False(t, r < ' ' && r != '\n' || r == 0x7f, "%q", list)
		}
		require.NotRegexp(t, `[^\\]\]\(|<[a-z]`, list)
	})
}
