package upload

import (
	"maps"
	"slices"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"pravet/internal/core/model"
	"pravet/internal/core/plan"
	"pravet/internal/export"
)

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
	for _, c := range changes {
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
				line("replace", attr)
				if v := c.After.Text(); v != "" {
					line(attr, v)
				}
				b.WriteString("-\n")
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
			modify("cn="+ldap.EscapeDN(c.Thing.Name)+","+base, func() {
				verb := "delete"
				if c.Verb == model.Gaining(c.Thing.Kind) {
					verb = "add"
				}
				line(verb, d.Member)
				line(d.Member, dn(c.Account))
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
