package model

import (
	"pravet/internal/core/day"
)

// A Separation is a set of things that no one person may hold together.
type Separation struct {
	Name  string
	Apart []AppThing
	Pos   Pos
}

// An Exception lets one person hold what a separation keeps apart, until a day.
type Exception struct {
	Separation, Person string
	Until              day.Day
	Because            string
	Pos                Pos
}

// On reports whether the exception counts on a day.
func (x *Exception) On(d day.Day) bool { return x.Until == day.None || d <= x.Until }

// Excepted is the exception by which a person may hold on a day what a separation
// keeps apart, nil where there is none.
func Excepted(all []Exception, separation, person string, d day.Day) *Exception {
	for i := range all {
		if x := &all[i]; x.Separation == separation && x.Person == person && x.On(d) {
			return x
		}
	}
	return nil
}

// Break returns which of the things that are kept apart come with some things
// of an application, and so break the separation where they are two or more.
func (s *Separation) Break(gives func(AppThing) bool) (out []AppThing) {
	for _, x := range s.Apart {
		if gives(x) {
			out = append(out, x)
		}
	}
	return out
}
