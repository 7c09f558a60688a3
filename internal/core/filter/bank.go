package filter

import (
	"encoding/binary"
	"runtime"
	"slices"
	"sort"

	"golang.org/x/sync/errgroup"

	"pravet/internal/core/day"
	"pravet/internal/core/table"
)

// Rows is what Classify evaluates over. Column returns nil for an attribute
// that no row has; names are compared without case.
type Rows interface {
	Len() int
	Column(attr string) *table.Column
}

// Classes is the outcome of many filters over many rows. Rows that no filter
// can tell apart share a class, so that what follows from the filters is
// computed once for each class.
type Classes struct {
	Of      []uint32  // row → class
	Matches [][]int32 // class → the filters that match, sorted
	counts  []int     // filter → how many rows
}

// Count returns how many rows filter f matches.
func (c *Classes) Count(f int) int { return c.counts[f] }

// Match reports whether filter f matches the rows of a class.
func (c *Classes) Match(class uint32, f int) bool {
	_, ok := slices.BinarySearch(c.Matches[class], int32(f))
	return ok
}

// Classify evaluates all filters over all rows. A nil filter matches every
// row. Each clause is evaluated once for each distinct value of its attribute
// (equality by one map look-up for all clauses together); a row then costs one
// look-up for each attribute that any filter names, however many filters there
// are. A class costs the filters that one of its true clauses may make true:
// a rule costs what it selects on.
func Classify(rows Rows, filters []*Filter, today day.Day) *Classes {
	b := &bank{filters: filters, attrs: map[string]*attribute{}}
	for fi, f := range filters {
		b.add(fi, f)
	}
	n := rows.Len()
	out := &Classes{Of: make([]uint32, n), counts: make([]int, len(filters))}
	// members[class] lists the class's outcome set of each attribute so far.
	members := [][]uint32{nil}
	for _, a := range b.order {
		col := rows.Column(a.name)
		if col == nil {
			only := a.outcome("", today)
			for i := range members {
				members[i] = append(members[i], only)
			}
			continue
		}
		members = a.refine(col, out.Of, members, today)
	}
	sizes := make([]int, len(members))
	for _, class := range out.Of {
		sizes[class]++
	}
	out.Matches = make([][]int32, len(members))
	const part = 1024
	var group errgroup.Group // none of it fails
	group.SetLimit(runtime.GOMAXPROCS(0))
	for from := 0; from < len(members); from += part {
		group.Go(func() error {
			tried := make([]int, len(filters)) // filter → class+1 that it was tried for last
			for class := from; class < min(from+part, len(members)); class++ {
				out.Matches[class] = b.matches(class, members[class], tried)
			}
			return nil
		})
	}
	_ = group.Wait()
	for class, matches := range out.Matches {
		for _, f := range matches {
			out.counts[f] += sizes[class]
		}
	}
	return out
}

// bank is filters taken apart into clauses by attribute.
type bank struct {
	filters []*Filter
	attrs   map[string]*attribute
	order   []*attribute
	refs    [][]ref // filter → clause → where it is evaluated
	always  []int   // filters that no clause rules out: tried for every class
}

type ref struct{ attr, clause int }

func (b *bank) add(fi int, f *Filter) {
	b.refs = append(b.refs, nil)
	if f == nil {
		b.always = append(b.always, fi)
		return
	}
	for i := range f.clauses {
		c := &f.clauses[i]
		name := table.Fold(c.Attr)
		a := b.attrs[name]
		if a == nil {
			a = &attribute{name: name, seen: map[string]int{}, at: len(b.order)}
			b.attrs[name] = a
			b.order = append(b.order, a)
		}
		b.refs[fi] = append(b.refs[fi], ref{a.at, a.add(c)})
	}
	keys, ok := f.necessary(f.root)
	if !ok {
		b.always = append(b.always, fi)
		return
	}
	for _, k := range keys {
		r := b.refs[fi][k]
		b.order[r.attr].keyed(r.clause, fi)
	}
}

// necessary returns clauses of which one at least is true wherever the filter
// matches; ok is false when there are none, as behind a "not".
func (f *Filter) necessary(n node) (clauses []int, ok bool) {
	switch n := n.(type) {
	case leaf:
		return []int{int(n)}, true
	case and:
		left, okLeft := f.necessary(n.left)
		right, okRight := f.necessary(n.right)
		if !okLeft || okRight && f.cost(right) < f.cost(left) {
			return right, okRight
		}
		return left, okLeft
	case or:
		left, okLeft := f.necessary(n.left)
		right, okRight := f.necessary(n.right)
		return append(left, right...), okLeft && okRight
	}
	return nil, false
}

// cost guesses how often one of the clauses is true: equality seldom, all else
// often.
func (f *Filter) cost(clauses []int) int {
	cost := 0
	for _, c := range clauses {
		if f.clauses[c].Op == "eq" {
			cost++
		} else {
			cost += 1000
		}
	}
	return cost
}

