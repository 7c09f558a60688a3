// Package form says what may stand in the files of a repository: the keys of each object, what stands at each key, what
// it needs beside it, and what it is for, in one line. Whoever reads a file asks here; the JSON Schemas of docs/schema
// (draft 2020-12) and the tables of docs/keys.md are made from it.
package form

import (
	"regexp"
	"slices"
)

// An Object is a mapping whose keys are known.
type Object struct {
	Name string // how it is spoken of, with an article: "a step"
	Doc  string // one line
	Keys []Key
	Rest *Shape   // what stands at keys of the file's own; nil where there are none
	Is   string   // what those keys are called: "a kit's name"
	Fits string   // a regular expression that those keys fit; "" for any
	Not  []string // names that those keys never are

	// Some are keys of which one has to be there, or just one.
	Some  []Choice
	whole *Object // of which it is a part
	// Apart are pairs of keys that do not go together.
	Apart [][2]string
}

// A Key is one key of an object.
type Key struct {
	Name string
	Is   Shape
	Doc  string // one line
	Need bool   // it has to be there, and not empty

	Lacks string // what is said where it is not there, "X has no KEY" unless given
	Add   string // the remedy for that, "KEY: VALUE" unless given
	With  []Cond // it stands beside one of these; nil where it stands alone
}

// A Cond is that a key is there, with a value where one is named.
type Cond struct{ Key, Value string }

// String is the condition as files write it.
func (c Cond) String() string {
	if c.Value == "" {
		return c.Key
	}
	return c.Key + ": " + c.Value
}

// With makes conditions of keys.
func With(keys ...string) (out []Cond) {
	for _, k := range keys {
		out = append(out, Cond{Key: k})
	}
	return out
}

// A Choice is a set of keys of which one has to be there.
type Choice struct {
	Keys  []string
	Just  bool   // one, and no more
	Says  string // where that is not so
	Hint  string
	Check string // the rule that is broken; missing-key unless given
}

// Key finds a key by its name, nil where the object has none.
func (o *Object) Key(name string) *Key {
	for i := range o.Keys {
		if o.Keys[i].Name == name {
			return &o.Keys[i]
		}
	}
	return nil
}

// Takes reports whether a name can be that of a key of the file's own.
func (o *Object) Takes(name string) bool {
	return o.Rest != nil && !slices.Contains(o.Not, name) &&
		(o.Fits == "" || regexp.MustCompile(o.Fits).MatchString(name))
}

// Names lists the keys in their order.
func (o *Object) Names() []string {
	out := make([]string, len(o.Keys))
	for i := range o.Keys {
		out[i] = o.Keys[i].Name
	}
	return out
}

// Needed lists the keys that have to be there.
func (o *Object) Needed() (out []string) {
	for _, k := range o.Keys {
		if k.Need {
			out = append(out, k.Name)
		}
	}
	return out
}

// Part is an object of which only some is written: nothing has to be there.
func (o *Object) Part(name, doc string) *Object {
	out := &Object{Name: name, Doc: doc, Keys: slices.Clone(o.Keys), Rest: o.Rest, Is: o.Is, Apart: o.Apart, whole: o}
	for i := range out.Keys {
		out.Keys[i].Need, out.Keys[i].With = false, nil
	}
	return out
}

// A Kind is what sort of value a shape is.
type Kind int

// The kinds of values.
const (
	Scalar   Kind = iota // a text; numbers, dates and true or false are taken as they are written
	Word                 // one of some words
	Whole                // a whole number
	Positive             // a number above nought
	Bool                 // true or false
	Filter               // a SCIM filter (RFC 7644 §3.4.2.2)
	Duration             // an ISO 8601 duration in days or longer
	Time                 // a short time: 500ms, 10s, 2m
	Day                  // YYYY-MM-DD
	Limit                // a count, or a percentage of at most 100 %
	Secret               // a reference to a secret
	Price                // an amount, a currency and a time
	Char                 // one character
	List                 // a list of one shape
	Set                  // a list of scalars, each once
	Map                  // names of the file's own, with values of one shape
	Mapping              // an object
	Either               // one of some shapes
)

// A Shape is what may stand somewhere.
type Shape struct {
	Kind    Kind
	Words   []string // of Word, and of Set where only these may stand in it
	Least   int      // of Whole the smallest number; of List, Set and Map how many at least
	Most    int      // of Whole; 0 for any number
	Example string   // of Duration
	Pattern string   // of Scalar: a regular expression
	Is      string   // of Scalar, Set and Map: what the text is, or the names are: "the id of a person"
	Item    *Shape   // of List and Map
	Object  *Object  // of Mapping
	Of      []Shape  // of Either
}

// Text is a text that is something.
func Text(is string) Shape { return Shape{Kind: Scalar, Is: is} }

// Like is a text that a regular expression fits.
func Like(is, pattern string) Shape { return Shape{Kind: Scalar, Is: is, Pattern: pattern} }

// OneOf is one of some words.
func OneOf(words ...string) Shape { return Shape{Kind: Word, Words: words} }

// AtLeast is a whole number that is not smaller.
func AtLeast(n int) Shape { return Shape{Kind: Whole, Least: n} }

// For is a duration, with an example.
func For(example string) Shape { return Shape{Kind: Duration, Example: example} }

// Names are a list of texts, each once.
func Names(is string) Shape { return Shape{Kind: Set, Is: is} }

// Many is a shape of which at least so many are listed.
func (s Shape) Many(least int) Shape {
	s.Least = least
	return s
}

// Some are a list of some words, each once.
func Some(words ...string) Shape { return Shape{Kind: Set, Words: words} }

// ListOf is a list of at least so many of a shape.
func ListOf(least int, item Shape) Shape { return Shape{Kind: List, Least: least, Item: &item} }

// MapOf are names of the file's own with a shape each.
func MapOf(is string, item Shape) Shape { return Shape{Kind: Map, Is: is, Item: &item} }

// In is an object.
func In(o *Object) Shape { return Shape{Kind: Mapping, Object: o} }

// Any is one of some shapes.
func Any(of ...Shape) Shape { return Shape{Kind: Either, Of: of} }

// Simple is a kind that needs no more said.
func Simple(k Kind) Shape { return Shape{Kind: k} }

// Has reports whether values of a kind may stand there.
func (s Shape) Has(kind Kind) bool {
	return s.Kind == kind || slices.ContainsFunc(s.Of, func(x Shape) bool { return x.Has(kind) })
}

// And is an object with more keys.
func (o *Object) And(keys ...Key) *Object {
	out := *o
	out.Keys = append(slices.Clone(o.Keys), keys...)
	return &out
}

// Open is an object that has keys of the file's own besides, with a shape.
func (o *Object) Open(is string, rest Shape) *Object {
	out := *o
	out.Rest, out.Is = &rest, is
	return &out
}

// Never is an object of whose own keys none has one of these names.
func (o *Object) Never(names ...string) *Object {
	out := *o
	out.Not = names
	return &out
}

// Called is an object that is spoken of otherwise.
func (o *Object) Called(name, doc string) *Object {
	out := *o
	out.Name, out.Doc = name, doc
	return &out
}
