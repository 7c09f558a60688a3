// Package source reads files for everything that reads files: it checks the
// encoding, bounds what one record may hold, computes the digest in the same
// pass, and speaks of what is wrong as Problems with a place and a remedy.
package source

import (
	"cmp"
	"maps"
	"slices"

	"pravet/internal/core/model"
)

// Severity reports whether a problem stops the work.
type Severity string

// The severities.
const (
	Error   Severity = "error"
	Warning Severity = "warning"
)

// A Problem is something wrong at a place of a file. It is an error.
type Problem struct {
	Pos      model.Pos
	Severity Severity
	Rule     string // a short name of the kind of problem, such as unknown-key
	Says     string
	Hint     string // what to do
}

func (p *Problem) Error() string {
	s := p.Says
	if p.Pos.File != "" {
		s = p.Pos.String() + ": " + s
	}
	if p.Hint != "" {
		s += "; " + p.Hint
	}
	return s
}

// NewProblem is an error of a rule at a place.
func NewProblem(pos model.Pos, rule, says, hint string) *Problem {
	return &Problem{Pos: pos, Severity: Error, Rule: rule, Says: says, Hint: hint}
}

// MaxPerFile is how many problems of one file are kept; the rest is counted.
const MaxPerFile = 200

// Problems gathers problems.
type Problems struct {
	list    []*Problem
	perFile map[string]int
	skipped int
}

// Add adds a problem.
func (p *Problems) Add(problem *Problem) {
	if p.perFile == nil {
		p.perFile = map[string]int{}
	}
	p.perFile[problem.Pos.File]++
	if p.perFile[problem.Pos.File] <= MaxPerFile {
		p.list = append(p.list, problem)
	}
}

// Copy is the same problems, to which others can be added.
func (p *Problems) Copy() *Problems {
	return &Problems{list: slices.Clone(p.list), perFile: maps.Clone(p.perFile), skipped: p.skipped}
}

// Skip counts a problem of a file that is not kept.
func (p *Problems) Skip(file string) {
	if p.perFile == nil {
		p.perFile = map[string]int{}
	}
	p.perFile[file]++
	p.skipped++
}

// Errors counts the problems that are errors, of the kept ones.
func (p *Problems) Errors() int {
	n := 0
	for _, x := range p.list {
		if x.Severity == Error {
			n++
		}
	}
	return n
}

// Sorted returns the problems by place; a file with more than are kept ends
// with one that counts the rest.
func (p *Problems) Sorted() []*Problem {
	out := slices.Clone(p.list)
	for file, n := range p.perFile {
		if n > MaxPerFile {
			out = append(
				out,
				&Problem{Pos: model.Pos{File: file, Line: 1 << 30}, Severity: Error, Rule: "more-problems",
					Says: model.Count(
						n-MaxPerFile,
						"more problem",
						"more problems",
					) + " in this file", Hint: "fix the ones above first"},
			)
		}
	}
	slices.SortStableFunc(out, func(x, y *Problem) int {
		return cmp.Or(cmp.Compare(x.Pos.File, y.Pos.File), cmp.Compare(x.Pos.Line, y.Pos.Line),
			cmp.Compare(x.Pos.Column, y.Pos.Column), cmp.Compare(x.Rule, y.Rule), cmp.Compare(x.Says, y.Says))
	})
	for _, x := range out {
		if x.Pos.Line == 1<<30 {
			x.Pos.Line = 0
		}
	}
	return out
}
