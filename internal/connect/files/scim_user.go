package files

import (
	"bytes"
	"encoding/json"
	"errors"
	"slices"
	"strings"

	"pravet/internal/core/model"
	"pravet/internal/export"
)

// A jsonText is a JSON object that is changed value by value; everything else in
// it stays as it is, byte for byte.
type jsonText struct {
	text []byte
	end  string // of lines
}

func (t *jsonText) value() export.Value { return export.Resource(t.text) }

// put replaces a part of the text.
func (t *jsonText) put(from, to int, text []byte) {
	t.text = slices.Replace(t.text, from, to, text...)
}

// set sets an attribute's value, or with "" takes it away. Of a list the primary
// entry has it, else the first; with "" the whole list is emptied, as the next
// entry would have it otherwise.
func (t *jsonText) set(path []string, before, v string) error {
	is, there, err := t.value().Find(path...)
	if err != nil {
		return err
	}
	text, err := json.Marshal(v)
	if err != nil {
		return err
	}
	if there {
		if now, err := is.Text(); err != nil || now == v {
			return err
		}
	}
	multi := len(path) == 1 && (path[0] == "emails" || path[0] == "phoneNumbers")
	switch {
	case v == "" && is.IsArray():
		t.put(is.From, is.To, []byte("[]"))
		return nil
	case v == "":
		return t.remove(path)
	case there && (is.IsArray() || is.IsObject()):
		return t.setEntry(is, before, text)
	case multi && there && is.Type != 0: // a single value where a list is usual
		t.put(is.From, is.To, text)
		return nil
	case multi:
		return t.setRaw(path, []byte(`[{"value":`+string(text)+`,"primary":true}]`))
	}
	return t.setRaw(path, text)
}

// setEntry sets the value of a complex attribute, or of the entry of a list that had the value before or, where none
// has, of the one that counts.
func (t *jsonText) setEntry(is export.Value, before string, text []byte) error {
	if is.IsArray() {
		list := is.List()
		at := export.Primary(list)
		for i, entry := range list {
			if v, err := entry.Name("value"); err == nil && before != "" && v == before {
				at = i
			}
		}
		if at < 0 {
			t.put(is.From, is.To, []byte(`[{"value":`+string(text)+`,"primary":true}]`))
			return nil
		}
		is = list[at]
	}
	if !is.IsObject() {
		t.put(is.From, is.To, text)
		return nil
	}
	value, ok, err := is.Find("value")
	if err != nil {
		return err
	}
	if ok {
		t.put(value.From, value.To, text)
		return nil
	}
	return t.insert(is, "value", text)
}

// setRaw sets the value under a path, with the objects on the way to it.
func (t *jsonText) setRaw(path []string, text []byte) error {
	is := t.value()
	for i, name := range path {
		next, ok, err := is.Find(name)
		if err != nil {
			return err
		}
		if !ok || !next.IsObject() && i < len(path)-1 {
			for _, inner := range slices.Backward(path[i+1:]) {
				key, err := json.Marshal(inner)
				if err != nil {
					return err
				}
				text = slices.Concat([]byte("{"), key, []byte(":"), text, []byte("}"))
			}
			if ok {
				t.put(next.From, next.To, text)
				return nil
			}
			return t.insert(is, name, text)
		}
		is = next
	}
	t.put(is.From, is.To, text)
	return nil
}

// insert puts a member at the end of an object, laid out as its last one is.
func (t *jsonText) insert(object export.Value, name string, text []byte) error {
	if !object.IsObject() {
		return errors.New("an object is expected where " + name + " is to be")
	}
	members, err := object.Members()
	if err != nil {
		return err
	}
	key, err := json.Marshal(name)
	if err != nil {
		return err
	}
	if len(members) == 0 {
		t.put(object.From, object.To, slices.Concat([]byte("{"), key, []byte(":"), text, []byte("}")))
		return nil
	}
	last := members[len(members)-1]
	start := object.From + 1
	if len(members) > 1 {
		start = members[len(members)-2].To + 1 + bytes.IndexByte(t.text[members[len(members)-2].To:], ',')
	}
	space := t.text[start:last.From] // before the last member
	colon := t.text[last.From:last.Value.From]
	colon = colon[bytes.LastIndexByte(colon, '"')+1:]
	if at := bytes.LastIndexByte(space, '\n'); at >= 0 { // each member is on a line of its own
		indent := space[at+1:]
		outer := t.text[last.To : object.To-1]
		unit := bytes.TrimPrefix(indent, outer[bytes.LastIndexByte(outer, '\n')+1:])
		var b bytes.Buffer
		if err := json.Indent(&b, text, string(indent), string(unit)); err != nil {
			return err
		}
		text = bytes.ReplaceAll(b.Bytes(), []byte("\n"), []byte(t.end))
	}
	added := slices.Concat([]byte(","), space, key, colon, text)
	t.put(last.To, last.To, added)
	return nil
}

// remove takes a member away.
func (t *jsonText) remove(path []string) error {
	object, ok, err := t.value().Find(path[:len(path)-1]...)
	if err != nil || !ok && len(path) > 1 {
		return err
	}
	members, err := object.Members()
	if err != nil {
		return err
	}
	at := slices.IndexFunc(members, func(m export.Member) bool { return strings.EqualFold(m.Name, path[len(path)-1]) })
	switch {
	case at < 0:
	case len(members) == 1:
		t.put(members[0].From, members[0].To, nil)
	case at == 0:
		t.put(members[0].From, members[1].From, nil)
	default:
		t.put(members[at-1].To, members[at].To, nil)
	}
	return nil
}

