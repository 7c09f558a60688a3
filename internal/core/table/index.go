package table

import "hash/maphash"

// An Index finds rows by the folded value of one column: a hash table of row
// numbers without the keys, which stay in the column. It costs eight bytes a
// row and one comparison a hit; where a map would hold a string for each.
type Index struct {
	seed  maphash.Seed
	slots []int32 // row+1, or 0
	mask  uint64
	col   *Column
}

// NewIndex indexes the rows of a column that have a value. For a value that
// stands in several rows, Find gives the first; clash, if it is not nil, is
// called for each later one.
func NewIndex(col *Column, clash func(first, row int)) *Index {
	n := 16
	for n < 2*col.Len() {
		n *= 2
	}
	x := &Index{seed: maphash.MakeSeed(), slots: make([]int32, n), mask: uint64(n - 1), col: col}
	for row := 0; row < col.Len(); row++ {
		key := Fold(col.At(row))
		if key == "" {
			continue
		}
		at, found := x.slot(key)
		if !found {
			x.slots[at] = int32(row + 1)
		} else if clash != nil {
			clash(int(x.slots[at]-1), row)
		}
	}
	return x
}

func (x *Index) slot(key string) (at uint64, found bool) {
	at = maphash.String(x.seed, key) & x.mask
	for x.slots[at] != 0 {
		if Fold(x.col.At(int(x.slots[at]-1))) == key {
			return at, true
		}
		at = (at + 1) & x.mask
	}
	return at, false
}

// Find returns the first row whose value equals v, case ignored, or -1.
func (x *Index) Find(v string) int {
	key := Fold(v)
	if key == "" {
		return -1
	}
	if at, found := x.slot(key); found {
		return int(x.slots[at] - 1)
	}
	return -1
}
