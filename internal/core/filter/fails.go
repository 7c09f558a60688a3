package filter

import "pravet/internal/core/day"

// Fails returns the first clause because of which the filter does not match a
// row, reading "and" from the left, and of "or" the alternative that is nearest
// to matching. ok is false when the filter matches, or when it fails by
// something else than one clause (a "not").
func (f *Filter) Fails(get func(attr string) string, today day.Day) (c Clause, ok bool) {
	leafTruth := f.leafTruth(get, today)
	n := f.root
	if n.truth(leafTruth) {
		return Clause{}, false
	}
	for {
		switch at := n.(type) {
		case leaf:
			return f.clauses[at], true
		case and:
			if n = at.left; n.truth(leafTruth) {
				n = at.right
			}
		case or:
			if n = at.right; misses(at.left, leafTruth) < misses(at.right, leafTruth) {
				n = at.left
			}
		default:
			return Clause{}, false
		}
	}
}

// Misses is how many clauses would have to be otherwise for the filter to match
// a row: 0 for one that matches.
func (f *Filter) Misses(get func(attr string) string, today day.Day) int {
	return misses(f.root, f.leafTruth(get, today))
}

func (f *Filter) leafTruth(get func(attr string) string, today day.Day) func(int) bool {
	return func(i int) bool { return f.clauses[i].Match(get(f.clauses[i].Attr), today) }
}

func misses(n node, leafTruth func(int) bool) int {
	if n.truth(leafTruth) {
		return 0
	}
	switch at := n.(type) {
	case and:
		return misses(at.left, leafTruth) + misses(at.right, leafTruth)
	case or:
		return min(misses(at.left, leafTruth), misses(at.right, leafTruth))
	}
	return 1
}

// OnlyBy returns the clauses of one operator without each of which the filter
// would not match a row that it matches.
func (f *Filter) OnlyBy(op string, get func(attr string) string, today day.Day) (out []Clause) {
	leafTruth := f.leafTruth(get, today)
	if !f.root.truth(leafTruth) {
		return nil
	}
	for i := range f.clauses {
		if f.clauses[i].Op == op && !f.root.truth(func(j int) bool { return j != i && leafTruth(j) }) {
			out = append(out, f.clauses[i])
		}
	}
	return out
}
