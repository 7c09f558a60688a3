package upload

import (
	"cmp"
	"maps"
	"slices"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/export"
)

// listDN is where a list is: under its cn or, where several have the same, under the name by which they are told apart.
func listDN(name, base string) string {
	if parsed, err := ldap.ParseDN(name); err == nil && len(parsed.RDNs) > 1 {
		return name + "," + base
	}
	return "cn=" + ldap.EscapeDN(name) + "," + base
}

// inOrder puts what takes somebody out of a list behind all that puts somebody in, as a list may need a member, and
// removals last.
func inOrder(changes []*plan.Change) []*plan.Change {
	rank := func(c *plan.Change) int {
		switch {
		case c.Verb == model.Remove:
			return 2
		case c.Thing != nil && c.Verb.Deed().Loses:
			return 1
		}
		return 0
	}
	out := slices.Clone(changes)
	slices.SortStableFunc(out, func(a, b *plan.Change) int { return rank(a) - rank(b) })
	return out
}

// ldif writes change records (RFC 2849).
func (w *writer) ldif(changes []*plan.Change) []byte {
	d := of(w.Spec).Directory
	var b strings.Builder
	b.WriteString("version: 1\n")
	line := func(name, value string) { b.WriteString(export.LDIFLine(name, value, "\n")) }
	dn := func(name string) string { return d.RDN + "=" + ldap.EscapeDN(name) + "," + d.People }
	modify := func(entry string, ops func()) {
		b.WriteString("\n")
		line("dn", entry)
		line("changetype", "modify")
		ops()
	}
	for _, c := range inOrder(changes) {
		ok := true
		switch c.Verb {
		case model.Create:
			attrs := c.After.Fields()
			all := map[string]string{d.Attribute(w.Spec.Columns, w.App.Match): c.Account, d.RDN: c.Account}
			for name, v := range attrs {
				all[d.Attribute(w.Spec.Columns, name)] = v
			}
			d.Required(all, c.Account, attrs["displayName"])
			if c.Blocked && d.Block.Attribute != "" {
				all[d.Block.Attribute] = d.Block.Blocked
			}
			b.WriteString("\n")
			line("dn", dn(c.Account))
			line("changetype", "add")
			for _, class := range d.Class {
				line("objectClass", class)
			}
			for _, name := range slices.Sorted(maps.Keys(all)) {
				if all[name] != "" {
					line(name, all[name])
				}
			}
		case model.Remove:
			b.WriteString("\n")
			line("dn", dn(c.Account))
			line("changetype", "delete")
		case model.Update:
			if c.Attribute == w.App.Match {
				b.WriteString("\n")
				line("dn", dn(c.Account))
				line("changetype", "modrdn")
				line("newrdn", d.RDN+"="+ldap.EscapeDN(c.After.Text()))
				line("deleteoldrdn", "1")
				break
			}
			modify(dn(c.Account), func() {
				attr := d.Attribute(w.Spec.Columns, c.Attribute)
				before, after := c.Before.Text(), c.After.Text()
				if before == "" || after == "" {
					line("replace", attr)
					if after != "" {
						line(attr, after)
					}
					b.WriteString("-\n")
					return
				}
				for _, op := range [][2]string{{"delete", before}, {"add", after}} { // others that it has stay
					line(op[0], attr)
					line(attr, op[1])
					b.WriteString("-\n")
				}
			})
		case model.Suspend, model.Restore:
			if ok = d.Block.Attribute != ""; !ok {
				break
			}
			modify(dn(c.Account), func() {
				line("replace", d.Block.Attribute)
				value := d.Block.Open
				if c.Verb == model.Suspend {
					value = d.Block.Blocked
				}
				if value != "" {
					line(d.Block.Attribute, value)
				}
				b.WriteString("-\n")
			})
		case model.Join, model.Leave, model.Grant, model.Revoke:
			base := d.Groups
			if c.Thing.Kind == model.Role {
				base = d.Roles
			}
			if ok = base != ""; !ok {
				break
			}
			modify(listDN(c.Thing.Name, base), func() {
				verb := "delete"
				if c.Verb == model.Gaining(c.Thing.Kind) {
					verb = "add"
				}
				attr, value := cmp.Or(d.Member, "member"), dn(c.Account)
				if strings.EqualFold(attr, "memberUid") {
					value = c.Account
				}
				line(verb, attr)
				line(attr, value)
				b.WriteString("-\n")
			})
		default:
			ok = false
		}
		if ok {
			w.covered[c] = true
		}
	}
	return []byte(b.String())
}
