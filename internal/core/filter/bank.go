package filter

import (
	"encoding/binary"
	"sort"

	"pravet/internal/core/day"
	"pravet/internal/core/table"
)

// Rows is what a Bank evaluates over. Column returns nil for an attribute
// that no row has; names are compared without case.
type Rows interface {
	Len() int
	Column(attr string) *table.Column
}

// Classes is the outcome of many filters over many rows. Rows that no filter
// can tell apart share a class, so that what follows from the filters is
// computed once for each class.
type Classes struct {
	Of    []uint32 // row → class
	Truth [][]bool // class → filter → does it match
	Size  []int    // class → how many rows
}

// Count returns how many rows filter f matches.
func (c *Classes) Count(f int) int {
	n := 0
	for class, truth := range c.Truth {
		if truth[f] {
			n += c.Size[class]
		}
	}
	return n
}

// Classify evaluates all filters over all rows. A nil filter matches every
// row. Each clause is evaluated once for each distinct value of its attribute
// (equality by one map look-up for all clauses together); a row then costs one
// look-up for each attribute that any filter names, however many filters there
// are: O(rows · attributes + values · clauses + classes · filters).
func Classify(rows Rows, filters []*Filter, today day.Day) *Classes {
	attrs := map[string]*attribute{}
	type ref struct{ attr, clause int }
	var order []*attribute
	refs := make([][]ref, len(filters))
	for fi, f := range filters {
		if f == nil {
			continue
		}
		for i := range f.clauses {
			c := &f.clauses[i]
			name := table.Fold(c.Attr)
			a := attrs[name]
			if a == nil {
				a = &attribute{name: name, seen: map[string]int{}, at: len(order)}
				attrs[name] = a
				order = append(order, a)
			}
			refs[fi] = append(refs[fi], ref{a.at, a.add(c)})
		}
	}
	n := rows.Len()
	out := &Classes{Of: make([]uint32, n)}
	// members[class] lists the class's outcome set of each attribute so far.
	members := [][]uint32{nil}
	for _, a := range order {
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
	out.Size = make([]int, len(members))
	for _, class := range out.Of {
		out.Size[class]++
	}
	out.Truth = make([][]bool, len(members))
	for class, member := range members {
		truth := make([]bool, len(filters))
		for fi, f := range filters {
			truth[fi] = f == nil || f.root.truth(func(i int) bool {
				r := refs[fi][i]
				return order[r.attr].outcomes[member[r.attr]][r.clause]
			})
		}
		out.Truth[class] = truth
	}
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
	byKey    map[string]uint32
	outcomes [][]bool // outcome set → clause → truth
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
	a.outcomes = append(a.outcomes, truth)
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
