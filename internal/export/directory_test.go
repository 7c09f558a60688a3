package export_test

import (
	"regexp"
	"strings"
	"testing"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/require"

	"pravet/internal/export"
)

// named is a DN whose attributes have names (RFC 4514 §3); the library reads more than that.
var named = regexp.MustCompile(`^ *[A-Za-z][A-Za-z0-9-]* *=[^=+]*(, *[A-Za-z][A-Za-z0-9-]* *=[^=+]*)*$`)

// FuzzSameEntriesFoldAlike: a DN in its short way folds as it does when it is parsed.
func FuzzSameEntriesFoldAlike(f *testing.F) {
	for _, dn := range []string{
		"uid=ada,ou=people,dc=x", "UID=Ada, OU=People , dc = x", `cn=Fell\, Ada,dc=x`, "cn=a+b=c,dc=x", "cn= a ,dc=x", "cn=a  b,dc=x",
	} {
		f.Add(dn)
	}
	f.Fuzz(func(t *testing.T, dn string) {
		parsed, err := ldap.ParseDN(dn)
		if err != nil || len(parsed.RDNs) == 0 || !named.MatchString(dn) {
			t.Skip()
		}
		require.Equal(t, export.FoldDN(strings.ToLower(parsed.String())), export.FoldDN(dn), "%q", dn)
	})
}
