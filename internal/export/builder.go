package export

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"pravet/internal/core/model"
	"pravet/internal/core/table"
	"pravet/internal/source"
)

// builder gathers accounts in columns.
type builder struct {
	named map[int]string // see nameless
	app   *model.App
	out   *model.Accounts
	cells [model.Kinds]map[string]*cell
	last  [model.Kinds]*cell // of the row before: some are the same all the way down
	own   *table.Column      // the key's column when no kept attribute is the key
	count int

	unions int    // how many unions the cells have room for
	taken  string // the latest time that a row says, as text
}

// clocks are the forms in which exports write a time, all of which sort as text.
var clocks = []string{
	time.RFC3339,
	"2006-01-02T15:04:05",
	"2006-01-02 15:04:05",
	"2006-01-02T15:04",
	"2006-01-02 15:04",
	time.DateOnly,
}

// takenAt is the latest time that the export says.
func (b *builder) takenAt(spec *Spec) (time.Time, error) {
	for _, form := range clocks {
		if t, err := time.Parse(form, b.taken); err == nil {
			return t, nil
		}
	}
	says := fmt.Sprintf(
		"%s is no date or time as RFC 3339 has it, by which the export would say when it was taken",
		spec.Taken,
	)
	if b.taken == "" {
		says = fmt.Sprintf("no row says under %s when the export was taken", spec.Taken)
	}
	return time.Time{}, source.NewProblem(
		spec.TakenPos,
		"wrong-date",
		says,
		"name another column under taken, or take it out",
	)
}

// A cell is a list of names as one field holds it, looked up once.
type cell struct {
	text      string
	set       uint32
	unmanaged []model.UnmanagedThing
	seen      int
	with      []uint32 // another set, by its number → its union with this one, plus one
}

// maxUnions bounds the unions that all cells of an export remember: 16 MiB.
const maxUnions = 4 << 20

// unite returns the union of a set with a cell's. Most accounts have one of a few
// sets of one kind and one of many of another, so that a look into the cell of
// the other finds it.
func (b *builder) unite(c *cell, u uint32) uint32 {
	if u == 0 {
		return c.set
	}
	if int(u) < len(c.with) && c.with[u] > 0 {
		return c.with[u] - 1
	}
	out := b.out.Sets.Union(u, c.set)
	if more := int(u) + 1 - len(c.with); more > 0 {
		if b.unions += more; b.unions > maxUnions {
			b.unions -= more
			return out
		}
		c.with = append(c.with, make([]uint32, more)...)
	}
	c.with[u] = out + 1
	return out
}

func newBuilder(app *model.App) *builder {
	b := &builder{app: app, out: &model.Accounts{Sets: model.NewSets(), Unmanaged: map[model.UnmanagedThing]int{}}}
	b.out.Attrs = make([]*table.Column, len(app.Attrs))
	for k := range b.cells {
		b.cells[k] = map[string]*cell{}
	}
	return b
}

// column makes the column of an attribute that the export shows.
func (b *builder) column(attr string) *table.Column {
	if n := b.app.Attr(attr); n >= 0 {
		if b.out.Attrs[n] == nil {
			b.out.Attrs[n] = &table.Column{}
		}
		if attr == b.app.Match {
			b.out.Key = b.out.Attrs[n]
		}
		return b.out.Attrs[n]
	}
	if attr == b.app.Match {
		if b.own == nil {
			b.own = &table.Column{}
			b.out.Key = b.own
		}
		return b.own
	}
	return nil
}

// names looks up a list of names of one kind.
func (b *builder) names(kind model.Kind, names []string) *cell {
	c := &cell{}
	var things []int32
	for _, name := range names {
		if t := b.app.Thing(kind, name); t >= 0 {
			things = append(things, t)
		} else {
			u := model.UnmanagedThing{Kind: kind, Name: name}
			if !slices.Contains(c.unmanaged, u) {
				c.unmanaged = append(c.unmanaged, u)
			}
		}
	}
	c.set = b.out.Sets.Of(things)
	return c
}

// field looks up the field of a file that lists names, once for each text.
func (b *builder) field(kind model.Kind, text, split string) *cell {
	if last := b.last[kind]; last != nil && last.text == text {
		last.seen++
		return last
	}
	c, ok := b.cells[kind][text]
	if !ok {
		text = strings.Clone(text)
		c = b.names(kind, splitNames(text, split))
		c.text = text
		b.cells[kind][text] = c
	}
	b.last[kind] = c
	c.seen++
	return c
}

// splitNames parts a field into names, without the spaces around them.
func splitNames(text, split string) []string {
	parts := []string{text}
	if split != "" {
		parts = strings.Split(text, split)
	}
	var out []string
	for _, p := range parts {
		if p = strings.TrimSpace(p); p != "" {
			out = append(out, p)
		}
	}
	return out
}

