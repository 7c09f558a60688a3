package model

import (
	"slices"

	"pravet/internal/core/day"
	"pravet/internal/core/filter"
)

// A Kit is a named set of things that one kind of work needs. Whoever its rule
// matches holds it, and so do its holders by name; except takes people out of
// the rule.
type Kit struct {
	Name, Title string
	Pos         Pos
	Everyone    bool
	Linger      day.Duration // how long what it gave stays after its rule has stopped matching
	LingerPos   Pos
	Rank        int // who goes without where seats run out: small ranks come first; 0 is after all
	For         *filter.Filter
	ForPos      Pos
	Gives       []Give
	With        []Name  // kits that come with this one, as written
	Along       []int32 // their numbers, in that order
	All         []int32 // theirs and those of all that come with them, to any depth, sorted
	Holders     []Holder
	Except      []Holder
}

// Resolve gives each kit the numbers of all that come with it, to any depth.
// Names that are no kit are left out; circles end. O(kits · links).
func Resolve(kits []*Kit) {
	number := map[string]int32{}
	for i, k := range kits {
		number[k.Name] = int32(i)
	}
	for _, k := range kits {
		k.Along, k.All = nil, nil
		for _, w := range k.With {
			if n, ok := number[w.Text]; ok {
				k.Along = append(k.Along, n)
			}
		}
	}
	for i, k := range kits {
		seen := map[int32]bool{int32(i): true}
		queue := []int32{int32(i)}
		for len(queue) > 0 {
			for _, n := range kits[queue[0]].Along {
				if !seen[n] {
					seen[n] = true
					queue = append(queue, n)
					k.All = append(k.All, n)
				}
			}
			queue = queue[1:]
		}
		slices.Sort(k.All)
	}
}

// HasRule reports whether a rule decides who holds the kit.
func (k *Kit) HasRule() bool { return k.Everyone || k.For != nil }

// Rule is the rule in words.
func (k *Kit) Rule() string {
	if k.Everyone {
		return "everyone"
	}
	if k.For == nil {
		return "by name only"
	}
	return k.For.String()
}

// A Give is what a kit gives in one application.
type Give struct {
	App    int // number of the application
	Things []int32
	Pos    []Pos // of each thing
	Set    []Setting
}

// A Setting is a value that a kit sets on the account.
type Setting struct {
	Attr, Value string
	Pos         Pos
}

// A Holder holds a kit by name, or is excepted from its rule.
type Holder struct {
	Person  string  // id
	Until   day.Day // the last day it counts, or None
	Over    bool    // a later day than Until has been already, whatever day it is said to be
	Because string
	Pos     Pos
}

// On reports whether the entry counts on a day.
func (h *Holder) On(d day.Day) bool { return !h.Over && (h.Until == day.None || d <= h.Until) }
