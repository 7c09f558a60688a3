package export

import (
	"fmt"
	"slices"
	"strings"

	"github.com/tidwall/gjson"
)

// A Value is a JSON value and where it stands in the resource that it is of.
type Value struct {
	gjson.Result
	From, To int // bytes
}

// A Member is a member of an object. Its name is found without regard to case
// (RFC 7643 §2.1).
type Member struct {
	Name string
	From int // where its name begins
	Value
}

// An ObjectError is what is wrong at an offset of a resource.
type ObjectError struct {
	Offset int
	Says   string
}

func (e *ObjectError) Error() string { return e.Says }

// Members lists the members of an object as they stand in it. A name that stands
// twice is an error: what one of them says would be lost.
func (v Value) Members() (out []Member, err error) {
	if !v.IsObject() {
		return nil, nil
	}
	v.ForEach(func(key, value gjson.Result) bool {
		m := Member{key.String(), key.Index, at(value)}
		if slices.ContainsFunc(out, func(x Member) bool { return strings.EqualFold(x.Name, m.Name) }) {
			err = &ObjectError{m.From, fmt.Sprintf("the attribute %s stands twice in one resource", known(m.Name))}
			return false
		}
		out = append(out, m)
		return true
	})
	return out, err
}

// known is an attribute's name for a message, unless it is too long for one.
func known(name string) string {
	if len(name) > 100 {
		return "of that name"
	}
	return name
}

// at places a value that gjson has found in a resource.
func at(r gjson.Result) Value { return Value{r, r.Index, r.Index + len(r.Raw)} }

// Resource is a resource as it was read: valid JSON.
func Resource(raw []byte) Value {
	r := gjson.ParseBytes(raw)
	return Value{r, 0, len(raw)}
}

// Find follows names from an object to a value; exists is false where it is not
// there.
func (v Value) Find(path ...string) (_ Value, exists bool, err error) {
	for _, name := range path {
		members, err := v.Members()
		if err != nil {
			return Value{}, false, err
		}
		i := slices.IndexFunc(members, func(m Member) bool { return strings.EqualFold(m.Name, name) })
		if i < 0 {
			return Value{}, false, nil
		}
		v = members[i].Value
	}
	return v, true, nil
}

// List is the entries of a list. A single value stands for a list of one, and
// null for an empty one.
func (v Value) List() (out []Value) {
	switch {
	case v.Type == gjson.Null:
		return nil
	case !v.IsArray():
		return []Value{v}
	}
	v.ForEach(func(_, value gjson.Result) bool {
		out = append(out, at(value))
		return true
	})
	return out
}

// Primary is the number of the primary entry of a list, else of the first, or -1
// (RFC 7643 §2.4).
func Primary(list []Value) int {
	for i, v := range list {
		if p, ok, err := v.Find("primary"); err == nil && ok && p.Bool() {
			return i
		}
	}
	return min(len(list), 1) - 1
}

// Text is what a value says: of a list the primary entry, of an entry its value.
func (v Value) Text() (string, error) {
	if v.IsArray() {
		list := v.List()
		i := Primary(list)
		if i < 0 {
			return "", nil
		}
		v = list[i]
	}
	if v.IsObject() {
		value, ok, err := v.Find("value")
		if err != nil || !ok {
			return "", err
		}
		v = value
	}
	if v.Type == gjson.Null {
		return "", nil
	}
	return v.String(), nil
}

// Name is what an entry of a list of names says: the first of some members that
// has a value, or the entry itself.
func (v Value) Name(members ...string) (string, error) {
	if !v.IsObject() {
		return v.String(), nil
	}
	for _, m := range members {
		value, ok, err := v.Find(m)
		if err != nil {
			return "", err
		}
		if text := value.String(); ok && text != "" {
			return text, nil
		}
	}
	return "", nil
}
