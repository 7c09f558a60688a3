package desired

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	yaml "go.yaml.in/yaml/v4"

	"pravet/internal/core/day"
	"pravet/internal/core/filter"
	"pravet/internal/core/model"
	"pravet/internal/form"
	"pravet/internal/source"
)

// values are the values of an object of a file, by key. Each is read as its declaration has it; what is not so becomes
// a problem at its place, and the zero value is returned.
type values struct {
	d       *doc
	of      *form.Object
	what    string     // how the object is spoken of
	n       *yaml.Node // nil where it is not there
	lacksAt *yaml.Node // where it is said what it lacks: its name, else itself
	at      map[string]*yaml.Node
	all     []entry // in the order of the file
}

// object reads an object: keys that are not known are problems, with the nearest that is; so is what has to be there
// and is not, or may not stand beside something else. name tells one of several alike.
func (d *doc) object(n *yaml.Node, of *form.Object, name ...string) values {
	return d.read(n, n, of, name...)
}

// entry reads an object that has a name of the file's own, which is where it is missed what it lacks.
func (d *doc) entry(e entry, of *form.Object, words ...string) values {
	return d.read(e.key, e.value, of, append(words, e.name)...)
}

func (d *doc) read(place, n *yaml.Node, of *form.Object, name ...string) values {
	v := values{
		d: d, of: of, what: strings.Join(append([]string{of.Name}, name...), " "), n: n, lacksAt: place,
		at: map[string]*yaml.Node{},
	}
	known := of.Names()
	for _, e := range d.entries(n, v.what) {
		if slices.Contains(known, e.name) || of.Takes(e.name) {
			v.at[e.name] = e.value
			v.all = append(v.all, e)
			continue
		}
		d.problem(
			e.key, "unknown-key", fmt.Sprintf("%s has no key %q", v.what, e.name),
			didYouMean(e.name, known, "its keys are "),
		)
	}
	if n != nil && (n.Kind == yaml.MappingNode || n.Tag == "!!null") {
		v.conditions()
	}
	return v
}

// conditions checks which keys are there.
func (v values) conditions() {
	for i := range v.of.Keys {
		k := &v.of.Keys[i]
		n := v.at[k.Name]
		if k.Need && (empty(n) || len(n.Content) == 0 && n.Value == "" && k.Is.Kind != form.Either) {
			says, add := v.what+" has no "+k.Name, k.Name+": VALUE"
			if k.Lacks != "" {
				says = k.Lacks
			}
			if k.Add != "" {
				add = k.Add
			}
			v.d.problem(v.lacksAt, "missing-key", says, "add "+add)
		}
		if n != nil && len(k.With) > 0 && !slices.ContainsFunc(k.With, v.holds) {
			var with []string
			for _, c := range k.With {
				with = append(with, c.String())
			}
			all := strings.Join(with, " or ")
			v.d.problem(n, "missing-key", k.Name+" goes with "+all, "take it out, or add "+all)
		}
	}
	for _, c := range v.of.Some {
		given := 0
		for _, key := range c.Keys {
			if v.at[key] != nil {
				given++
			}
		}
		if given == 0 || c.Just && given > 1 {
			rule := c.Check
			if rule == "" {
				rule = "missing-key"
			}
			v.d.problem(v.lacksAt, rule, c.Says, c.Hint)
		}
	}
	for _, pair := range v.of.Apart {
		if v.is(pair[0]) && v.is(pair[1]) {
			v.d.problem(
				v.at[pair[0]], "two-rules", fmt.Sprintf("%s has both %s and %s", v.what, pair[0], pair[1]),
				"keep one of them",
			)
		}
	}
}

// empty reports whether nothing stands somewhere.
func empty(n *yaml.Node) bool {
	return n == nil || n.Tag == "!!null" || n.Kind == yaml.ScalarNode && n.Value == ""
}

// holds reports whether a condition is met. A word that is not known is wrong by itself.
func (v values) holds(c form.Cond) bool {
	n := v.at[c.Key]
	if n == nil || c.Value == "" || n.Value == c.Value {
		return n != nil
	}
	words := v.key(c.Key).Is.Words
	return words != nil && !slices.Contains(words, n.Value)
}

// is reports whether a key is there, and says more than no.
func (v values) is(key string) bool {
	n := v.at[key]
	return n != nil && (v.key(key).Is.Kind != form.Bool || n.Value == "true")
}

// key is the declaration of a key.
func (v values) key(name string) *form.Key {
	k := v.of.Key(name)
	if k == nil {
		panic("desired: " + v.of.Name + " does not declare " + name)
	}
	return k
}

// shape is the one of some shapes of a key that is of a kind.
func (v values) shape(name string, kind form.Kind) form.Shape {
	s := v.key(name).Is
	for _, x := range s.Of {
		if x.Kind == kind {
			return x
		}
	}
	if s.Kind != kind {
		panic(fmt.Sprintf("desired: %s of %s is declared as %s", name, v.of.Name, s.Say()))
	}
	return s
}

// has reports whether a key is there.
func (v values) has(key string) bool { return v.node(key) != nil }

// node is the value of a key, nil where the key is missing.
func (v values) node(key string) *yaml.Node {
	v.key(key)
	return v.at[key]
}

// place is the value of a key or, where the key is missing, the object: what a problem points at.
func (v values) place(key string) *yaml.Node { return orNode(v.node(key), v.n) }

