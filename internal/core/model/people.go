package model

import (
	"cmp"
	"slices"
	"strings"
	"sync"

	"pravet/internal/core/table"
)

// People are the persons of the desired state, in columns. Attributes are
// named as in RFC 7643; a name is found without regard to case.
type People struct {
	attrs  []string
	byName map[string]int // as the first file spells it, and folded
	cols   []*table.Column
	rows   int

	files []string
	file  []uint16
	line  []uint32
	place map[[2]int]Pos // person, attribute → its own place, where files give one

	derived map[string]*derived // by name: what follows from other attributes
	rules   []*derived          // in their order, as one may follow from another

	mu      sync.Mutex
	indexes map[string]indexed
	rises   map[string]bool
	ranked  bool
	ranks   []int32
}

// derived is an attribute that no file gives, as it follows from others.
type derived struct {
	name  string
	value func(get func(string) string) string
	from  []string
	other string        // instead: this attribute of the person whose id is the value of from
	col   *table.Column // once all people are known
}

// DeriveFrom adds an attribute that is another person's: the attribute other of the one whose id by has.
func (p *People) DeriveFrom(name, by, other string) {
	p.Derive(name, nil, []string{by})
	p.derived[name].other = other
}

// Derive adds an attribute that follows from others; it is found by its name like those of
// files, and is not among Attributes.
func (p *People) Derive(name string, value func(get func(string) string) string, from []string) {
	if p.derived == nil {
		p.derived = map[string]*derived{}
	}
	d := &derived{name: name, value: value, from: from}
	p.derived[name] = d
	p.rules = append(p.rules, d)
}

// Afresh is nobody, with the same attributes that follow from others.
func (p *People) Afresh() *People {
	q := NewPeople()
	for _, d := range p.rules {
		q.Derive(d.name, d.value, d.from)
		q.derived[d.name].other = d.other
	}
	return q
}

// follow works out what follows from other attributes, once for each combination of values
// that repeats. O(people).
func (p *People) follow() {
	for _, d := range p.rules {
		cols := make([]*table.Column, len(d.from))
		for i, name := range d.from {
			cols[i] = p.Column(name)
		}
		d.col = &table.Column{}
		if d.other != "" {
			p.another(d, cols[0])
			continue
		}
		known := map[string]string{}
		for row := range p.rows {
			key := ""
			for _, c := range cols {
				if c != nil {
					key += c.At(row)
				}
				key += "\x00"
			}
			v, ok := known[key]
			if !ok {
				v = d.value(func(name string) string {
					for i, from := range d.from {
						if from == name && cols[i] != nil {
							return cols[i].At(row)
						}
					}
					return ""
				})
				if len(known) < maxKnown {
					known[key] = v
				}
			}
			d.col.Append(v)
		}
	}
}

// another fills in an attribute that is another person's. O(people).
func (p *People) another(d *derived, by *table.Column) {
	ids, of := map[string]int{}, p.Column(d.other)
	if col := p.Column("id"); col != nil {
		for row := range p.rows {
			ids[col.At(row)] = row
		}
	}
	for row := range p.rows {
		v := ""
		if by != nil && of != nil && by.At(row) != "" {
			if other, ok := ids[by.At(row)]; ok {
				v = of.At(other)
			}
		}
		d.col.Append(v)
	}
}

// maxKnown bounds what is remembered while values are worked out.
const maxKnown = 1 << 16

type indexed struct {
	index   *table.Index
	clashes []Clash
}

// A Clash is two people with the same value of an attribute, case ignored.
type Clash struct{ First, Second int32 }

// NewPeople returns no people.
func NewPeople() *People { return &People{byName: map[string]int{}} }

// Len is the number of people.
func (p *People) Len() int { return p.rows }

// Attributes lists the names of all attributes that a file gives.
func (p *People) Attributes() []string { return p.attrs }

// Column returns an attribute's column, or nil when no file gives it.
func (p *People) Column(attr string) *table.Column {
	if i, ok := p.number(attr); ok {
		return p.cols[i]
	}
	if d := p.derived[attr]; d != nil {
		return d.col
	}
	return nil
}

