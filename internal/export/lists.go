package export

import (
	"slices"
	"strings"

	"github.com/go-ldap/ldap/v3"
)

// A Lister is an attribute by which an entry lists its members: by their DNs, or by their user names (RFC 2307).
type Lister struct {
	Attribute string
	ByName    bool
}

// listers are the attributes of classes of groups, in small letters.
var listers = map[string]Lister{
	"groupofnames":       {"member", false}, // RFC 4519 §3.5
	"groupofuniquenames": {"uniqueMember", false},
	"posixgroup":         {"memberUid", true}, // RFC 2307 §3
	"organizationalrole": {"roleOccupant", false},
	"groupofmembers":     {"member", false},
	"groupofentries":     {"member", false},
	"group":              {"member", false},
}

// needy are the classes whose entries need a member (RFC 4519 §3.5, §3.6).
var needy = []string{"groupofnames", "groupofuniquenames"}

// ListAttributes are all attributes that may list members.
func (d *Directory) ListAttributes() []string {
	out := []string{"objectClass", "member", "uniqueMember", "memberUid", "roleOccupant"}
	if d.Member != "" && !slices.ContainsFunc(out, func(a string) bool { return strings.EqualFold(a, d.Member) }) {
		out = append(out, d.Member)
	}
	return out
}

// A List is how an entry lists members.
type List struct {
	By      []Lister // all that its classes have
	In      []Lister // of those, the ones that a new member comes into
	Needs   bool     // its class needs a member
	Partial string   // why not all members can be told
}

// ListOfEntry tells how an entry lists members, by its classes; get gives the values of an attribute. An attribute
// that the application's file names counts for entries of classes that are not known.
func (d *Directory) ListOfEntry(get func(attr string) []string) List {
	var l List
	add := func(x Lister) {
		if !slices.Contains(l.By, x) {
			l.By = append(l.By, x)
		}
	}
	var strange []string
	for _, class := range get("objectClass") {
		folded := strings.ToLower(class)
		l.Needs = l.Needs || slices.Contains(needy, folded)
		if x, ok := listers[folded]; ok {
			add(x)
		} else if folded != "top" {
			strange = append(strange, class)
		}
	}
	if len(l.By) == 0 && d.Member != "" {
		add(Lister{d.Member, strings.EqualFold(d.Member, "memberUid")})
		strange = nil
	}
	for _, x := range l.By {
		if len(get(x.Attribute)) > 0 {
			l.In = append(l.In, x)
		}
	}
	if len(l.In) == 0 && len(l.By) > 0 {
		l.In = l.By[:1]
		for _, x := range l.By {
			if strings.EqualFold(x.Attribute, d.Member) {
				l.In = []Lister{x}
			}
		}
	}
	if len(l.By) == 0 {
		l.Partial = "nothing is known of how an entry of the classes " + strings.Join(strange, ", ") +
			" lists its members; name the attribute under member"
	}
	return l
}

// Keys are by what an entry lists its members, in a form that is the same for the same entry.
func (l List) Keys(get func(attr string) []string) (out []string) {
	for _, x := range l.By {
		for _, v := range get(x.Attribute) {
			out = append(out, x.Key(v))
		}
	}
	return out
}

// Key is a member as an entry lists it, in a form that is the same for the same entry.
func (x Lister) Key(member string) string {
	if x.ByName {
		return "uid " + strings.ToLower(member)
	}
	if at := strings.LastIndex(member, "#'"); at > 0 && strings.HasSuffix(member, "'B") {
		member = member[:at] // a name with an optional identifier (RFC 4517 §3.3.21)
	}
	return FoldDN(member)
}

// Value is an entry as a member.
func (x Lister) Value(dn, uid string) string {
	if x.ByName {
		return uid
	}
	return dn
}

// AccountKeys are by what lists may name an account.
func AccountKeys(dn string, uids []string) []string {
	out := []string{FoldDN(dn)}
	for _, uid := range uids {
		out = append(out, Lister{ByName: true}.Key(uid))
	}
	return out
}

// Below is the name of an entry within a branch.
func Below(dn, base string) string {
	x, errX := ldap.ParseDN(dn)
	y, errY := ldap.ParseDN(base)
	if errX != nil || errY != nil || len(x.RDNs) <= len(y.RDNs) {
		return dn
	}
	return (&ldap.DN{RDNs: x.RDNs[:len(x.RDNs)-len(y.RDNs)]}).String()
}

// Told are the names by which lists are told apart: their cn, or where several have the same, their names within the
// branch.
func Told(dns, cns []string, base func(i int) string) []string {
	n := map[string]int{}
	for i := range cns {
		n[base(i)+"\x00"+cns[i]]++
	}
	out := slices.Clone(cns)
	for i := range out {
		if n[base(i)+"\x00"+cns[i]] > 1 {
			out[i] = Below(dns[i], base(i))
		}
	}
	return out
}