// names changes a user's list of a kind.
func (t *jsonText) names(kind model.Kind, x *edit) error {
	if len(x.gain[kind])+len(x.lose[kind]) == 0 {
		return nil
	}
	member, by := export.NamesOf(kind)
	v, ok, err := t.value().Find(member)
	if err != nil {
		return err
	}
	var names []string
	if ok {
		for _, entry := range v.List() {
			name, err := entry.Name(by...)
			if err != nil {
				return err
			}
			names = append(names, name)
		}
	}
	keep, add := x.list(kind, names)
	gone := make([]bool, len(names))
	for i, name := range names {
		gone[i] = !keep(name)
	}
	var more [][2]string
	for _, name := range add {
		if kind == model.Group {
			more = append(more, [2]string{"display", name}, [2]string{"value", name})
			continue
		}
		more = append(more, [2]string{"value", name})
	}
	if kind == model.Group {
		return t.listOf(member, gone, pairs(more))
	}
	return t.list(member, gone, more)
}

// pairs puts every two members together into one entry.
func pairs(members [][2]string) (out []entry) {
	for i := 0; i+1 < len(members); i += 2 {
		out = append(out, entry{members[i], members[i+1]})
	}
	return out
}

// An entry is a complex value that is added to a list, member by member.
type entry [][2]string

func (e entry) text() []byte {
	var b bytes.Buffer
	b.WriteByte('{')
	for i, m := range e {
		if i > 0 {
			b.WriteByte(',')
		}
		name, _ := json.Marshal(m[0]) // a text always marshals
		value, _ := json.Marshal(m[1])
		b.Write(name)
		b.WriteByte(':')
		b.Write(value)
	}
	b.WriteByte('}')
	return b.Bytes()
}

// list takes entries out of a list and adds others that have one member each.
func (t *jsonText) list(member string, gone []bool, add [][2]string) error {
	var entries []entry
	for _, a := range add {
		entries = append(entries, entry{a})
	}
	return t.listOf(member, gone, entries)
}

// listOf takes entries out of a list, those that are gone by their numbers, and
// adds others, in O(the list). A single value where a list is usual becomes one.
func (t *jsonText) listOf(member string, gone []bool, add []entry) error {
	v, ok, err := t.value().Find(member)
	if err != nil || !slices.Contains(gone, true) && len(add) == 0 {
		return err
	}
	if !ok || v.Type == 0 { // missing, or null
		var b bytes.Buffer
		b.WriteByte('[')
		for i, e := range add {
			if i > 0 {
				b.WriteByte(',')
			}
			b.Write(e.text())
		}
		b.WriteByte(']')
		return t.setRaw([]string{member}, b.Bytes())
	}
	entries := v.List()
	whole := t.text[v.From:v.To]
	if !v.IsArray() {
		whole = slices.Concat([]byte("["), whole, []byte("]"))
		v.From-- // as if the bracket had stood there
	}
	base := v.From
	var b bytes.Buffer
	b.WriteByte('[')
	at, written := 1, 0
	var first, between []byte
	for i, e := range entries {
		lead := whole[at : e.From-base]
		if i == 0 {
			first = lead
		} else {
			between = lead
		}
		at = e.To - base
		if gone[i] {
			continue
		}
		if written == 0 {
			lead = first
		}
		b.Write(lead)
		b.Write(whole[e.From-base : e.To-base])
		written++
	}
	if between == nil {
		between = slices.Concat([]byte(","), first)
	}
	for _, e := range add {
		text := e.text()
		if len(entries) > 0 && !entries[0].IsObject() { // plain names
			text, _ = json.Marshal(e[len(e)-1][1])
		}
		lead := between
		if written == 0 {
			lead = first
		}
		b.Write(lead)
		like := []byte(nil)
		if len(entries) > 0 {
			like = []byte(entries[0].Raw)
		}
		b.Write(layout(text, like, first, t.end))
		written++
	}
	b.Write(whole[at:])
	from, to := v.From, v.To
	if !v.IsArray() {
		from++
	}
	t.put(from, to, b.Bytes())
	return nil
}

// layout lays an element out as another one is: on lines of its own, with
// spaces, or without any. space is what stands before it.
func layout(element, like, space []byte, end string) []byte {
	var b bytes.Buffer
	line := space[bytes.LastIndexByte(space, '\n')+1:]
	if i := bytes.IndexByte(like, '\n'); bytes.HasPrefix(like, []byte("{")) && (i == 1 || i == 2) {
		rest := like[i+1:]
		inner := rest[:len(rest)-len(bytes.TrimLeft(rest, " \t"))]
		if json.Indent(&b, element, string(line), string(bytes.TrimPrefix(inner, line))) == nil {
			return bytes.ReplaceAll(b.Bytes(), []byte("\n"), []byte(end))
		}
		b.Reset()
	}
	if bytes.Contains(like, []byte(`": `)) {
		// One line with spaces: indent to lines, then join them.
		if json.Indent(&b, element, "", "") == nil {
			s := strings.ReplaceAll(b.String(), ",\n", ", ")
			return []byte(strings.ReplaceAll(s, "\n", ""))
		}
	}
	return element
}
