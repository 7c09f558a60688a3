package model

import (
	"encoding/binary"
	"slices"
)

// Sets numbers the distinct sets of things that accounts of one application
// hold or should hold. Many accounts hold the same set, so that comparing and
// explaining is done once for each pair of sets. Set 0 is the empty set.
// A Sets is used by one goroutine at a time.
type Sets struct {
	members [][]int32
	byKey   map[string]uint32
	union   map[uint64]uint32
}

// NewSets holds the empty set only.
func NewSets() *Sets {
	return &Sets{members: [][]int32{nil}, byKey: map[string]uint32{"": 0}, union: map[uint64]uint32{}}
}

// Of returns the number of a set of things, given in any order.
func (s *Sets) Of(things []int32) uint32 {
	sorted := slices.Clone(things)
	slices.Sort(sorted)
	sorted = slices.Compact(sorted)
	key := make([]byte, 0, 4*len(sorted))
	for _, t := range sorted {
		key = binary.LittleEndian.AppendUint32(key, uint32(t))
	}
	if n, ok := s.byKey[string(key)]; ok {
		return n
	}
	n := uint32(len(s.members))
	s.members = append(s.members, sorted)
	s.byKey[string(key)] = n
	return n
}

// Members returns the things of a set, sorted; the caller does not change it.
func (s *Sets) Members(set uint32) []int32 { return s.members[set] }

// Has reports whether a thing is in a set, in O(log of its size).
func (s *Sets) Has(set uint32, thing int32) bool {
	_, ok := slices.BinarySearch(s.members[set], thing)
	return ok
}

// Union returns the set of what is in a or in b.
func (s *Sets) Union(a, b uint32) uint32 {
	switch {
	case a == b || b == 0:
		return a
	case a == 0:
		return b
	}
	key := uint64(a)<<32 | uint64(b)
	if n, ok := s.union[key]; ok {
		return n
	}
	n := s.Of(append(slices.Clone(s.members[a]), s.members[b]...))
	s.union[key] = n
	return n
}

// With returns the set with a thing added.
func (s *Sets) With(set uint32, thing int32) uint32 {
	if s.Has(set, thing) {
		return set
	}
	return s.Of(append(slices.Clone(s.members[set]), thing))
}

// Without returns the set with a thing taken out.
func (s *Sets) Without(set uint32, thing int32) uint32 {
	if !s.Has(set, thing) {
		return set
	}
	return s.Of(slices.DeleteFunc(slices.Clone(s.members[set]), func(t int32) bool { return t == thing }))
}

// Count is how many distinct sets there are.
func (s *Sets) Count() int { return len(s.members) }
