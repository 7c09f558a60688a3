package desired

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/require"
	yaml "go.yaml.in/yaml/v4"

	"pravet/internal/form"
)

// TestReaderAndSchemaAgree: random files, made after what is declared, are taken by the reader and by the JSON Schema;
// with one thing wrong in them both refuse them.
func TestReaderAndSchemaAgree(t *testing.T) {
	for _, f := range Forms() {
		text, err := f.Schema()
		require.NoError(t, err)
		doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
		require.NoError(t, err)
		c := jsonschema.NewCompiler()
		require.NoError(t, c.AddResource("s.json", doc))
		schema, err := c.Compile("s.json")
		require.NoError(t, err)
		broken := map[string]int{}
		for seed := range uint64(300) {
			m := &maker{Rand: rand.New(rand.NewPCG(seed, 7)), places: 1}
			whole := m.object(f.Is)
			require.Empty(t, slips(t, f.Is, whole), "seed %d: %s", seed, said(t, whole))
			require.NoError(t, schema.Validate(plain(t, whole)), "seed %d: %s", seed, said(t, whole))

			b := &maker{Rand: rand.New(rand.NewPCG(seed, 7)), places: m.places, at: 1 + int(seed)%m.places}
			part := b.object(f.Is)
			if b.how == "" || said(t, part) == said(t, whole) {
				continue
			}
			broken[b.how]++
			require.NotEmpty(t, slips(t, f.Is, part), "seed %d, %s: the reader takes %s", seed, b.how, said(t, part))
			require.Error(t, schema.Validate(plain(t, part)), "seed %d, %s: the schema takes %s", seed, b.how, said(t, part))
		}
		for _, how := range []string{"unknown key", "other value"} {
			require.Greater(t, broken[how], 20, "%s: too few files have that wrong: %s", f.Name, how)
		}
	}
}

// slips are what the reader says of a value by its declaration alone.
func slips(t *testing.T, of *form.Object, value any) []string {
	probs := newProblems()
	d := &doc{file: "x.yaml", probs: probs}
	root := d.parse([]byte(said(t, value)))
	require.Empty(t, probs.Sorted())
	walk(d.object(root, of))
	var out []string
	for _, p := range probs.Sorted() {
		out = append(out, p.Error())
	}
	return out
}

// walk reads all that is declared.
func walk(v values) {
	for _, k := range v.of.Keys {
		if v.has(k.Name) {
			look(v, k.Name, k.Is)
		}
	}
	if v.of.Rest == nil {
		return
	}
	for _, e := range v.d.entries(v.n, v.what) {
		if v.of.Key(e.name) == nil {
			lookAt(v.d, e, *v.of.Rest)
		}
	}
}

// lookAt reads what stands somewhere, as if it were the only key of an object.
func lookAt(d *doc, e entry, is form.Shape) {
	of := &form.Object{Name: "it", Keys: []form.Key{{Name: "it", Is: is}}}
	look(values{d: d, of: of, n: e.value, lacksAt: e.key, at: map[string]*yaml.Node{"it": e.value}}, "it", is)
}

// look reads a key by its shape; of several, by the one that its node may be.
func look(v values, key string, is form.Shape) {
	n := v.node(key)
	switch is.Kind {
	case form.Scalar:
		v.text(key)
	case form.Word:
		v.word(key)
	case form.Whole:
		v.whole(key, 0)
	case form.Positive:
		v.number(key, "")
	case form.Bool:
		v.yes(key)
	case form.Filter:
		v.filter(key)
	case form.Duration:
		v.duration(key)
	case form.Time:
		v.time(key, 0, 0)
	case form.Day:
		v.date(key)
	case form.Limit:
		v.limit(key)
	case form.Secret:
		v.secret(key)
	case form.Price:
		v.price(key)
	case form.Char:
		v.delimiter(key, 0)
	case form.Set:
		v.names(key)
	case form.List:
		for _, item := range v.list(key) {
			lookAt(v.d, entry{key, item, item}, *is.Item)
		}
	case form.Map:
		for _, e := range v.entries(key) {
			lookAt(v.d, e, *is.Item)
		}
	case form.Mapping:
		walk(v.within(key))
	case form.Either:
		for _, x := range is.Of {
			if nodeKind(x) == n.Kind && (x.Kind != form.Bool || n.Tag == "!!bool") {
				look(v, key, x)
				return
			}
		}
		v.d.problem(n, "wrong-type", "nothing of that kind is expected", "")
	}
}

func nodeKind(s form.Shape) yaml.Kind {
	switch s.Kind {
	case form.Set, form.List:
		return yaml.SequenceNode
	case form.Map, form.Mapping:
		return yaml.MappingNode
	}
	return yaml.ScalarNode
}

func said(t *testing.T, value any) string {
	text, err := json.Marshal(value)
	require.NoError(t, err)
	return string(text)
}

func plain(t *testing.T, value any) any {
	out, err := jsonschema.UnmarshalJSON(strings.NewReader(said(t, value)))
	require.NoError(t, err)
	return out
}

// A maker makes values after their declarations. Each is a place; at one of them it may put something wrong.
type maker struct {
	*rand.Rand
	places, at int
	how        string // what is wrong
	either     bool   // something else would be right as well
}

// here counts a place, and reports whether something is to be wrong there.
func (m *maker) here() bool {
	m.places++
	m.at--
	return m.at == 0
}