// hold unites the sets of the kinds; a kind without a cell holds nothing.
func (b *builder) hold(cells [model.Kinds]*cell) uint32 {
	u := uint32(0)
	for _, c := range cells {
		if c != nil {
			u = b.unite(c, u)
		}
	}
	return u
}

// unnamed notes an account that has no value in the match attribute, and by what
// else it may be known; attr gives an attribute by its number.
func (b *builder) unnamed(pos model.Pos, attr func(n int) string) {
	u := model.Unnamed{Pos: pos}
	for n, a := range b.app.Attrs {
		v := strings.Clone(attr(n))
		switch {
		case v == "":
		case a.Name == "displayName":
			u.Name = v
		case a.Name == "department":
			u.Department = v
		default:
			u.Values = append(u.Values, model.Told{Attr: a.Name, Value: v})
		}
	}
	b.out.Unnamed = append(b.out.Unnamed, u)
}

// nameless notes that the account that comes next has no value in the match attribute, and is known by a
// name of its own.
func (b *builder) nameless(own string) {
	if b.named == nil {
		b.named = map[int]string{}
	}
	b.named[b.count] = strings.Clone(own)
}

// rename puts the own names of accounts into the place of the values that they do not have.
func (b *builder) rename() {
	if len(b.named) == 0 {
		return
	}
	key := &table.Column{}
	b.out.Nameless = map[int32]bool{}
	for i := range b.count {
		name, own := b.named[i]
		if !own {
			name = b.out.Key.At(i)
		}
		b.out.Nameless[int32(i)] = own
		key.Append(name)
	}
	maps.DeleteFunc(b.out.Nameless, func(_ int32, own bool) bool { return !own })
	b.out.Key = key
}

func (b *builder) add(state model.State, held uint32) {
	b.out.States = append(b.out.States, state)
	b.out.Held = append(b.out.Held, held)
	b.count++
}

// writes tells what a file in an encoding cannot hold.
func writes(encoding string) func(text string) string {
	e, err := source.Encoding(encoding)
	if err != nil || e == nil {
		return nil
	}
	return func(text string) string {
		for _, letter := range text {
			if _, err := e.NewEncoder().String(string(letter)); err != nil {
				return string(letter)
			}
		}
		return ""
	}
}

func (b *builder) finish(file string) *model.Accounts {
	b.out.File = file
	for k := range b.cells {
		for _, c := range b.cells[k] {
			for _, u := range c.unmanaged {
				b.out.Unmanaged[u] += c.seen
			}
		}
	}
	b.defined()
	b.direct()
	b.out.Lay()
	if b.out.Key == nil {
		b.out.Key = &table.Column{}
	}
	for _, c := range b.out.Attrs {
		if c != nil {
			c.Pad(b.count)
		}
	}
	b.out.Key.Pad(b.count)
	b.rename()
	return b.out
}

// defined lists the names of the groups and roles that a file of definitions
// shows.
func (b *builder) defined() {
	defs := b.out.Definitions
	if defs == nil {
		return
	}
	shown := b.out.Defined // of the export itself, as the groups of SCIM
	b.out.Defined[model.Group], b.out.Defined[model.Role] = []string{}, []string{}
	for _, d := range append(slices.Clone(defs.Of), defs.Others...) {
		if d != nil {
			b.out.Defined[d.Kind] = append(b.out.Defined[d.Kind], d.Name)
		}
	}
	slices.Sort(b.out.Defined[model.Group])
	slices.Sort(b.out.Defined[model.Role])
	for _, kind := range []model.Kind{model.Group, model.Role} {
		if len(b.out.Defined[kind]) == 0 && (kind == model.Group || shown[kind] != nil) {
			b.out.Defined[kind] = shown[kind] // the file has none of the kind
		}
	}
}

// direct leaves of what is shown what is held directly, once for each set.
func (b *builder) direct() {
	sets, g := b.out.Sets, model.ExportedGraph(b.app, b.out)
	direct := make([]uint32, sets.Count())
	for set := range direct {
		direct[set] = g.Direct(b.app, sets, uint32(set))
	}
	for i, set := range b.out.Held {
		b.out.Held[i] = direct[set]
	}
}

func (b *builder) reserve(rows int) {
	for _, c := range b.out.Attrs {
		if c != nil {
			c.Reserve(rows)
		}
	}
	if b.own != nil {
		b.own.Reserve(rows)
	}
	b.out.States = slices.Grow(b.out.States, rows)
	b.out.Held = slices.Grow(b.out.Held, rows)
	b.out.Line = slices.Grow(b.out.Line, rows)
}
