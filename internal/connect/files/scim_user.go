package files

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"github.com/tidwall/gjson"
	"github.com/tidwall/sjson"

	"pravet/internal/core/model"
	"pravet/internal/export"
)

// user writes the changed values of one user.
func (w *scimWriter) user(raw []byte, x *edit) (out []byte, err error) {
	out = slices.Clone(raw)
	for _, a := range w.files.App.Attrs {
		if v, ok := x.attrs[a.Name]; ok {
			if out, err = setValue(out, export.SCIMPath(w.files.Spec, a.Name), v); err != nil {
				return nil, err
			}
		}
	}
	said := gjson.GetBytes(out, "active").Exists()
	if open, err := export.SCIMOpen(out); x.active != nil && (err != nil || open != *x.active || x.create && !said) {
		if out, err = sjson.SetBytes(out, "active", *x.active); err != nil {
			return nil, err
		}
	}
	lists := map[model.Kind]string{model.License: "entitlements", model.Role: "roles"}
	if !w.hasGroups {
		lists[model.Group] = "groups"
	}
	for _, kind := range []model.Kind{model.License, model.Group, model.Role} {
		path, ok := lists[kind]
		if !ok {
			continue
		}
		names := listNames(out, path, kind)
		keep, add := x.list(kind, names)
		if out, err = removeNames(out, path, names, keep); err != nil {
			return nil, err
		}
		for _, name := range add {
			v := map[string]string{"value": name}
			if kind == model.Group {
				v["display"] = name
			}
			if out, err = appendValue(out, path, v); err != nil {
				return nil, err
			}
		}
	}
	return out, nil
}

// listNames reads the names of a list as the reader of exports does, one for
// each entry.
func listNames(raw []byte, path string, kind model.Kind) []string {
	var out []string
	for _, v := range gjson.GetBytes(raw, path).Array() {
		name := v.String()
		if v.IsObject() {
			first, second := "value", "display"
			if kind == model.Group {
				first, second = second, first
			}
			if name = v.Get(first).String(); name == "" {
				name = v.Get(second).String()
			}
		}
		out = append(out, name)
	}
	return out
}

func removeNames(raw []byte, path string, names []string, keep func(string) bool) (_ []byte, err error) {
	for i := len(names) - 1; i >= 0; i-- {
		if !keep(names[i]) {
			if raw, err = sjson.DeleteBytes(raw, fmt.Sprintf("%s.%d", path, i)); err != nil {
				return nil, err
			}
		}
	}
	return raw, nil
}

// setValue sets, or with "" takes away, an attribute's value: within a list,
// that of the primary entry or the first.
func setValue(raw []byte, path, v string) ([]byte, error) {
	is := gjson.GetBytes(raw, path)
	if export.SCIMValue(raw, path) == v {
		return raw, nil
	}
	multi := path == "emails" || path == "phoneNumbers" || is.IsArray()
	switch {
	case multi && len(is.Array()) > 0:
		at := slices.IndexFunc(is.Array(), func(x gjson.Result) bool { return x.Get("primary").Bool() })
		at = max(at, 0)
		if v == "" {
			return sjson.DeleteBytes(raw, fmt.Sprintf("%s.%d", path, at))
		}
		return sjson.SetBytes(raw, fmt.Sprintf("%s.%d.value", path, at), v)
	case v == "":
		return sjson.DeleteBytes(raw, path)
	case multi:
		text, err := json.Marshal(v)
		if err != nil {
			return nil, err
		}
		return sjson.SetRawBytes(raw, path, []byte(`[{"value":`+string(text)+`,"primary":true}]`))
	}
	return sjson.SetBytes(raw, path, v)
}

// appendValue adds an entry to a list, laid out as the entries before it.
func appendValue(raw []byte, path string, v map[string]string) ([]byte, error) {
	l := gjson.GetBytes(raw, path)
	entries := l.Array()
	if !l.IsArray() || len(entries) == 0 || l.Index == 0 {
		return sjson.SetBytes(raw, path, []any{v})
	}
	var text []byte
	var err error
	if entries[0].IsObject() {
		text, err = json.Marshal(v)
	} else {
		text, err = json.Marshal(v["value"])
	}
	if err != nil {
		return nil, err
	}
	return splice(raw, l.Index, l.Index+len(l.Raw), text), nil
}

// splice puts one more element at the end of the list that lies between from
// and to in raw, laid out as the last one is.
func splice(raw []byte, from, to int, element []byte) []byte {
	body := bytes.TrimRight(raw[from:to-1], " \t\r\n")
	lead := raw[from+1:]
	space := lead[:len(lead)-len(bytes.TrimLeft(lead, " \t\r\n"))]
	element = layout(element, bytes.TrimLeft(raw[from+1:to-1], " \t\r\n"), space)
	var b bytes.Buffer
	b.Write(raw[:from+len(body)])
	if len(bytes.TrimSpace(body)) > 1 {
		b.WriteByte(',')
		if i := bytes.LastIndexByte(space, '\n'); i < 0 && len(space) == 0 && bytes.Contains(body, []byte(", ")) {
			b.WriteByte(' ')
		}
	}
	b.Write(space)
	b.Write(element)
	b.Write(raw[from+len(body):])
	return b.Bytes()
}

// layout lays an element out as another one is: on lines of its own, with
// spaces, or without any.
func layout(element, like, space []byte) []byte {
	var b bytes.Buffer
	line := space[bytes.LastIndexByte(space, '\n')+1:]
	if i := bytes.IndexByte(like, '\n'); bytes.HasPrefix(like, []byte("{")) && i == 1 || i == 2 {
		rest := like[i+1:]
		inner := rest[:len(rest)-len(bytes.TrimLeft(rest, " \t"))]
		if json.Indent(&b, element, string(line), string(bytes.TrimPrefix(inner, line))) == nil {
			return b.Bytes()
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
