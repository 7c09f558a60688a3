package amend

import (
	"fmt"
	"path/filepath"
	"strings"

	"pravet/internal/core/model"
	"pravet/internal/desired"
	"pravet/internal/edit"
)

// AddSource keeps where people come from under a name in pravet.yaml.
func (a *Amendment) AddSource(name string, s *desired.Source) error {
	if a.repo.Source(name) != nil {
		return fmt.Errorf("there is a source %s in %s already; choose another name", name, desired.Root)
	}
	if filepath.IsAbs(s.File) || !filepath.IsLocal(filepath.FromSlash(s.File)) {
		return fmt.Errorf(
			"%s is outside the repository; put the file below it, for example into intake/, so that others find it",
			s.File,
		)
	}
	y, err := a.yaml(desired.Root)
	if err != nil {
		return err
	}
	lines := []string{name + ":", "  file: " + edit.Scalar(filepath.ToSlash(s.File)), "  into: " + edit.Scalar(s.Into)}
	add := func(key, value string) {
		if value != "" {
			lines = append(lines, "  "+key+": "+edit.Scalar(value))
		}
	}
	add("format", s.Format)
	add("encoding", s.Encoding)
	if s.Delimiter != 0 {
		add("delimiter", string(s.Delimiter))
	}
	add("date", desired.SpellDate(s.Date))
	add("number", s.Number)
	lines = append(lines, "  columns:")
	for _, c := range s.Columns {
		written := edit.Scalar(c.Column)
		if c.Rule != nil {
			written = ruleText(c.Rule)
		}
		lines = append(lines, "    "+c.Attr+": "+written)
	}
	return y.AddEntry("sources", lines)
}

// ruleText writes a rule in one line.
func ruleText(r *model.Rule) string {
	var parts []string
	switch {
	case len(r.From) == 0:
		parts = append(parts, "constant: "+edit.Inline(r.Constant))
	case len(r.From) == 1 && r.With == "":
		parts = append(parts, "from: "+edit.Inline(r.From[0]))
	default:
		parts = append(parts, "join: ["+strings.Join(inline(r.From), ", ")+"]", "with: "+edit.Quoted(r.With))
	}
	if r.Map != nil {
		var pairs []string
		for _, p := range r.Map {
			pairs = append(pairs, edit.Inline(p.Value)+": "+edit.Inline(p.Becomes))
		}
		parts = append(parts, "map: {"+strings.Join(pairs, ", ")+"}")
	}
	if r.HasElse {
		parts = append(parts, "else: "+edit.Inline(r.Else))
	}
	switch r.Case {
	case model.Lower:
		parts = append(parts, "case: lower")
	case model.Upper:
		parts = append(parts, "case: upper")
	}
	if r.Plain {
		parts = append(parts, "plain: true")
	}
	return "{" + strings.Join(parts, ", ") + "}"
}
