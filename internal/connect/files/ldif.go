package files

import (
	"bytes"
	"encoding/base64"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"pravet/internal/core/model"
	"pravet/internal/export"
)

// An ldifEntry is an entry of a file of LDIF (RFC 2849): its lines as they stand, folded or
// not, each with what it says.
type ldifEntry struct {
	lines []ldifLine
	after string // the blank lines behind it, and comments
	gone  bool
}

type ldifLine struct{ raw, name, value string }

// ldif writes files of entries anew. Entries that no change is about stay as they are, byte
// for byte; in others only the changed attributes are written. All files are read first, as a
// list may stand in another file than the accounts that it names.
func (f *writer) ldif(e *edits) error {
	w := &ldifWriter{files: f, edits: e, d: f.Spec.Directory, dns: map[string]string{}, entries: map[string]*ldifEntry{}}
	type file struct {
		path, sum, head, end string
		info                 os.FileInfo
		entries              []*ldifEntry
		added                []string
	}
	var all []*file
	for _, path := range f.Spec.Paths {
		data, sum, info, err := f.Tree.ReadAll(f.ctx, path.Text, maxSCIM)
		if err != nil {
			return err
		}
		x := &file{path: path.Text, sum: sum, info: info, end: "\n"}
		if bytes.Contains(data, []byte("\r\n")) {
			x.end = "\r\n"
		}
		x.head, x.entries = parseLDIF(string(data))
		w.accounts(x.entries)
		all = append(all, x)
	}
	var lists []*ldifEntry
	for _, x := range all {
		for _, e := range x.entries {
			if _, ok := w.d.ListOf(e.dn(), e.first("cn")); ok {
				lists = append(lists, e)
			}
		}
	}
	w.name(lists)
	w.plan()
	last := len(all) - 1
	for _, x := range all {
		w.end = x.end
		if err := w.change(x.entries); err != nil {
			return fmt.Errorf("%s: %w", x.path, err)
		}
	}
	for t, who := range w.joins {
		return fmt.Errorf("%s: no entry is of the %s %s, which %s is to be in", all[last].path, t.kind, t.name, who[0])
	}
	added, err := w.create()
	if err != nil {
		return fmt.Errorf("%s: %w", all[last].path, err)
	}
	all[last].added = added
	for _, x := range all {
		s, err := f.Tree.Stage(x.path, 0o644, func(out io.Writer) error {
			_, err := io.WriteString(out, w.text(x.head, x.entries, x.added))
			return err
		})
		if err != nil {
			return err
		}
		s.Replaces(x.info)
		f.add(s, x.path, x.sum)
	}
	return nil
}

// parseLDIF parts a file into what stands before the first entry and the entries. An entry ends
// at a blank line; comments within it are lines of it that say nothing.
func parseLDIF(text string) (head string, entries []*ldifEntry) {
	var now *ldifEntry
	for raw := range strings.Lines(text) {
		plain := strings.TrimRight(raw, "\r\n")
		switch {
		case strings.HasPrefix(strings.ToLower(plain), "dn:"):
			now = &ldifEntry{lines: []ldifLine{{raw: raw}}}
			entries = append(entries, now)
		case now == nil:
			head += raw
		case plain == "" || now.after != "":
			now.after += raw
		case strings.HasPrefix(plain, " "):
			now.lines[len(now.lines)-1].raw += raw // it is folded
		default:
			now.lines = append(now.lines, ldifLine{raw: raw})
		}
	}
	for _, e := range entries {
		for i := range e.lines {
			l := &e.lines[i]
			if strings.HasPrefix(l.raw, "#") {
				continue
			}
			whole := strings.NewReplacer("\r\n ", "", "\n ", "").Replace(l.raw)
			name, value, _ := strings.Cut(strings.TrimRight(whole, "\r\n"), ":")
			l.name = name
			if coded, ok := strings.CutPrefix(value, ":"); ok {
				if text, err := base64.StdEncoding.DecodeString(strings.TrimSpace(coded)); err == nil {
					value = string(text)
				}
			}
			l.value = strings.TrimLeft(value, " ")
		}
	}
	return head, entries
}

func (e *ldifEntry) dn() string { return e.lines[0].value }

func (e *ldifEntry) get(name string) (out []string) {
	for _, l := range e.lines[1:] {
		if strings.EqualFold(l.name, name) {
			out = append(out, l.value)
		}
	}
	return out
}

