package table

import "sort"

// A Seeker finds rows by the folded value of a column, for values that come in
// much the same order as the rows do: files of the same people mostly have
// them so. It looks first where the steps from value to value have led before,
// and only then further: by halving where the column rises and misses are few,
// else by an Index. It is used by one goroutine at a time.
type Seeker struct {
	col    *Column
	rising bool
	index  func() *Index // made when it is first asked for
	made   *Index
	last   int
	steps  [2]int // the last two that were right, the latest first
	found  int
	missed int
}

// NewSeeker returns a Seeker over a column; rising says that Column.Rising
// holds, and index makes an Index of it.
func NewSeeker(col *Column, rising bool, index func() *Index) *Seeker {
	return &Seeker{col: col, rising: rising, index: index, last: -1, steps: [2]int{1, 1}}
}

// Find returns the first row whose value equals v, case ignored, or -1. It costs
// a comparison where the order is as before; else O(log rows) or O(1).
func (s *Seeker) Find(v string) int {
	key := Fold(v)
	if key == "" {
		return -1
	}
	if s.rising { // each value is there once, so that any row of it is the first
		for n, step := range s.steps {
			if row := s.last + step; row >= 0 && row < s.col.Len() && Fold(s.col.At(row)) == key {
				if n > 0 {
					s.steps[0], s.steps[1] = s.steps[1], s.steps[0]
				}
				s.last, s.found = row, s.found+1
				return row
			}
		}
	}
	row := s.far(key)
	if row >= 0 {
		s.steps[0], s.steps[1] = row-s.last, s.steps[0]
		s.last = row
	}
	return row
}

// far finds a row anywhere. Where one value in eight is not where it was looked
// for, an Index is worth its while.
func (s *Seeker) far(key string) int {
	s.missed++
	if s.made == nil && (!s.rising || s.missed > 1000 && s.missed > s.found/8) {
		s.made = s.index()
	}
	if s.made != nil {
		return s.made.Find(key)
	}
	row := sort.Search(s.col.Len(), func(i int) bool { return Fold(s.col.At(i)) >= key })
	if row < s.col.Len() && Fold(s.col.At(row)) == key {
		return row
	}
	return -1
}