// number finds an attribute as files spell it, else without regard to case.
func (p *People) number(attr string) (int, bool) {
	i, ok := p.byName[attr]
	if !ok {
		i, ok = p.byName[table.Fold(attr)]
	}
	return i, ok
}

// Get returns an attribute of person i, "" where it has no value.
func (p *People) Get(i int, attr string) string {
	if c := p.Column(attr); c != nil {
		return c.At(i)
	}
	return ""
}

// Pos is where person i's row begins.
func (p *People) Pos(i int) Pos {
	return Pos{File: p.files[p.file[i]], Line: int(p.line[i])}
}

// Place is where an attribute of person i is said: its own place where the file
// has each on a line of its own, else the person's row.
func (p *People) Place(i int, attr string) Pos {
	if a, ok := p.number(attr); ok {
		if pos, ok := p.place[[2]int{i, a}]; ok {
			return pos
		}
	}
	return p.Pos(i)
}

// SetPlace notes the place of an attribute of the person added last; attr is a
// number from Attribute.
func (p *People) SetPlace(attr int, pos Pos) {
	if p.place == nil {
		p.place = map[[2]int]Pos{}
	}
	p.place[[2]int{p.rows - 1, attr}] = pos
}

// Attribute returns the number of an attribute's column, adding one that is
// empty for all people so far when it is new.
func (p *People) Attribute(name string) int {
	key := table.Fold(name)
	if i, ok := p.byName[key]; ok {
		return i
	}
	i := len(p.cols)
	p.byName[key], p.byName[name] = i, i
	p.attrs = append(p.attrs, name)
	c := &table.Column{}
	c.Pad(p.rows)
	p.cols = append(p.cols, c)
	return i
}

// File adds a file that people come from and returns its number.
func (p *People) File(name string) int {
	p.files = append(p.files, name)
	return len(p.files) - 1
}

// Add adds a person from a file's line; attrs are numbers from Attribute and
// values the person's values of them. It reports false when there is more
// text than fits.
func (p *People) Add(file, line int, attrs []int, values []string) bool {
	for j, a := range attrs {
		c := p.cols[a]
		if c.Len() > p.rows { // a repeated attribute: the first value counts
			continue
		}
		c.Pad(p.rows)
		if !c.Append(values[j]) {
			return false
		}
	}
	p.file = append(p.file, uint16(file))
	p.line = append(p.line, uint32(line))
	p.rows++
	return true
}

// Reserve makes room for rows more people.
func (p *People) Reserve(rows int) {
	for _, c := range p.cols {
		c.Reserve(rows)
	}
}

// With returns the people as they would be if one of them had other values of some
// attributes; i may be Len, for someone who is not there yet. O(people).
func (p *People) With(i int, values map[string]string) *People {
	out := NewPeople()
	out.files, out.file, out.line, out.place = slices.Clone(
		p.files,
	), slices.Clone(p.file), slices.Clone(p.line), p.place
	if i == p.rows {
		out.file, out.line = append(out.file, uint16(out.File("(what if)"))), append(out.line, 0)
	}
	for _, a := range p.attrs {
		out.Attribute(a)
	}
	for a := range values {
		out.Attribute(a)
	}
	for n, name := range out.attrs {
		old := p.Column(name)
		for row := range max(p.rows, i+1) {
			v := ""
			if old != nil && row < p.rows {
				v = old.At(row)
			}
			for a, x := range values {
				if row == i && table.Fold(a) == table.Fold(name) {
					v = x
				}
			}
			out.cols[n].Append(v)
		}
	}
	out.rows = max(p.rows, i+1)
	for _, d := range p.rules {
		out.Derive(d.name, d.value, d.from)
	}
	out.follow()
	return out
}

// Close fills the columns that the last rows did not give. It is called once,
// after the last Add.
func (p *People) Close() {
	for _, c := range p.cols {
		c.Pad(p.rows)
	}
	p.follow()
}

// Clashes tells which people share a value of an attribute, case ignored. A
// column that rises has none, and needs no index.
func (p *People) Clashes(attr string) []Clash {
	if col := p.Column(attr); col == nil || p.rising(attr, col) {
		return nil
	}
	_, clashes := p.Index(attr)
	return clashes
}

