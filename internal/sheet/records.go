package sheet

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/go-ldap/ldif"

	"pravet/internal/core/model"
	"pravet/internal/core/plain"
	"pravet/internal/source"
)

// A record is one person of a file that is no CSV: values by the names of attributes.
type record struct {
	line   int
	values map[string]string
}

// lay puts records into the table; columns come in the order in which they were first seen.
func (t *Table) lay(records []record, order []string) {
	t.Header = order
	for _, r := range records {
		row := Row{Line: r.line, Cells: make([]string, len(order))}
		for i, name := range order {
			row.Cells[i] = r.values[name]
		}
		t.Rows = append(t.Rows, row)
	}
}

// ldif reads entries (RFC 2849); of an attribute with several values the first counts.
func (t *Table) ldif(text []byte) error {
	var parsed ldif.LDIF
	if err := ldif.Unmarshal(bytes.NewReader(text), &parsed); err != nil {
		return source.NewProblem(
			model.Pos{File: t.File},
			"not-ldif",
			"this is not LDIF: "+err.Error(),
			"export it again",
		)
	}
	lines := dnLines(text)
	var records []record
	var order []string
	seen := map[string]bool{}
	for i, e := range parsed.Entries {
		if e.Entry == nil {
			return source.NewProblem(
				model.Pos{File: t.File},
				"not-ldif",
				"this is a file of changes, and entries are expected",
				"export entries",
			)
		}
		r := record{values: map[string]string{}}
		if i < len(lines) {
			r.line = lines[i]
		}
		for _, a := range e.Entry.Attributes {
			if len(a.Values) == 0 || strings.EqualFold(a.Name, "objectClass") {
				continue
			}
			if !seen[a.Name] {
				seen[a.Name] = true
				order = append(order, a.Name)
			}
			r.values[a.Name] = a.Values[0]
		}
		records = append(records, r)
	}
	t.lay(records, order)
	return nil
}

// dnLines are the lines in which entries begin.
func dnLines(text []byte) (out []int) {
	line := 0
	for row := range bytes.Lines(text) {
		line++
		if len(row) > 3 && bytes.EqualFold(row[:3], []byte("dn:")) {
			out = append(out, line)
		}
	}
	return out
}

// enterprise is the schema whose attributes are those of an employee (RFC 7643 §4.3).
const enterprise = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"

// scim reads a list of users: a ListResponse (RFC 7644 §3.4.2), or a plain JSON array.
func (t *Table) scim(text []byte) error {
	var list struct {
		Resources []json.RawMessage
	}
	raw := bytes.TrimSpace(text)
	var err error
	if raw[0] == '[' {
		err = json.Unmarshal(raw, &list.Resources)
	} else {
		err = json.Unmarshal(raw, &list)
	}
	if err != nil {
		pos := model.Pos{File: t.File}
		var syntax *json.SyntaxError
		if errors.As(err, &syntax) {
			pos = at(t.File, text, int(min(syntax.Offset, int64(len(text)))))
		}
		return source.NewProblem(pos, "not-json", "this is not JSON of SCIM: "+plain.JSON(err).Error(), "export it again")
	}
	if list.Resources == nil {
		return source.NewProblem(
			model.Pos{File: t.File, Line: 1},
			"not-scim",
			"there are no Resources",
			"a list of users is expected (RFC 7644 §3.4.2)",
		)
	}
	var records []record
	var order []string
	seen := map[string]bool{}
	from, line := 0, 1 // what was looked at, and its last line
	for _, one := range list.Resources {
		r := record{values: map[string]string{}}
		if i := bytes.Index(text[from:], one); i >= 0 {
			line += bytes.Count(text[from:from+i], []byte{'\n'})
			r.line = line
			line += bytes.Count(one, []byte{'\n'})
			from += i + len(one)
		}
		var fields map[string]any
		if err := json.Unmarshal(one, &fields); err != nil {
			return source.NewProblem(
				model.Pos{File: t.File, Line: r.line},
				"not-scim",
				"this is no user",
				"a JSON object is expected",
			)
		}
		flatten(fields, "", func(name, value string) {
			if !seen[name] {
				seen[name] = true
				order = append(order, name)
			}
			r.values[name] = value
		})
		records = append(records, r)
	}
	t.lay(records, order)
	return nil
}

// flatten gives the attributes of a user under the names that people have them by: those of
// complex attributes with a dot, of a list the primary value, of the enterprise schema as if
// they were the user's own.
func flatten(fields map[string]any, before string, give func(name, value string)) {
	for _, name := range slices.Sorted(maps.Keys(fields)) {
		switch v := fields[name].(type) {
		case nil:
		case map[string]any:
			switch {
			case name == enterprise:
				flatten(v, "", give)
			case name == "meta":
			case name == "manager":
				give(name, fmt.Sprint(v["value"]))
			default:
				flatten(v, before+name+".", give)
			}
		case []any:
			if value, ok := primary(v); ok {
				switch name {
				case "emails":
					give("email", value)
				case "phoneNumbers":
					give("phone", value)
				}
			}
		default:
			give(before+name, fmt.Sprint(v))
		}
	}
}

func primary(list []any) (string, bool) {
	value, found := "", false
	for _, x := range list {
		m, ok := x.(map[string]any)
		if !ok {
			continue
		}
		if is, _ := m["primary"].(bool); is || !found {
			value, found = fmt.Sprint(m["value"]), true
		}
	}
	return value, found
}