// matches returns the filters that match a class.
func (b *bank) matches(class int, member []uint32, tried []int) (out []int32) {
	try := func(fi int) {
		if tried[fi] == class+1 {
			return
		}
		tried[fi] = class + 1
		f := b.filters[fi]
		if f == nil || f.root.truth(func(i int) bool {
			r := b.refs[fi][i]
			return b.order[r.attr].outcomes[member[r.attr]].truth[r.clause]
		}) {
			out = append(out, int32(fi))
		}
	}
	for _, fi := range b.always {
		try(fi)
	}
	for a, outcome := range member {
		for _, clause := range b.order[a].outcomes[outcome].hold {
			for _, fi := range b.order[a].filters[clause] {
				try(fi)
			}
		}
	}
	slices.Sort(out)
	return out
}

// attribute gathers the clauses of all filters on one attribute.
type attribute struct {
	name    string
	at      int
	clauses []*Clause
	seen    map[string]int // op and value → clause

	equals   map[string][]int // folded value → clauses that are a plain eq of it
	others   []int            // all other clauses
	filters  [][]int          // clause → filters that it is necessary for
	byKey    map[string]uint32
	outcomes []outcomeSet
}

// An outcomeSet is a set of clauses that hold together for some value.
type outcomeSet struct {
	hold  []int
	truth []bool // by clause
}

// keyed notes that a filter matches only where a clause is true.
func (a *attribute) keyed(clause, filter int) {
	for len(a.filters) <= clause {
		a.filters = append(a.filters, nil)
	}
	a.filters[clause] = append(a.filters[clause], filter)
}

func (a *attribute) add(c *Clause) int {
	key := c.Op + string(rune('0'+c.kind)) + c.Value
	if i, ok := a.seen[key]; ok {
		return i
	}
	i := len(a.clauses)
	a.seen[key] = i
	a.clauses = append(a.clauses, c)
	if c.Op == "eq" && (c.kind == isText || c.kind == isBool) {
		if a.equals == nil {
			a.equals = map[string][]int{}
		}
		a.equals[c.folded] = append(a.equals[c.folded], i)
	} else {
		a.others = append(a.others, i)
	}
	return i
}

// outcome returns the number of the set of clauses that hold for a value.
func (a *attribute) outcome(v string, today day.Day) uint32 {
	var hold []int
	hold = append(hold, a.equals[table.Fold(v)]...)
	for _, i := range a.others {
		if a.clauses[i].Match(v, today) {
			hold = append(hold, i)
		}
	}
	sort.Ints(hold)
	key := make([]byte, 0, 16)
	for _, i := range hold {
		key = binary.AppendUvarint(key, uint64(i))
	}
	if n, ok := a.byKey[string(key)]; ok {
		return n
	}
	if a.byKey == nil {
		a.byKey = map[string]uint32{}
	}
	n := uint32(len(a.outcomes))
	a.byKey[string(key)] = n
	truth := make([]bool, len(a.clauses))
	for _, i := range hold {
		truth[i] = true
	}
	for len(a.filters) < len(a.clauses) {
		a.filters = append(a.filters, nil)
	}
	a.outcomes = append(a.outcomes, outcomeSet{hold, truth})
	return n
}

// maxDense bounds the table by which refine finds a class; beyond it a map is
// used.
const maxDense = 1 << 22

// refine splits the classes in of by this attribute's outcome sets.
func (a *attribute) refine(col *table.Column, of []uint32, members [][]uint32, today day.Day) [][]uint32 {
	var out [][]uint32
	class := func(old, outcome uint32) uint32 {
		m := members[old]
		out = append(out, append(m[:len(m):len(m)], outcome))
		return uint32(len(out) - 1)
	}
	values, codes, coded := col.Codes()
	sets := make([]uint32, len(values))
	for i, v := range values {
		sets[i] = a.outcome(v, today)
	}
	if n := len(a.outcomes); coded && n*len(members) <= maxDense {
		seen := make([]uint32, n*len(members)) // class+1
		for row, code := range codes {
			at := int(of[row])*n + int(sets[code])
			if seen[at] == 0 {
				seen[at] = class(of[row], sets[code]) + 1
			}
			of[row] = seen[at] - 1
		}
		return out
	}
	seen := map[uint64]uint32{}
	for row := range of {
		var outcome uint32
		if coded {
			outcome = sets[codes[row]]
		} else {
			outcome = a.outcome(col.At(row), today)
		}
		key := uint64(of[row])<<32 | uint64(outcome)
		c, ok := seen[key]
		if !ok {
			c = class(of[row], outcome)
			seen[key] = c
		}
		of[row] = c
	}
	return out
}