// pos is where the value of a key stands, else the object.
func (v values) pos(key string) model.Pos { return v.d.pos(v.place(key)) }

// text is a scalar as it is written.
func (v values) text(key string) string { return v.d.text(v.node(key), key) }

// yes is true or false.
func (v values) yes(key string) bool {
	v.shape(key, form.Bool)
	return v.d.boolean(v.at[key], key)
}

// whole is a whole number, otherwise where it is not there.
func (v values) whole(key string, otherwise int) int {
	s := v.shape(key, form.Whole)
	n := v.at[key]
	if n == nil {
		return otherwise
	}
	return v.d.integer(n, key, s.Least, s.Most)
}

// word is one of the words of a key, the first where it need not be there and is not; "" after a problem.
func (v values) word(key string) string {
	s := v.shape(key, form.Word)
	n := v.at[key]
	switch {
	case n == nil && v.key(key).Need:
		return ""
	case n == nil:
		return s.Words[0]
	}
	return v.d.oneOf(n, key, s.Words...)
}

// duration is a duration of some days or months; none where it is not there.
func (v values) duration(key string) day.Duration {
	s := v.shape(key, form.Duration)
	n := v.at[key]
	if n == nil {
		return day.Duration{}
	}
	p, err := day.ParseDuration(v.d.text(n, key))
	if err != nil || p.Days < 0 || p.Months < 0 {
		v.d.problem(
			n, "wrong-duration", fmt.Sprintf("%s is expected to be a duration, not %q", key, n.Value),
			"for example "+s.Example,
		)
		return day.Duration{}
	}
	return p
}

// date is a day, none where it is not there.
func (v values) date(key string) day.Day {
	v.shape(key, form.Day)
	return v.d.date(v.at[key], key)
}

// filter is a filter, nil where it is not there.
func (v values) filter(key string) *filter.Filter {
	v.shape(key, form.Filter)
	if n := v.at[key]; n != nil {
		return v.d.filter(n, key)
	}
	return nil
}

// limit is a count or a percentage.
func (v values) limit(key string) model.Limit {
	v.shape(key, form.Limit)
	return v.d.limit(v.at[key], key)
}

// secret is a reference to a secret.
func (v values) secret(key string) string {
	v.shape(key, form.Secret)
	return v.d.reference(v.at[key], key)
}

// names are texts, each once, with their places; where the key has words, these only.
func (v values) names(key string) []model.Name {
	s := v.shape(key, form.Set)
	out := v.d.names(v.at[key], key)
	if s.Words == nil {
		return out
	}
	return slices.DeleteFunc(out, func(name model.Name) bool {
		known := slices.Contains(s.Words, name.Text)
		if !known {
			v.d.probs.Add(source.NewProblem(
				name.Pos, "unknown-word", fmt.Sprintf("%s cannot be %q", key, name.Text),
				didYouMean(name.Text, s.Words, "use one of "),
			))
		}
		return !known
	})
}

// texts are names without their places.
func (v values) texts(key string) (out []string) {
	for _, name := range v.names(key) {
		out = append(out, name.Text)
	}
	return out
}

// list are the items of a list.
func (v values) list(key string) []*yaml.Node {
	v.shape(key, form.List)
	return v.d.list(v.at[key], key)
}

// entries are the names of the file's own at a key, with their values.
func (v values) entries(key string) []entry {
	if s := v.key(key).Is; s.Kind == form.Mapping && s.Object.Rest == nil {
		v.shape(key, form.Map) // which it is not
	}
	return v.d.entries(v.at[key], key)
}

// within is the object at a key.
func (v values) within(key string) values {
	return v.d.object(v.node(key), v.shape(key, form.Mapping).Object)
}

// kinds are kinds of things that every application has.
func (v values) kinds(key string) (out [model.Kinds]bool) {
	for _, name := range v.texts(key) {
		for k := range model.Kinds {
			if kind := model.Kind(k); kind.Plural() == name {
				out[kind] = true
			}
		}
	}
	return out
}

// delimiter is one character, otherwise where it is not there.
func (v values) delimiter(key string, otherwise rune) rune {
	v.shape(key, form.Char)
	n := v.at[key]
	if n == nil {
		return otherwise
	}
	text := v.d.text(n, key)
	if c := []rune(text); len(c) == 1 && !strings.ContainsAny(text, "\"\n\r\uFFFD") {
		return c[0]
	}
	v.d.problem(
		n, "bad-delimiter", fmt.Sprintf("the %s is expected to be one character, not %q", key, text),
		`for example ";" or "\t"`,
	)
	return otherwise
}

// price is what a seat costs.
func (v values) price(key string) (out model.Price) {
	v.shape(key, form.Price)
	n := v.at[key]
	if n == nil {
		return out
	}
	out, err := model.Parse(v.d.text(n, key))
	if err != nil {
		v.d.problem(n, "wrong-price", key+": "+err.Error(), "")
	}
	return out
}

// number is a number above nought, 0 where it is not there.
func (v values) number(key, hint string) float64 {
	v.shape(key, form.Positive)
	n := v.at[key]
	if n == nil {
		return 0
	}
	x, err := strconv.ParseFloat(v.d.text(n, key), 64)
	if err != nil || x <= 0 {
		v.d.problem(n, "wrong-type", key+" is expected to be a number above 0", hint)
		return 0
	}
	return x
}
