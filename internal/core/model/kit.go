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
	For         *filter.Filter
	ForPos      Pos
	Gives       []Give
	Holders     []Holder
	Except      []Holder
}

// HasRule tells whether a rule decides who holds the kit.
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
	Because string
	Pos     Pos
}

// On tells whether the entry counts on a day.
func (h *Holder) On(d day.Day) bool { return h.Until == day.None || d <= h.Until }
