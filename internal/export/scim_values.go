package export

import (
	"errors"
	"fmt"
	"net/url"
	"path"
	"strings"

	"github.com/tidwall/gjson"

	"pravet/internal/core/model"
)

// Enterprise is the schema of the enterprise extension (RFC 7643 §4.3).
const Enterprise = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"

// SCIMPath is where an attribute is in a SCIM user, name by name: as the file's
// columns say, else where RFC 7643 §4.1 and §4.3 put it. An extension's attribute
// is below the name of its schema.
func SCIMPath(spec *Spec, attr string) []string {
	name := attr
	if c := spec.Column(attr); c != nil {
		name = c.Name
	} else {
		switch attr {
		case "email":
			return []string{"emails"}
		case "phone":
			return []string{"phoneNumbers"}
		case "department", "division", "organization", "costCenter", "employeeNumber":
			return []string{Enterprise, attr}
		case "manager":
			return []string{Enterprise, "manager", "value"}
		}
	}
	var out []string
	if at := strings.LastIndexByte(name, ':'); strings.HasPrefix(name, "urn:") && at > 0 {
		out, name = append(out, name[:at]), name[at+1:]
	}
	return append(out, strings.Split(name, ".")...)
}

// SCIMText reads one value of a user; "" where there is none.
func SCIMText(user Value, path []string) (string, error) {
	v, ok, err := user.Find(path...)
	if err != nil || !ok {
		return "", err
	}
	return v.Text()
}

// SCIMAlso are the values of a list of a user (emails, phoneNumbers) besides the one that SCIMText gives, where none of
// them is primary, so that which of them comes first means nothing.
func SCIMAlso(user Value, path []string) (out []string, err error) {
	if len(path) != 1 || path[0] != "emails" && path[0] != "phoneNumbers" {
		return nil, nil
	}
	v, ok, err := user.Find(path[0])
	if err != nil || !ok {
		return nil, err
	}
	for i, entry := range v.List() {
		if !entry.IsObject() {
			continue
		}
		primary, is, err := entry.Find("primary")
		if err != nil {
			return nil, err
		}
		if is && primary.Bool() {
			return nil, nil
		}
		text, err := entry.Name("value")
		if err != nil {
			return nil, err
		}
		if i > 0 && text != "" {
			out = append(out, strings.Clone(text))
		}
	}
	return out, nil
}

// NamesOf are the members by which the entries of a user's list of a kind are
// named: groups as they are displayed.
func NamesOf(kind model.Kind) (list string, members []string) {
	switch kind {
	case model.Group:
		return "groups", []string{"display", "value"}
	case model.Role:
		return "roles", []string{"value", "display"}
	}
	return "entitlements", []string{"value", "display"}
}

// SCIMNames reads a user's list of a kind: of groups those that it is in itself, where the
// list says which (RFC 7643 §4.1.2).
func SCIMNames(user Value, kind model.Kind) (out []string, err error) {
	list, members := NamesOf(kind)
	v, ok, err := user.Find(list)
	if err != nil || !ok {
		return nil, err
	}
	for _, entry := range v.List() {
		if kind == model.Group && entry.IsObject() {
			how, _, err := entry.Find("type")
			if err != nil {
				return nil, err
			}
			if strings.EqualFold(how.String(), "indirect") {
				continue
			}
		}
		name, err := entry.Name(members...)
		if err != nil {
			return nil, err
		}
		if name != "" {
			out = append(out, name)
		}
	}
	return out, nil
}

// SCIMKind reports whether a resource is a User or a Group, by its schemas, its
// type or its shape. Anything else is an error, as nobody could say what would
// be lost by passing it over.
func SCIMKind(v Value) (string, error) {
	if !v.IsObject() {
		return "", errors.New("a resource is expected here, an object in braces")
	}
	members, err := v.Members()
	if err != nil {
		return "", err
	}
	has := func(name string) Value {
		for _, m := range members {
			if strings.EqualFold(m.Name, name) {
				return m.Value
			}
		}
		return Value{}
	}
	schemas := strings.ToLower(has("schemas").Raw)
	kind, _, err := has("meta").Find("resourceType")
	switch {
	case err != nil:
		return "", err
	case strings.Contains(schemas, "core:2.0:group"), strings.EqualFold(kind.String(), "Group"):
		return "Group", nil
	case strings.Contains(schemas, "core:2.0:user"), strings.EqualFold(kind.String(), "User"), has("userName").Exists():
		return "User", nil
	case has("members").Exists():
		return "Group", nil
	}
	return "", errors.New("this resource is neither a user nor a group, by its schemas, its type or its shape")
}

// SCIMOpen reports whether a user may sign in: whatever active says, true where it
// says nothing. Some applications write it as a text.
func SCIMOpen(user Value) (bool, error) {
	a, ok, err := user.Find("active")
	switch {
	case err != nil:
		return false, err
	case !ok || a.Type == gjson.Null || strings.EqualFold(a.String(), "true"):
		return true, nil
	case strings.EqualFold(a.String(), "false"):
		return false, nil
	}
	return false, &ObjectError{a.From, "active is neither true nor false here"}
}

// SCIMState is the state of a user: by the words of status where the columns name one,
// else by active.
func SCIMState(spec *Spec, user Value) (model.State, error) {
	c := spec.Column(Status)
	if c == nil {
		open, err := SCIMOpen(user)
		return model.StateOf(open), err
	}
	path := SCIMPath(spec, Status)
	text, err := SCIMText(user, path)
	if err != nil {
		return model.NoAccount, err
	}
	state := c.StateOf(text)
	if state == model.NoAccount {
		v, _, err := user.Find(path...)
		if err != nil {
			return state, err
		}
		return state, &ObjectError{v.From, fmt.Sprintf("%s is %s here", c.Name, c.unknownWord(text))}
	}
	return state, nil
}

// SCIMID is by what groups name a user or a group: the id, else the user name or
// how the group is displayed.
func SCIMID(v Value) (string, error) { return v.Name("id", "userName", "displayName") }

// A Reference is a member of a group: a user, or another group, by its id.
type Reference struct {
	ID    string
	Group bool // it says that it is a group
	Value
}

// References reads the members of a group. One that does not say which user or
// group it is is an error.
func References(group Value) (out []Reference, err error) {
	v, ok, err := group.Find("members")
	if err != nil || !ok {
		return nil, err
	}
	for _, m := range v.List() {
		x := Reference{Value: m}
		if !m.IsObject() {
			x.ID = m.String()
			out = append(out, x)
			continue
		}
		members, err := m.Members()
		if err != nil {
			return nil, err
		}
		ref := ""
		for _, a := range members {
			switch strings.ToLower(a.Name) {
			case "value":
				x.ID = a.String()
			case "$ref":
				ref = a.String()
			case "type":
				x.Group = strings.EqualFold(a.String(), "Group")
			}
		}
		x.Group = x.Group || strings.Contains(strings.ToLower(ref), "/groups/")
		if x.ID == "" && ref != "" {
			x.ID = LastOf(ref)
		}
		if x.ID == "" {
			return nil, &ObjectError{m.From, "a member has no value and no $ref, so nobody can say who it is"}
		}
		out = append(out, x)
	}
	return out, nil
}

// LastOf is the id at the end of a reference (RFC 7643 §2.3.7).
func LastOf(ref string) string {
	last := path.Base(ref)
	if u, err := url.Parse(ref); err == nil {
		last = path.Base(u.EscapedPath())
	}
	if id, err := url.PathUnescape(last); err == nil {
		last = id
	}
	return strings.Clone(last)
}
