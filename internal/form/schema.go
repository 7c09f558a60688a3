package form

import (
	"bytes"
	"encoding/json"
	"slices"
)

// Regular expressions of what files write, as JSON Schema has them.
const (
	durationPattern = `^P([0-9]+Y)?([0-9]+M)?([0-9]+W)?([0-9]+D)?$`
	timePattern     = `^([0-9.]+(h|m|s|ms|us|µs|ns))+$`
	dayPattern      = `^[0-9]{4}-[0-9]{2}-[0-9]{2}$`
	limitPattern    = `^[0-9]+$|^[0-9]+(\.[0-9]+)? ?%$`
	secretPattern   = `^(env|file|command):.`
	pricePattern    = `^[0-9]{1,12}(\.[0-9]{1,4})? [A-Z]{3}/(month|year)$`
)

// A File is a kind of file: its name, where such files stand, and the object that they hold.
type File struct {
	Name  string // of its schema
	Title string // PATTERN: what it is
	Is    *Object
}

// Schema is the JSON Schema (draft 2020-12) of a kind of file. Each object is defined once, and named by its heading in
// the tables.
func (f File) Schema() ([]byte, error) {
	w := &writer{names: map[*Object]string{}, taken: map[string]bool{}}
	root := w.object(f.Is)
	s := members{
		{"$schema", "https://json-schema.org/draft/2020-12/schema"},
		{"$id", "https://pravet.example/schema/" + f.Name + ".json"},
		{"title", f.Title},
	}
	s = append(s, root...)
	if len(w.defs) > 0 {
		s = append(s, member{"$defs", w.defs})
	}
	text, err := json.Marshal(s)
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	if err := json.Indent(&out, text, "", "  "); err != nil {
		return nil, err
	}
	out.WriteByte('\n')
	return out.Bytes(), nil
}

// A writer writes the schemas of objects, each once.
type writer struct {
	names map[*Object]string
	taken map[string]bool
	defs  members
}

// ref refers to an object, which is written where it was not yet.
func (w *writer) ref(o *Object) members {
	name, ok := w.names[o]
	if !ok {
		for name = anchor(o.Name); w.taken[name]; {
			name += "-"
		}
		w.names[o], w.taken[name] = name, true
		at := len(w.defs)
		w.defs = append(w.defs, member{name, nil})
		w.defs[at].value = w.object(o)
	}
	return members{{"$ref", "#/$defs/" + name}}
}

// members are the members of a JSON object in their order.
type members []member

type member struct {
	name  string
	value any
}

// MarshalJSON writes the members in their order.
func (m members) MarshalJSON() ([]byte, error) {
	var b bytes.Buffer
	b.WriteByte('{')
	for i, x := range m {
		if i > 0 {
			b.WriteByte(',')
		}
		for j, v := range []any{x.name, x.value} {
			if j > 0 {
				b.WriteByte(':')
			}
			e := json.NewEncoder(&b)
			e.SetEscapeHTML(false)
			if err := e.Encode(v); err != nil {
				return nil, err
			}
			b.Truncate(b.Len() - 1) // the end of line
		}
	}
	b.WriteByte('}')
	return b.Bytes(), nil
}

// object is what a schema says of an object.
func (w *writer) object(o *Object) members {
	var out members
	if len(o.Needed()) == 0 && len(o.Some) == 0 {
		out = append(out, member{"type", []string{"object", "null"}})
	} else {
		out = append(out, member{"type", "object"})
	}
	if o.Doc != "" {
		out = append(out, member{"description", o.Doc})
	}
	if len(o.Keys) > 0 {
		var props members
		for _, k := range o.Keys {
			props = append(props, member{k.Name, w.shape(k.Is, k.Doc, k.Need)})
		}
		out = append(out, member{"properties", props})
	}
	if o.Rest != nil && o.Fits != "" {
		out = append(out, member{"patternProperties", members{{o.Fits, w.shape(*o.Rest, "", false)}}})
	}
	if o.Rest != nil && o.Fits == "" {
		out = append(out, member{"additionalProperties", w.shape(*o.Rest, "", false)})
	} else {
		out = append(out, member{"additionalProperties", false})
	}
	if need := o.Needed(); len(need) > 0 {
		out = append(out, member{"required", need})
	}
	if o.Not != nil {
		out = append(out, member{"propertyNames", members{{"not", members{{"enum", o.Not}}}}})
	}
	return append(out, o.conditions()...)
}

