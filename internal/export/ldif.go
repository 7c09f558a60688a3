package export

import (
	"encoding/base64"
	"errors"
	"strings"

	"github.com/go-ldap/ldap/v3"
	"github.com/go-ldap/ldif"

	"pravet/internal/core/model"
	"pravet/internal/source"
)

// readLDIF reads the entries of a directory as LDIF (RFC 2849). They are kept until all were
// read, as lists may stand before the entries that they name, or after.
func (r *recordReader) readLDIF(src *source.Reader, name string, spec *Spec) error {
	d := spec.Directory
	src.Limit = maxResource
	var people []*ldap.Entry
	in := map[string][]*Record{} // member → lists that name it
	groups := map[string]*Record{}
	var lists []*Record
	var dns []string
	entries := 0
	file := &ldif.LDIF{}
	for e, err := range ldif.UnmarshalEntries(src, file) {
		src.Mark()
		if err != nil {
			var p *source.Problem
			var bad *ldif.ParseError
			switch {
			case errors.As(err, &p):
				return p
			case errors.As(err, &bad):
				return source.NewProblem(
					model.Pos{File: name, Line: bad.Line},
					"not-ldif",
					bad.Message,
					"see RFC 2849 for how an entry is written",
				)
			}
			return source.NewProblem(
				model.Pos{File: name},
				"not-ldif",
				err.Error(),
				"see RFC 2849 for how an entry is written",
			)
		}
		if e.Entry == nil {
			return source.NewProblem(
				model.Pos{File: name, Line: 1}, "not-an-export", "the file holds changes, and an export holds entries",
				"export the entries themselves",
			)
		}
		entries++
		dn := e.Entry.DN
		get := e.Entry.GetEqualFoldAttributeValues
		list := func(r *Record) {
			how := d.ListOfEntry(get)
			for _, key := range how.Keys(get) {
				in[key] = append(in[key], r)
			}
			if r.Partial = how.Partial; how.Needs && d.Keep == "" {
				r.Needs = len(how.Keys(get))
			}
			lists, dns = append(lists, r), append(dns, dn)
		}
		cn := e.Entry.GetEqualFoldAttributeValue("cn")
		switch kind, ok := d.ListOf(dn, cn); {
		case ok && kind == model.Role:
			list(&Record{Role: cn})
		case ok:
			g := &Record{Group: cn}
			groups[FoldDN(dn)] = g
			list(g)
		case d.IsAccount(dn, e.Entry.GetEqualFoldAttributeValues("objectClass")):
			people = append(people, e.Entry)
		}
	}
	if entries == 0 {
		return source.NewProblem(model.Pos{File: name, Line: 1}, "empty-file", "the export is empty", "export it again")
	}
	d.name(lists, dns)
	for dn, g := range groups {
		for _, parent := range in[dn] {
			if parent.Group != "" {
				g.In = append(g.In, parent.Group)
			}
		}
	}
	for _, l := range lists {
		if err := r.add(l); err != nil {
			return err
		}
	}
	for _, e := range people {
		x := &Record{
			Account: e.GetEqualFoldAttributeValue(d.Attribute(spec.Columns, r.app.Match)), State: model.Open.String(),
			Attributes: map[string]string{},
		}
		if d.Blocked(e.DN, e.GetEqualFoldAttributeValue) {
			x.State = model.Blocked.String()
		}
		for _, a := range r.app.Attrs {
			x.Say(a.Name, e.GetEqualFoldAttributeValues(d.Attribute(spec.Columns, a.Name)))
		}
		seen := map[*Record]bool{}
		for _, key := range AccountKeys(e.DN, e.GetEqualFoldAttributeValues("uid")) {
			for _, l := range in[key] {
				switch {
				case seen[l]:
				case l.Role != "":
					x.Roles = append(x.Roles, l.Role)
				default:
					x.Groups = append(x.Groups, l.Group)
				}
				seen[l] = true
			}
		}
		if err := r.add(x); err != nil {
			return source.NewProblem(model.Pos{File: name}, "not-ldif", e.DN+": "+err.Error(), "")
		}
	}
	return nil
}

// name gives lists the names by which they are told apart.
func (d *Directory) name(lists []*Record, dns []string) {
	var cns []string
	base := func(i int) string {
		if lists[i].Role != "" {
			return d.Roles
		}
		return d.Groups
	}
	for _, l := range lists {
		cns = append(cns, l.Group+l.Role)
	}
	for i, name := range Told(dns, cns, base) {
		if lists[i].Role != "" {
			lists[i].Role = name
		} else {
			lists[i].Group = name
		}
	}
}

// width is how long a line of LDIF is before it is folded (RFC 2849 §3).
const width = 76

// LDIFLine is an attribute as a line of LDIF, folded where it is long, in Base64 where it could
// not be read otherwise; end ends lines.
func LDIFLine(name, value, end string) string {
	text := name + ": " + value
	if !safe(value) {
		text = name + ":: " + base64.StdEncoding.EncodeToString([]byte(value))
	}
	var b strings.Builder
	for n := width; len(text) > n; n = width - 1 {
		b.WriteString(text[:n] + end + " ")
		text = text[n:]
	}
	return b.String() + text + end
}

// safe reports whether a value may stand as it is (RFC 2849, SAFE-STRING).
func safe(v string) bool {
	if v == "" {
		return true
	}
	if strings.ContainsAny(v[:1], " :<") || strings.HasSuffix(v, " ") {
		return false
	}
	return !strings.ContainsFunc(v, func(r rune) bool { return r == 0 || r == '\n' || r == '\r' || r > 127 })
}
