package export

import (
	"slices"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"pravet/internal/core/model"
)

// A Directory says where accounts, groups and roles are in a directory, and how it blocks
// accounts: whether it is asked (LDAP) or shown as a file (LDIF).
type Directory struct {
	People string // DN of the branch of accounts
	Groups string // DN of the branch of groups; "" where there are none
	Roles  string // likewise
	Away   string // DN of the branch that blocked accounts are moved to; ""
	Class  []string
	RDN    string // the attribute that names an account
	Member string // the attribute by which entries of classes that are not known list members; ""
	Keep   string // DN of an entry that stays in groups that need a member; ""
	Except string // a filter (RFC 4515) of entries that are left alone; ""
	Block  Block
}

// Block is how a directory blocks an account: by an attribute that has one value while the
// account is open and another while it is blocked; "" for none.
type Block struct{ Attribute, Open, Blocked string }

// Attribute is the name of an attribute in the directory: as columns say, else the one that
// inetOrgPerson has (RFC 2798, RFC 4519).
func (d *Directory) Attribute(columns []Column, attr string) string {
	for i := range columns {
		if columns[i].Attr == attr {
			return columns[i].Name
		}
	}
	switch attr {
	case "userName":
		return d.RDN
	case "email":
		return "mail"
	case "phone":
		return "telephoneNumber"
	case "name.givenName":
		return "givenName"
	case "name.familyName":
		return "sn"
	case "department":
		return "departmentNumber"
	case "userType":
		return "employeeType"
	case "locale":
		return "preferredLanguage"
	case "keySince":
		return "pwdChangedTime"
	}
	return attr
}

// Required adds to the attributes of a new entry those that its class cannot do without: of a
// person cn and sn (RFC 4519 §3.12).
func (d *Directory) Required(attrs map[string]string, account, displayName string) {
	person := slices.ContainsFunc(d.Class, func(c string) bool {
		return strings.EqualFold(c, "inetOrgPerson") || strings.EqualFold(c, "person") ||
			strings.EqualFold(c, "organizationalPerson")
	})
	if !person {
		return
	}
	shown := account
	if displayName != "" && displayName != "<nil>" {
		shown = displayName
	}
	last := shown
	if words := strings.Fields(shown); len(words) > 0 {
		last = words[len(words)-1]
	}
	for attr, v := range map[string]string{"cn": shown, "sn": last} {
		if attrs[attr] == "" {
			attrs[attr] = v
		}
	}
}

// Blocked reports whether an account is blocked; get gives an attribute of its entry.
func (d *Directory) Blocked(dn string, get func(attr string) string) bool {
	if Under(dn, d.Away) {
		return true
	}
	b := d.Block
	return b.Attribute != "" && strings.EqualFold(get(b.Attribute), b.Blocked)
}

// IsAccount reports whether an entry of these classes is one of an account.
func (d *Directory) IsAccount(dn string, classes []string) bool {
	in := Under(dn, d.People) || Under(dn, d.Away)
	return in && len(d.Class) > 0 && slices.ContainsFunc(classes, func(c string) bool {
		return strings.EqualFold(c, d.Class[0])
	})
}

// ListOf is of what kind the list is that an entry is, and whether it is one.
func (d *Directory) ListOf(dn, cn string) (kind model.Kind, ok bool) {
	switch {
	case cn == "":
		return 0, false
	case Under(dn, d.Roles) && !SameDN(dn, d.Roles):
		return model.Role, true
	case Under(dn, d.Groups) && !SameDN(dn, d.Groups):
		return model.Group, true
	}
	return 0, false
}

// SameDN reports whether two DNs name the same entry (RFC 4514).
func SameDN(a, b string) bool {
	x, errX := ldap.ParseDN(a)
	y, errY := ldap.ParseDN(b)
	return errX == nil && errY == nil && x.EqualFold(y)
}

// Under reports whether an entry is in a branch.
func Under(dn, base string) bool {
	if base == "" {
		return false
	}
	x, errX := ldap.ParseDN(dn)
	y, errY := ldap.ParseDN(base)
	return errX == nil && errY == nil && (y.AncestorOfFold(x) || x.EqualFold(y))
}

// FoldDN is a DN in a form that is the same for the same entry. Most need no parsing: they
// are plain ASCII, have no escapes, and no spaces but within words.
func FoldDN(dn string) string {
	odd := func(r rune) bool { return r < ' ' || r > '~' }
	if !strings.ContainsFunc(dn, odd) && !strings.ContainsAny(dn, "\\\"+;#<>") && !strings.Contains(dn, ", ") && !strings.Contains(dn, " ,") &&
		!strings.Contains(dn, "= ") && !strings.Contains(dn, " =") &&
		!strings.Contains(dn, "  ") {
		return strings.ToLower(strings.TrimSpace(dn))
	}
	parsed, err := ldap.ParseDN(dn)
	if err != nil {
		return strings.ToLower(dn)
	}
	return strings.ToLower(parsed.String())
}
