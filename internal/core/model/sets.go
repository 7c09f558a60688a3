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
	sorted  []int32 // of the set that is looked for
	key     []byte
	room    []int32 // for members to come
}

// NewSets holds the empty set only.
func NewSets() *Sets {
	return &Sets{members: [][]int32{nil}, byKey: map[string]uint32{"": 0}}
}

// Of returns the number of a set of things, given in any order.
func (s *Sets) Of(things []int32) uint32 {
	s.sorted = append(s.sorted[:0], things...)
	slices.Sort(s.sorted)
	s.sorted = slices.Compact(s.sorted)
	return s.number()
}

// number is that of the set of the things in sorted.
func (s *Sets) number() uint32 {
	s.key = s.key[:0]
	for _, t := range s.sorted {
		s.key = binary.AppendUvarint(s.key, uint64(t))
	}
	if n, ok := s.byKey[string(s.key)]; ok {
		return n
	}
	n := uint32(len(s.members))
	s.members = append(s.members, s.keep())
	s.byKey[string(s.key)] = n
	return n
}

// keep is a copy of what is in sorted. Many small ones share one piece of memory.
func (s *Sets) keep() []int32 {
	n := len(s.sorted)
	if cap(s.room)-len(s.room) < n {
		s.room = make([]int32, 0, max(4096, n))
	}
	at := len(s.room)
	s.room = append(s.room, s.sorted...)
	return s.room[at : at+n : at+n]
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
	s.sorted = s.sorted[:0]
	x, y := s.members[a], s.members[b]
	for len(x) > 0 && len(y) > 0 {
		least := min(x[0], y[0])
		s.sorted = append(s.sorted, least)
		if x[0] == least {
			x = x[1:]
		}
		if y[0] == least {
			y = y[1:]
		}
	}
	s.sorted = append(append(s.sorted, x...), y...)
	return s.number()
}

// With returns the set with a thing added.
func (s *Sets) With(set uint32, thing int32) uint32 {
	at, has := slices.BinarySearch(s.members[set], thing)
	if has {
		return set
	}
	members := s.members[set]
	s.sorted = append(append(append(s.sorted[:0], members[:at]...), thing), members[at:]...)
	return s.number()
}

// Without returns the set with a thing taken out.
func (s *Sets) Without(set uint32, thing int32) uint32 {
	at, has := slices.BinarySearch(s.members[set], thing)
	if !has {
		return set
	}
	members := s.members[set]
	s.sorted = append(append(s.sorted[:0], members[:at]...), members[at+1:]...)
	return s.number()
}

// Count is how many distinct sets there are.
func (s *Sets) Count() int { return len(s.members) }
