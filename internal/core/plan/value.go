package plan

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"

	"pravet/internal/core/model"
)

// A Value is what a change starts from or leads to. It is one of:
//
//	nothing        an attribute without a value
//	a text         the value of an attribute; of a hand-over, who gets it
//	a list         of a definition, its permissions or what it brings; of a hand-over, what is handed over
//	fields         of an account that is to be made, its attributes
//	a definition   of a thing that is to be defined
//
// In a plan file it is null (or left out), a string, a list of strings or an object.
type Value struct {
	text   string
	list   []string
	fields map[string]string
	def    *Definition
}

// A Definition is a group or role as it is to be defined.
type Definition struct {
	Brings      []string `json:"brings"`      // for example: role seller
	Permissions []string `json:"permissions"` // in the application's own words
	Title       string   `json:"title"`
}

// Text returns a text as a value; "" is no value.
func Text(s string) Value { return Value{text: s} }

// List returns a list as a value, also an empty one.
func List(names []string) Value {
	if names == nil {
		names = []string{}
	}
	return Value{list: names}
}

// Fields returns the attributes of an account as a value.
func Fields(attrs map[string]string) Value {
	if attrs == nil {
		attrs = map[string]string{}
	}
	return Value{fields: attrs}
}

// Defined returns a definition as a value.
func Defined(d *model.Definition) Value {
	whole := &Definition{Title: d.Title, Permissions: d.Permissions, Brings: d.Brings}
	if whole.Permissions == nil {
		whole.Permissions = []string{}
	}
	if whole.Brings == nil {
		whole.Brings = []string{}
	}
	return Value{def: whole}
}

// IsZero reports whether there is no value.
func (v Value) IsZero() bool { return v.text == "" && v.list == nil && v.fields == nil && v.def == nil }

// Text is the value as a text: "" for anything else.
func (v Value) Text() string { return v.text }

// List is the value as a list: nil for anything else.
func (v Value) List() []string { return v.list }

// Fields are the attributes of an account that is to be made: nil for any other value.
func (v Value) Fields() map[string]string { return v.fields }

// Definition is the definition that is to be made: nil for any other value.
func (v Value) Definition() *Definition { return v.def }

// Equal reports whether two values say the same.
func (v Value) Equal(w Value) bool {
	if v.def != nil && w.def != nil {
		return v.def.Title == w.def.Title && slices.Equal(v.def.Permissions, w.def.Permissions) &&
			slices.Equal(v.def.Brings, w.def.Brings)
	}
	return v.text == w.text && slices.Equal(v.list, w.list) && maps.Equal(v.fields, w.fields) &&
		(v.list == nil) == (w.list == nil) && (v.fields == nil) == (w.fields == nil) && v.def == nil && w.def == nil
}

// String is the value in words: a text as it is, a list in brackets, and "<nil>" for no value. The
// ids of changes depend on it.
func (v Value) String() string {
	switch {
	case v.IsZero():
		return "<nil>"
	case v.list != nil:
		return fmt.Sprint(v.list)
	case v.fields != nil:
		return fmt.Sprint(v.fields)
	case v.def != nil:
		return fmt.Sprint(*v.def)
	}
	return v.text
}

// MarshalJSON writes a value.
func (v Value) MarshalJSON() ([]byte, error) {
	switch {
	case v.list != nil:
		return jsonOf(v.list)
	case v.fields != nil:
		return jsonOf(v.fields)
	case v.def != nil:
		return jsonOf(v.def)
	case v.text == "":
		return []byte("null"), nil
	case standsAsIs(v.text):
		return append(append(append(make([]byte, 0, len(v.text)+2), '"'), v.text...), '"'), nil
	}
	return jsonOf(v.text)
}

// standsAsIs reports whether a text stands in JSON as it is.
func standsAsIs(text string) bool {
	for i := range len(text) {
		if c := text[i]; c < ' ' || c > '~' || c == '"' || c == '\\' {
			return false
		}
	}
	return true
}

// UnmarshalJSON reads a value. An object is a definition if it has exactly the members of one.
func (v *Value) UnmarshalJSON(data []byte) error {
	*v = Value{}
	if len(data) == 0 {
		return fmt.Errorf("a value of a change is missing")
	}
	switch data[0] {
	case 'n':
		return nil
	case '"':
		return json.Unmarshal(data, &v.text)
	case '[':
		v.list = []string{}
		return json.Unmarshal(data, &v.list)
	}
	var members map[string]json.RawMessage
	if err := json.Unmarshal(data, &members); err != nil {
		return err
	}
	if b, ok := members["brings"]; ok && len(b) > 0 && b[0] == '[' {
		v.def = &Definition{}
		return json.Unmarshal(data, v.def)
	}
	v.fields = map[string]string{}
	return json.Unmarshal(data, &v.fields)
}