func (m *maker) object(o *form.Object) any {
	out := map[string]any{}
	wrong := m.here()
	left := map[string]bool{} // what is not there, as others do not go with it
	for _, c := range o.Some {
		keep := m.IntN(len(c.Keys))
		for i, k := range c.Keys {
			left[k] = i != keep
		}
	}
	for _, pair := range o.Apart {
		if !left[pair[0]] && !slices.ContainsFunc(o.Some, func(c form.Choice) bool { return slices.Contains(c.Keys, pair[1]) }) {
			left[pair[1]] = true
		} else {
			left[pair[0]] = true
		}
	}
	for _, k := range o.Keys {
		choice := slices.ContainsFunc(o.Some, func(c form.Choice) bool { return slices.Contains(c.Keys, k.Name) })
		if left[k.Name] || !k.Need && !choice && m.IntN(3) > 0 {
			continue
		}
		out[k.Name] = m.shape(k.Is)
	}
	for again := true; again; { // what goes with something goes with it
		again = false
		for _, k := range o.Keys {
			if out[k.Name] == nil || len(k.With) == 0 {
				continue
			}
			if !slices.ContainsFunc(k.With, func(c form.Cond) bool {
				return out[c.Key] != nil && (c.Value == "" || fmt.Sprint(out[c.Key]) == c.Value)
			}) {
				delete(out, k.Name)
				again = true
			}
		}
	}
	if o.Rest != nil {
		for i := range m.IntN(3) {
			out[fmt.Sprintf("name.x%d", i)] = m.shape(*o.Rest)
		}
	}
	if !wrong {
		return out
	}
	if need := o.Needed(); len(need) > 0 && m.places%2 == 0 {
		m.how = "missing key"
		delete(out, need[m.places%len(need)])
	} else if o.Rest == nil {
		m.how = "unknown key"
		out["shoe"] = 41
	}
	return out
}

func (m *maker) shape(s form.Shape) any {
	switch s.Kind {
	case form.Either:
		m.either = true
		defer func() { m.either = false }()
		return m.shape(s.Of[m.IntN(len(s.Of))])
	case form.Mapping:
		return m.object(s.Object)
	case form.List:
		out := []any{}
		for range s.Least + m.IntN(3) {
			out = append(out, m.shape(*s.Item))
		}
		return out
	case form.Map:
		out := map[string]any{}
		for i := range 1 + m.IntN(2) {
			out[fmt.Sprintf("name%d", i)] = m.shape(*s.Item)
		}
		return out
	}
	if m.here() {
		m.how = "other value"
		return m.other(s)
	}
	return m.value(s)
}

// value is a value that a shape takes.
func (m *maker) value(s form.Shape) any {
	one := func(of ...any) any { return of[m.IntN(len(of))] }
	switch s.Kind {
	case form.Word:
		return s.Words[m.IntN(len(s.Words))]
	case form.Whole:
		return s.Least + m.IntN(5)
	case form.Positive:
		return one(1, 0.5, 200)
	case form.Bool:
		return one(true, false)
	case form.Filter:
		return one(`department eq "Deck"`, `title pr and not (userType eq "Service")`)
	case form.Duration:
		return one("P7D", "P1Y2M", "P2W")
	case form.Time:
		return one("500ms", "10s", "2m", "1m30s")
	case form.Day:
		return one("2026-12-31", "2027-02-01")
	case form.Limit:
		return one(0, 12, "5", "10%", "2.5 %")
	case form.Secret:
		return one("env:TOKEN", "file:secrets/token", "command:token --now")
	case form.Price:
		return one("11.50 EUR/month", "120 CHF/year")
	case form.Char:
		return one(";", "|", "\t", "→")
	case form.Set:
		if s.Words != nil {
			return s.Words[:m.IntN(len(s.Words)+1)]
		}
		return []string{"north", "south", "dock"}[:s.Least+m.IntN(2)]
	case form.Scalar:
		switch {
		case strings.HasPrefix(s.Pattern, ":"):
			return "mail.marrowick.example:587"
		case strings.HasPrefix(s.Pattern, "^http"):
			return "https://desk.marrowick.example/in"
		case s.Pattern != "":
			return "berths"
		}
		return one("Cid", "true", 41, 4.5, true)
	}
	panic("no value")
}

// other is a value that a shape does not take.
func (m *maker) other(s form.Shape) any {
	m.value(s) // which is drawn all the same
	one := func(of ...any) any { return of[m.places%len(of)] }
	if m.either {
		return []any{[]any{"a"}}
	}
	switch s.Kind {
	case form.Scalar:
		return one([]any{"a", "b"}, map[string]any{"shoe": 41})
	case form.Set:
		if s.Words != nil {
			return one([]any{"shoes"}, map[string]any{"shoe": 41}, "shoes")
		}
		return one(map[string]any{"shoe": 41}, []any{[]any{"a"}}, []any{"a", "a"})
	case form.Whole:
		return one("many", s.Least-1, 1.5, []any{1})
	case form.Positive:
		return one("many", 0, -1)
	case form.Bool:
		return one(41, []any{"a"}, map[string]any{"shoe": 41})
	case form.Filter:
		return one([]any{"a"}, "")
	case form.Char:
		return one(";;", "", []any{";"})
	}
	return one("some day", []any{"a"}, map[string]any{"shoe": 41})
}