// Called is how a person is called: the display name or, without one, the user name.
func (p *People) Called(i int) string {
	if name := p.Get(i, "displayName"); name != "" {
		return name
	}
	return p.Get(i, "userName")
}

// Named finds a person by id or, case ignored, by user name; -1 for nobody.
// O(people).
func (p *People) Named(name string) int {
	if at, ok := p.Rows("id", map[string]bool{name: true})[name]; ok {
		return at
	}
	if index, _ := p.Index("userName"); index != nil {
		return index.Find(name)
	}
	return -1
}

// Names finds many people as Named finds one, each in O(1) after O(people).
func (p *People) Names() func(name string) int {
	ids, _ := p.Index("id")
	users, _ := p.Index("userName")
	col := p.Column("id")
	return func(name string) int {
		if ids != nil {
			if at := ids.Spelled(name); at >= 0 && col.At(at) == name {
				return at
			}
		}
		if users != nil {
			return users.Find(name)
		}
		return -1
	}
}

// rising tells, and remembers, whether an attribute's column rises.
func (p *People) rising(attr string, col *table.Column) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	key := table.Fold(attr)
	is, ok := p.rises[key]
	if !ok {
		is = col.Rising()
		if p.rises == nil {
			p.rises = map[string]bool{}
		}
		p.rises[key] = is
	}
	return is
}

// Ranks is the place of each person among all, by id; nil where people stand in
// that order already. O(people), or O(people · log people) where they do not, the
// first time.
func (p *People) Ranks() []int32 {
	p.mu.Lock()
	defer p.mu.Unlock()
	ids := p.Column("id")
	if p.ranked || ids == nil {
		return p.ranks
	}
	p.ranked = true
	sorted := true
	for i := 1; i < ids.Len() && sorted; i++ {
		sorted = ids.At(i-1) < ids.At(i)
	}
	if sorted {
		return nil
	}
	byID := make([]int32, p.rows)
	for i := range byID {
		byID[i] = int32(i)
	}
	slices.SortFunc(byID, func(x, y int32) int { return cmp.Compare(ids.At(int(x)), ids.At(int(y))) })
	p.ranks = make([]int32, p.rows)
	for rank, i := range byID {
		p.ranks[i] = int32(rank)
	}
	return p.ranks
}

// Seek finds people by an attribute, case ignored, for values that come in much
// the same order as the people, and tells which people share a value. It is nil
// for an attribute that no file gives.
func (p *People) Seek(attr string) (*table.Seeker, []Clash) {
	col := p.Column(attr)
	if col == nil {
		return nil, nil
	}
	clashes := p.Clashes(attr)
	return table.NewSeeker(
		col,
		p.rising(attr, col),
		func() *table.Index { index, _ := p.Index(attr); return index },
	), clashes
}

// Rows finds people by the exact value of an attribute, of each the first, in
// one pass: for a few values among many people.
func (p *People) Rows(attr string, values map[string]bool) map[string]int {
	out := map[string]int{}
	col := p.Column(attr)
	if col == nil || len(values) == 0 {
		return out
	}
	for i := range col.Len() {
		if v := col.At(i); values[v] {
			if _, ok := out[v]; !ok {
				out[strings.Clone(v)] = i
			}
		}
	}
	return out
}

// Index finds people by an attribute, case ignored, and tells which people
// share a value. It is made when it is first asked for, in O(people), and nil
// for an attribute that no file gives.
func (p *People) Index(attr string) (*table.Index, []Clash) {
	p.mu.Lock()
	defer p.mu.Unlock()
	key := table.Fold(attr)
	if x, ok := p.indexes[key]; ok {
		return x.index, x.clashes
	}
	var x indexed
	if col := p.Column(attr); col != nil {
		x.index = table.NewIndex(col, func(first, row int) {
			x.clashes = append(x.clashes, Clash{int32(first), int32(row)})
		})
	}
	if p.indexes == nil {
		p.indexes = map[string]indexed{}
	}
	p.indexes[key] = x
	return x.index, x.clashes
}
