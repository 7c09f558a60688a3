package model

import (
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
	Holders     []Holder
	Except      []Holder
	FollowsFor  *filter.Filter // of those, only they hold it; nil for all
	Follows     *Binding       // it is held by those who have something in another application; nil for a kit of the files
}

// Resolve gives each kit the numbers of those that come with it. Names that are no kit are left out. O(kits + links).
func Resolve(kits []*Kit) {
	number := map[string]int32{}
	for i, k := range kits {
		number[k.Name] = int32(i)
	}
	for _, k := range kits {
		k.Along = nil
		for _, w := range k.With {
			if n, ok := number[w.Text]; ok {
				k.Along = append(k.Along, n)
			}
		}
	}
}

// Upwards lists the kits with which each kit comes.
func Upwards(kits []*Kit) [][]int32 {
	out := make([][]int32, len(kits))
	for i, k := range kits {
		for _, n := range k.Along {
			out[n] = append(out[n], int32(i))
		}
	}
	return out
}

// InOrder is the numbers of kits, each after all that come with it, as far as no circle is in the way. O(kits + links).
func InOrder(kits []*Kit) []int32 {
	out := make([]int32, 0, len(kits))
	state := make([]int8, len(kits)) // 1: on the way, 2: done
	type step struct {
		kit int32
		at  int
	}
	for i := range kits {
		if state[i] != 0 {
			continue
		}
		state[i] = 1
		for stack := []step{{int32(i), 0}}; len(stack) > 0; {
			top := &stack[len(stack)-1]
			along := kits[top.kit].Along
			if top.at == len(along) {
				state[top.kit] = 2
				out = append(out, top.kit)
				stack = stack[:len(stack)-1]
				continue
			}
			n := along[top.at]
			top.at++
			if state[n] == 0 {
				state[n] = 1
				stack = append(stack, step{n, 0})
			}
		}
	}
	return out
}

// HasRule reports whether a rule decides who holds the kit.
func (k *Kit) HasRule() bool { return k.Everyone || k.For != nil }

// Rule is the rule in words.
func (k *Kit) Rule() string {
	if k.Everyone {
		return "everyone"
	}
	if k.Follows != nil {
		rule := "whoever has " + k.Follows.String()
		if k.FollowsFor != nil {
			rule += ", of " + k.FollowsFor.String()
		}
		return rule
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
