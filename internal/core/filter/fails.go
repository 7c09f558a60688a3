package filter

import "pravet/internal/core/day"

// Fails returns the first clause because of which the filter does not match a
// row, reading "and" from the left, and of "or" the last alternative. ok is
// false when the filter matches, or when it fails by something else than one
// clause (a "not").
func (f *Filter) Fails(get func(attr string) string, today day.Day) (c Clause, ok bool) {
	leafTruth := func(i int) bool { return f.clauses[i].Match(get(f.clauses[i].Attr), today) }
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
			n = at.right
		default:
			return Clause{}, false
		}
	}
}