// conditions is what a schema says of keys that depend on others.
func (o *Object) conditions() (out members) {
	var all []members
	for _, c := range o.Some {
		word := "anyOf"
		if c.Just {
			word = "oneOf"
		}
		var of []members
		for _, k := range c.Keys {
			of = append(of, members{{"required", []string{k}}})
		}
		all = append(all, members{{word, of}})
	}
	for _, pair := range o.Apart {
		not := members{{"required", pair[:]}}
		var props members
		for _, name := range pair {
			if o.Key(name).Is.Kind == Bool {
				props = append(props, member{name, members{{"const", true}}})
			}
		}
		if len(props) > 0 {
			not = append(not, member{"properties", props})
		}
		all = append(all, members{{"not", not}})
	}
	for _, m := range all {
		if len(all) == 1 {
			out = append(out, m...)
		}
	}
	if len(all) > 1 {
		out = append(out, member{"allOf", all})
	}
	var with members
	for _, k := range o.Keys {
		if len(k.With) == 0 {
			continue
		}
		var of []members
		for _, key := range keysOf(k.With) {
			m := members{{"required", []string{key}}}
			if is := o.valuesOf(k.With, key); is != nil {
				m = append(m, member{"properties", members{{key, members{{"enum", is}}}}})
			}
			of = append(of, m)
		}
		if len(of) == 1 {
			with = append(with, member{k.Name, of[0]})
		} else {
			with = append(with, member{k.Name, members{{"anyOf", of}}})
		}
	}
	if len(with) > 0 {
		out = append(out, member{"dependentSchemas", with})
	}
	return out
}

// keysOf are the keys of conditions, each once.
func keysOf(all []Cond) (out []string) {
	for _, c := range all {
		if !slices.Contains(out, c.Key) {
			out = append(out, c.Key)
		}
	}
	return out
}

// valuesOf are the values that conditions ask for of a key, nil for any.
func (o *Object) valuesOf(all []Cond, key string) (out []any) {
	for _, c := range all {
		switch {
		case c.Key != key || c.Value == "":
		case o.Key(key).Is.Kind == Bool:
			out = append(out, c.Value == "true")
		default:
			out = append(out, c.Value)
		}
	}
	return out
}

// shape is what a schema says of what stands somewhere. What need not be there may be left empty.
func (w *writer) shape(s Shape, doc string, need bool) members {
	out := w.plain(s, need)
	if doc == "" {
		doc = s.Is
	}
	if doc != "" {
		at := min(1, len(out))
		out = slices.Insert(out, at, member{"description", doc})
	}
	return out
}

func (w *writer) plain(s Shape, need bool) members {
	text := func(pattern string) members { return members{{"type", "string"}, {"pattern", pattern}} }
	empty := func(types ...string) any {
		if !need && s.Least == 0 {
			types = append(types, "null")
		}
		if len(types) == 1 {
			return types[0]
		}
		return types
	}
	switch s.Kind {
	case Scalar:
		out := members{{"type", empty("string", "number", "boolean")}}
		if s.Pattern != "" {
			out = append(out, member{"pattern", s.Pattern})
		} else if need {
			out = append(out, member{"minLength", 1})
		}
		return out
	case Word:
		return members{{"enum", s.Words}}
	case Whole:
		out := members{{"type", "integer"}, {"minimum", s.Least}}
		if s.Most > 0 {
			out = append(out, member{"maximum", s.Most})
		}
		return out
	case Positive:
		return members{{"type", "number"}, {"exclusiveMinimum", 0}}
	case Bool:
		return members{{"type", "boolean"}}
	case Filter:
		return members{{"type", "string"}, {"minLength", 1}}
	case Duration:
		return text(durationPattern)
	case Time:
		return text(timePattern)
	case Day:
		return append(members{{"type", empty("string")}}, member{"pattern", dayPattern})
	case Limit:
		return members{{"anyOf", []members{{{"type", "integer"}, {"minimum", 0}}, text(limitPattern)}}}
	case Secret:
		return text(secretPattern)
	case Price:
		return text(pricePattern)
	case Char:
		return members{{"type", "string"}, {"minLength", 1}, {"maxLength", 1}}
	case List, Set:
		out := members{{"type", empty("array")}}
		if s.Least > 0 {
			out = append(out, member{"minItems", s.Least})
		}
		item := Shape{Kind: Scalar}
		switch {
		case s.Words != nil:
			item = OneOf(s.Words...)
		case s.Item != nil:
			item = *s.Item
		}
		out = append(out, member{"items", w.shape(item, "", false)})
		if s.Kind == Set {
			out = append(out, member{"uniqueItems", true})
		}
		return out
	case Map:
		out := members{{"type", empty("object")}}
		if s.Least > 0 {
			out = append(out, member{"minProperties", s.Least})
		}
		return append(out, member{"additionalProperties", w.shape(*s.Item, "", false)})
	case Mapping:
		return w.ref(s.Object)
	case Either:
		var of []members
		for _, x := range s.Of {
			of = append(of, w.shape(x, "", need))
		}
		return members{{"anyOf", of}}
	}
	panic("form: a shape without a kind")
}
