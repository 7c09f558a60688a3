package model

import (
	"fmt"
	"slices"
	"strings"

	"pravet/internal/core/day"
	"pravet/internal/core/table"
)

// A Field is an attribute of the organization's own and what it may be.
type Field struct {
	Name     string
	Type     string // text, number, date or boolean
	Values   []string
	Required func(get func(attr string) string) bool // nil where it may be left out
	Pos      Pos
}

// Check says what is wrong with a value, "" where nothing is.
func (f *Field) Check(v string) string {
	if v == "" {
		return ""
	}
	switch f.Type {
	case "number":
		if strings.Trim(v, "0123456789") != "" && !decimal(v) {
			return fmt.Sprintf("%q is no number", v)
		}
	case "date":
		if _, err := day.Parse(v); err != nil {
			return err.Error()
		}
	case "boolean":
		if v != "true" && v != "false" {
			return fmt.Sprintf("%q is neither true nor false", v)
		}
	}
	if len(f.Values) > 0 && !slices.Contains(f.Values, v) {
		if near := table.Nearest(v, f.Values); near != "" {
			return fmt.Sprintf("%q is none of its values; did you mean %s?", v, near)
		}
		return fmt.Sprintf("%q is none of its values: %s", v, strings.Join(f.Values, ", "))
	}
	return ""
}

func decimal(v string) bool {
	whole, part, ok := strings.Cut(strings.TrimPrefix(v, "-"), ".")
	return whole != "" && strings.Trim(whole, "0123456789") == "" &&
		(!ok || part != "" && strings.Trim(part, "0123456789") == "")
}
