package table

import "hash/maphash"

// An Index finds rows by the folded value of one column: a hash table of row
// numbers without the keys, which stay in the column. Half of each slot is a
// part of the hash, so that the column is looked at for a hit and hardly ever
// otherwise. It costs sixteen bytes a row, where a map would hold a string for
// each.
type Index struct {
	seed  maphash.Seed
	slots []uint64 // upper half of the hash, then row+1; 0 is free
	mask  uint64
	col   *Column
	also  map[string]int32 // value that differs from an earlier one in case → row
}

// NewIndex indexes the rows of a column that have a value. For a value that
// stands in several rows, Find gives the first; clash, if it is not nil, is
// called for each later one.
func NewIndex(col *Column, clash func(first, row int)) *Index {
	n := 16
	for n < 2*col.Len() {
		n *= 2
	}
	x := &Index{seed: maphash.MakeSeed(), slots: make([]uint64, n), mask: uint64(n - 1), col: col}
	for row := 0; row < col.Len(); row++ {
		key := Fold(col.At(row))
		if key == "" {
			continue
		}
		at, tag, found := x.slot(key)
		if !found {
			x.slots[at] = tag | uint64(row+1)
			continue
		}
		first := x.row(at)
		if x.also == nil {
			x.also = map[string]int32{}
		}
		if value := col.At(row); value != col.At(first) {
			if _, known := x.also[value]; !known {
				x.also[value] = int32(row)
			}
		}
		if clash != nil {
			clash(first, row)
		}
	}
	return x
}

// row is the row that a slot holds.
func (x *Index) row(at uint64) int { return int(uint32(x.slots[at])) - 1 }

// slot finds a key's slot, or the free one where it belongs.
func (x *Index) slot(key string) (at, tag uint64, found bool) {
	hash := maphash.String(x.seed, key)
	at, tag = hash&x.mask, hash&^(1<<32-1)
	for x.slots[at] != 0 {
		if x.slots[at]&^(1<<32-1) == tag && Fold(x.col.At(x.row(at))) == key {
			return at, tag, true
		}
		at = (at + 1) & x.mask
	}
	return at, tag, false
}

// Spelled returns the first row whose value is v to the letter, else what Find
// returns: where values differ in nothing but case, each is found by its own
// spelling.
func (x *Index) Spelled(v string) int {
	if row, ok := x.also[v]; ok {
		return int(row)
	}
	return x.Find(v)
}

// Find returns the first row whose value equals v, case ignored, or -1.
func (x *Index) Find(v string) int {
	key := Fold(v)
	if key == "" {
		return -1
	}
	if at, _, found := x.slot(key); found {
		return x.row(at)
	}
	return -1
}
