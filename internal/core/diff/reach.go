// A reach is what holding something gives in the end: groups bring
// roles and licenses along, roles include roles, to any depth. It also follows
// the accounts that a plan touches, from how they are to how they will be.

package diff

import (
	"pravet/internal/core/model"
)

// A Reacher tells what sets of things of one application give, by themselves
// and along. It is used by one goroutine at a time, as its Sets are.
type Reacher struct {
	graph *model.Graph
	sets  *model.Sets
	full  map[uint32]uint32 // set → set with all it brings
	minus map[uint64]uint32
}

// New returns a Reacher for the sets of an application, by what brings what along
// there.
func New(g *model.Graph, sets *model.Sets) *Reacher {
	return &Reacher{g, sets, map[uint32]uint32{}, map[uint64]uint32{}}
}

// Full returns a set with all that it brings along, in O(edges) the first time
// and then in O(1).
func (r *Reacher) Full(set uint32) uint32 {
	full, ok := r.full[set]
	if !ok {
		full = set
		if !r.graph.Flat() {
			members := r.sets.Members(set)
			full = r.sets.Of(append(r.graph.Along(members...), members...))
		}
		r.full[set] = full
	}
	return full
}

// Has reports whether a set gives a thing, by itself or along.
func (r *Reacher) Has(set uint32, thing int32) bool { return r.sets.Has(r.Full(set), thing) }

// Brings reports whether one thing is, or brings along, another.
func (r *Reacher) Brings(thing, other int32) bool {
	return r.Has(r.sets.Of([]int32{thing}), other)
}

// Without returns the things of a set that are not in another.
func (r *Reacher) Without(set, other uint32) uint32 {
	switch {
	case set == other || set == 0:
		return 0
	case other == 0:
		return set
	}
	key := uint64(set)<<32 | uint64(other)
	out, ok := r.minus[key]
	if !ok {
		var left []int32
		for _, t := range r.sets.Members(set) {
			if !r.sets.Has(other, t) {
				left = append(left, t)
			}
		}
		out = r.sets.Of(left)
		r.minus[key] = out
	}
	return out
}

// Holders counts the accounts of an export that have a thing, open or blocked.
func (r *Reacher) Holders(accounts *model.Accounts, thing int32) int {
	return r.count(accounts, thing, func(int) bool { return true })
}

// Active counts the accounts that are open and have a thing.
func (r *Reacher) Active(accounts *model.Accounts, thing int32) int {
	return r.count(accounts, thing, func(i int) bool { return accounts.Open(i) })
}

// Giving tells of each set that there is whether it gives a thing: for looking
// at many accounts.
func (r *Reacher) Giving(thing int32) []bool {
	has := make([]bool, r.sets.Count())
	for set := range has { // the full sets that this adds are not asked about
		has[set] = r.Has(uint32(set), thing)
	}
	return has
}

// Counts tells of each thing of an application how many accounts have it, by itself
// or along, open or blocked. O(accounts + sets · things of a set).
func (r *Reacher) Counts(accounts *model.Accounts, things int) []int {
	out, with := make([]int, things), make([]int, r.sets.Count())
	for _, set := range accounts.Held {
		with[set]++
	}
	for set, n := range with {
		if n > 0 {
			for _, t := range r.sets.Members(r.Full(uint32(set))) {
				out[t] += n
			}
		}
	}
	return out
}

func (r *Reacher) count(accounts *model.Accounts, thing int32, counts func(int) bool) int {
	has := r.Giving(thing)
	n := 0
	for i, set := range accounts.Held {
		if has[set] && counts(i) {
			n++
		}
	}
	return n
}

// Exported returns a Reacher by what brings what along in the application as it was exported.
func Exported(app *model.App, accounts *model.Accounts) *Reacher {
	return New(model.ExportedGraph(app, accounts), accounts.Sets)
}