func (e *ldifEntry) first(name string) string {
	if all := e.get(name); len(all) > 0 {
		return all[0]
	}
	return ""
}

type ldifWriter struct {
	files *writer
	edits *edits
	d     *export.Directory
	end   string
	dns   map[string]string // of accounts that changes are about

	entries map[string]*ldifEntry // of those that are there
	names   map[*ldifEntry]string // of lists

	accountOf map[string]string  // and the other way, by what a list calls its members
	joins     map[thing][]string // what comes into each list
}

func (w *ldifWriter) attribute(attr string) string { return w.d.Attribute(w.files.Spec.Columns, attr) }

func (w *ldifWriter) isAccount(e *ldifEntry) bool { return w.d.IsAccount(e.dn(), e.get("objectClass")) }

// accounts notes where the accounts are that changes are about.
func (w *ldifWriter) accounts(entries []*ldifEntry) {
	for _, e := range entries {
		if x := w.edits.byKey[e.first(w.attribute(w.files.App.Match))]; x != nil && w.isAccount(e) {
			x.done = true
			w.dns[x.key], w.entries[x.key] = e.dn(), e
		}
	}
}

// name gives lists the names by which they are told apart.
func (w *ldifWriter) name(lists []*ldifEntry) {
	w.names = map[*ldifEntry]string{}
	var dns, cns []string
	for _, e := range lists {
		dns, cns = append(dns, e.dn()), append(cns, e.first("cn"))
	}
	base := func(i int) string {
		if kind, _ := w.d.ListOf(dns[i], cns[i]); kind == model.Role {
			return w.d.Roles
		}
		return w.d.Groups
	}
	for i, name := range export.Told(dns, cns, base) {
		w.names[lists[i]] = name
	}
}

// plan notes where new accounts come to be, and who comes into which list.
func (w *ldifWriter) plan() {
	w.accountOf, w.joins = map[string]string{}, map[thing][]string{}
	for _, key := range w.edits.order {
		x := w.edits.byKey[key]
		if x.create && w.dns[key] == "" {
			w.dns[key] = w.d.RDN + "=" + ldap.EscapeDN(key) + "," + w.d.People
		}
		for _, k := range export.AccountKeys(w.dns[key], w.uids(key)) {
			w.accountOf[k] = key
		}
		for kind := range x.gain {
			for _, name := range x.gain[kind] {
				t := thing{model.Kind(kind), name}
				w.joins[t] = append(w.joins[t], key)
			}
		}
	}
}

// uids are the user names of an account, by which some lists name it.
func (w *ldifWriter) uids(key string) []string {
	if e := w.entries[key]; e != nil {
		return e.get("uid")
	}
	if strings.EqualFold(w.d.RDN, "uid") || strings.EqualFold(w.attribute(w.files.App.Match), "uid") {
		return []string{key}
	}
	return nil
}

// change changes entries: accounts, and the lists that they are in.
func (w *ldifWriter) change(entries []*ldifEntry) error {
	for _, e := range entries {
		switch kind, ok := w.d.ListOf(e.dn(), e.first("cn")); {
		case ok:
			w.members(e, kind)
		case w.isAccount(e):
			x := w.edits.byKey[e.first(w.attribute(w.files.App.Match))]
			if x == nil {
				continue
			}
			if e.gone = x.remove; e.gone {
				continue
			}
			if err := w.account(e, x); err != nil {
				return err
			}
		}
	}
	return nil
}

// members puts accounts into a list and takes others out.
func (w *ldifWriter) members(e *ldifEntry, kind model.Kind) {
	name := w.names[e]
	how := w.d.ListOfEntry(e.get)
	joins := w.joins[thing{kind, name}]
	delete(w.joins, thing{kind, name})
	in := map[string]bool{}
	e.lines = slices.DeleteFunc(e.lines, func(l ldifLine) bool {
		at := slices.IndexFunc(how.By, func(x export.Lister) bool { return strings.EqualFold(l.name, x.Attribute) })
		if at < 0 {
			return false
		}
		key := how.By[at].Key(l.value)
		in[key] = true
		x := w.edits.byKey[w.accountOf[key]]
		return x != nil && (x.remove || slices.Contains(x.lose[kind], name))
	})
	for _, key := range joins {
		uid := ""
		if uids := w.uids(key); len(uids) > 0 {
			uid = uids[0]
		}
		for _, x := range how.In {
			if value := x.Value(w.dns[key], uid); value != "" && !in[x.Key(value)] {
				e.lines = append(e.lines, w.line(x.Attribute, value))
			}
		}
	}
}

