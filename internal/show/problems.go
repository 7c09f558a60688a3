package show

import (
	"fmt"
	"io"
	"net/url"
	"slices"

	"pravet/internal/core/model"
	"pravet/internal/core/words"
	"pravet/internal/desired"
	"pravet/internal/source"
)

// Problems writes problems, one a line with its place, and below it what to do.
func (p *Printer) Problems(problems []*source.Problem) {
	for _, x := range problems {
		word := Alarm("error")
		if x.Severity == source.Warning {
			word = widens.Render("warning")
		}
		p.Linef("%s  %s: %s", Strong(words.Clean(x.Pos.String())), word, words.Clean(x.Says))
		if x.Hint != "" {
			p.wrapped("    ", words.Clean(x.Hint), Dim)
		}
	}
	if len(problems) > 0 {
		p.Line()
	}
}

// A problemItem is a problem in JSON.
type problemItem struct {
	File     string `json:"file"`
	Line     int    `json:"line"`
	Column   int    `json:"column"`
	Severity string `json:"severity"`
	Rule     string `json:"rule"`
	Says     string `json:"says"`
	Hint     string `json:"hint"`
}

// Report is what check found, for JSON.
func Report(problems []*source.Problem, matches []desired.Match) any {
	items := []problemItem{}
	for _, x := range problems {
		items = append(
			items,
			problemItem{x.Pos.File, x.Pos.Line, x.Pos.Column, string(x.Severity), x.Rule, x.Says, x.Hint},
		)
	}
	if matches == nil {
		matches = []desired.Match{}
	}
	return map[string]any{"problems": items, "rules": matches}
}

// ProblemTable is problems as a table.
func ProblemTable(problems []*source.Problem) *Table {
	columns := both("file", "line", "column", "severity", "rule", "says", "hint")
	return tableOf(problems, columns, func(p **source.Problem) []any {
		x := *p
		return []any{x.Pos.File, x.Pos.Line, x.Pos.Column, string(x.Severity), x.Rule, x.Says, x.Hint}
	})
}

// MatchTable is the rules with how many people each matches.
func MatchTable(matches []desired.Match) *Table {
	return tableOf(matches, []Column{{Title: "people", Number: true}, {Title: "kit"}, {Title: "rule"}}, func(m *desired.Match) []any {
		return []any{m.People, m.Kit, m.Rule}
	})
}

// maxCaught is how many values of a catch are shown.
const maxCaught = 12

// Rules writes each rule with its place, and whom its comparisons by co catch.
func (p *Printer) Rules(matches []desired.Match) {
	for i, m := range matches {
		if i > 0 {
			p.Line()
		}
		p.Line(Strong("kit "+words.Clean(m.Kit)) + "  " + Dim(fmt.Sprintf("%s:%d", words.Clean(m.File), m.Line)))
		p.wrapped("  ", words.Clean(m.Rule), nil)
		p.Linef("  matches %s", model.Count(m.People, "person", "people"))
		for _, c := range m.Catches {
			if c.People == 0 {
				p.wrapped("    ", words.Clean(c.Clause)+" alone catches nobody", Dim)
				continue
			}
			p.wrapped(
				"    ",
				words.Clean(c.Clause)+" alone catches "+model.Count(c.People, "person", "people")+":",
				nil,
			)
			for n, v := range c.Values {
				if n == maxCaught {
					p.Linef("      and %s more", model.Count(len(c.Values)-n, "value", "values"))
					break
				}
				line := fmt.Sprintf("      %6s  %s", model.Thousands(v.People), words.Clean(v.Value))
				if v.Within {
					line += "  " + Alarm("inside a longer word")
				}
				p.Line(line)
			}
		}
	}
	p.Line()
}

// The parts of SARIF 2.1.0 (OASIS Standard, 27 March 2020) that problems need.
type (
	sarifLog struct {
		Schema  string     `json:"$schema"`
		Version string     `json:"version"`
		Runs    []sarifRun `json:"runs"`
	}
	sarifRun struct {
		Tool     sarifTool     `json:"tool"`
		Columns  string        `json:"columnKind"`
		Language string        `json:"language"`
		Newlines []string      `json:"newlineSequences"`
		Results  []sarifResult `json:"results"`
	}
	sarifTool struct {
		Driver sarifDriver `json:"driver"`
	}
	sarifDriver struct {
		Name     string      `json:"name"`
		Version  string      `json:"version,omitempty"`
		Language string      `json:"language"`
		Rules    []sarifRule `json:"rules"`
	}
	sarifRule struct {
		ID string `json:"id"`
	}
	sarifResult struct {
		RuleID    string          `json:"ruleId"`
		RuleIndex int             `json:"ruleIndex"`
		Level     string          `json:"level"`
		Message   sarifText       `json:"message"`
		Locations []sarifLocation `json:"locations"`
	}
	sarifText struct {
		Text string `json:"text"`
	}
	sarifLocation struct {
		Physical sarifPhysical `json:"physicalLocation"`
	}
	sarifPhysical struct {
		Artifact sarifArtifact `json:"artifactLocation"`
		Region   *sarifRegion  `json:"region,omitempty"`
	}
	sarifArtifact struct {
		URI string `json:"uri"`
	}
	sarifRegion struct {
		StartLine   int `json:"startLine"`
		StartColumn int `json:"startColumn,omitempty"`
	}
)

// SARIF writes problems as SARIF 2.1.0, for code review to show on the line.
func SARIF(w io.Writer, problems []*source.Problem, version string) error {
	run := sarifRun{
		Tool:     sarifTool{sarifDriver{Name: "pravet", Version: version, Language: "en", Rules: []sarifRule{}}},
		Columns:  "unicodeCodePoints",
		Language: "en",
		Newlines: []string{"\r\n", "\n"},
		Results:  []sarifResult{},
	}
	var rules []string
	for _, x := range problems {
		at := slices.Index(rules, x.Rule)
		if at < 0 {
			at = len(rules)
			rules = append(rules, x.Rule)
			run.Tool.Driver.Rules = append(run.Tool.Driver.Rules, sarifRule{x.Rule})
		}
		text := x.Says
		if x.Hint != "" {
			text += "; " + x.Hint
		}
		r := sarifResult{RuleID: x.Rule, RuleIndex: at, Level: string(x.Severity), Message: sarifText{text}}
		physical := sarifPhysical{Artifact: sarifArtifact{uri(x.Pos.File)}}
		if x.Pos.Line > 0 {
			physical.Region = &sarifRegion{x.Pos.Line, x.Pos.Column}
		}
		r.Locations = []sarifLocation{{physical}}
		run.Results = append(run.Results, r)
	}
	return PrintJSON(w, sarifLog{
		"https://docs.oasis-open.org/sarif/sarif/v2.1.0/os/schemas/sarif-schema-2.1.0.json",
		"2.1.0",
		[]sarifRun{run},
	})
}

// uri writes a file's name as a relative URI reference (RFC 3986).
func uri(file string) string { return (&url.URL{Path: file}).EscapedPath() }