// account changes the attributes of an account, and whether it is blocked.
func (w *ldifWriter) account(e *ldifEntry, x *edit) error {
	for _, attr := range slices.Sorted(maps.Keys(x.attrs)) {
		if attr == w.files.App.Match && !x.create {
			return fmt.Errorf("the account %s cannot be renamed in a file of LDIF", x.key)
		}
		w.exchange(e, w.attribute(attr), x.was[attr], x.attrs[attr])
	}
	if x.state == model.NoAccount {
		return nil
	}
	if x.state == model.Open && export.Under(e.dn(), w.d.Away) {
		return fmt.Errorf("the account %s is in %s, and an entry cannot be moved in a file of LDIF", x.key, w.d.Away)
	}
	value, err := w.block(x)
	if err == nil {
		w.set(e, w.d.Block.Attribute, value)
	}
	return err
}

// block is the value of the attribute that blocks an account, or opens it.
func (w *ldifWriter) block(x *edit) (string, error) {
	switch {
	case w.d.Block.Attribute == "":
		return "", fmt.Errorf("the account %s can be neither blocked nor opened in a file of LDIF without block", x.key)
	case x.state == model.Blocked:
		return w.d.Block.Blocked, nil
	}
	return w.d.Block.Open, nil
}

// exchange gives an attribute another value in the place of one that it had; others that it has stay.
func (w *ldifWriter) exchange(e *ldifEntry, name, before, value string) {
	if values := e.get(name); before == "" || value == "" || len(values) < 2 {
		w.set(e, name, value)
		return
	}
	for i := range e.lines {
		if i > 0 && strings.EqualFold(e.lines[i].name, name) && e.lines[i].value == before {
			e.lines[i] = w.line(name, value)
			return
		}
	}
	e.lines = append(e.lines, w.line(name, value))
}

// set gives an attribute one value, or with "" none, where the first one stood.
func (w *ldifWriter) set(e *ldifEntry, name, value string) {
	at := len(e.lines)
	for i := len(e.lines) - 1; i > 0; i-- {
		if strings.EqualFold(e.lines[i].name, name) {
			e.lines = slices.Delete(e.lines, i, i+1)
			at = i
		}
	}
	if value != "" {
		e.lines = slices.Insert(e.lines, at, w.line(name, value))
	}
}

func (w *ldifWriter) line(name, value string) ldifLine {
	return ldifLine{raw: export.LDIFLine(name, value, w.end), name: name, value: value}
}

// create writes the entries of new accounts.
func (w *ldifWriter) create() (out []string, err error) {
	toCreate, err := w.edits.toCreate()
	if err != nil {
		return nil, err
	}
	for _, x := range toCreate {
		attrs := map[string]string{w.attribute(w.files.App.Match): x.key, w.d.RDN: x.key}
		for name, v := range x.attrs {
			attrs[w.attribute(name)] = v
		}
		w.d.Required(attrs, x.key, x.attrs["displayName"])
		if w.d.Block.Attribute != "" {
			if attrs[w.d.Block.Attribute], err = w.block(x); err != nil {
				return nil, err
			}
		}
		text := w.line("dn", w.dns[x.key]).raw
		for _, class := range w.d.Class {
			text += w.line("objectClass", class).raw
		}
		for _, name := range slices.Sorted(maps.Keys(attrs)) {
			if attrs[name] != "" {
				text += w.line(name, attrs[name]).raw
			}
		}
		out = append(out, text)
	}
	return out, nil
}

// text is the whole file.
func (w *ldifWriter) text(head string, entries []*ldifEntry, added []string) string {
	var b strings.Builder
	b.WriteString(head)
	for _, e := range entries {
		if e.gone {
			b.WriteString(strings.TrimLeft(e.after, "\r\n")) // comments about the next one
			continue
		}
		for _, l := range e.lines {
			b.WriteString(l.raw)
			if !strings.HasSuffix(l.raw, "\n") {
				b.WriteString(w.end)
			}
		}
		b.WriteString(e.after)
	}
	for _, text := range added {
		if !strings.HasSuffix(b.String(), w.end+w.end) {
			b.WriteString(w.end)
		}
		b.WriteString(text)
	}
	return b.String()
}
